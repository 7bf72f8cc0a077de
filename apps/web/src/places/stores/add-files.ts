import { useRef } from 'react';
import { useDropzone } from 'react-dropzone';
import { useNotices } from '../../ui/notices';
import { collect, type Collected } from '../../ui/transfers/collect';
import { addFiles } from '../../ui/transfers/store';

/** Files from the desktop: dropped, chosen, or a whole folder. */
export function useAddFiles(folderId: string, allowed: boolean) {
  const collected = useRef<Collected[]>([]);
  const bringIn = (files: Collected[]) => {
    if (!allowed) useNotices.getState().show('You may not add files here.', { bad: true });
    else if (files.length > 0) void addFiles(folderId, files);
  };
  const zone = useDropzone({
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
  return { ...zone, bringIn };
}
