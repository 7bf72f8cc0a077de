import { useRef } from 'react';
import { useDropzone } from 'react-dropzone';
import { collect, type Collected } from '../../collect';

/** Where files from the desktop can be dropped, with whole folders. */
export function useDropped(bringIn: (files: Collected[]) => void) {
  const collected = useRef<Collected[]>([]);
  return useDropzone({
    noClick: true,
    noKeyboard: true,
    getFilesFromEvent: async (event) => {
      if (Array.isArray(event)) return [];
      // While something is only held over the page there is nothing to read yet.
      if ('type' in event && event.type !== 'drop' && event.type !== 'change')
        return [...((event as React.DragEvent).dataTransfer?.items ?? [])];
      const native = ('nativeEvent' in event ? event.nativeEvent : event) as Event;
      collected.current = await collect(native);
      return collected.current.map((c) => c.file);
    },
    onDrop: () => bringIn(collected.current.splice(0)),
  });
}
