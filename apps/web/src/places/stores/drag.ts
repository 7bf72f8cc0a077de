import type { NodeItem } from '@quay/contract';
import { useState, type DragEvent } from 'react';

const TYPE = 'application/x-quay-nodes';

export interface Dragged {
  items: { id: string; name: string; kind: 'folder' | 'file'; sizeBytes: number }[];
  fromFolderId: string;
}

/** Puts items into a drag: for folders of the page, and as a download for the desktop where the browser allows it. */
export function beginDrag(event: DragEvent, items: NodeItem[], fromFolderId: string): void {
  const dragged: Dragged = {
    items: items.map(({ id, name, kind, sizeBytes }) => ({ id, name, kind, sizeBytes })),
    fromFolderId,
  };
  event.dataTransfer.setData(TYPE, JSON.stringify(dragged));
  event.dataTransfer.effectAllowed = 'copyMove';
  const [first] = items;
  if (!first) return;
  const single = items.length === 1 && first.kind === 'file';
  const name = (
    single ? first.name : items.length === 1 ? `${first.name}.zip` : `${items.length} items.zip`
  ).replaceAll(':', '_');
  event.dataTransfer.setData(
    'DownloadURL',
    `${single ? (first.mediaType ?? 'application/octet-stream') : 'application/zip'}:${name}:${location.origin}${downloadPath(items)}`,
  );
}

export function isOurs(event: DragEvent): boolean {
  return event.dataTransfer.types.includes(TYPE);
}

export function draggedOf(event: DragEvent): Dragged | null {
  const text = event.dataTransfer.getData(TYPE);
  return text ? (JSON.parse(text) as Dragged) : null;
}

/** One file as it is; several, or a folder, as one archive. */
export function downloadPath(items: { id: string; kind: 'folder' | 'file' }[]): string {
  const [first] = items;
  return items.length === 1 && first?.kind === 'file'
    ? `/api/files/${first.id}/content`
    : `/api/archive?${items.map((i) => `ids=${i.id}`).join('&')}`;
}

/** A place that items can be dropped on: moves them, or copies with Ctrl. */
export function useDropTarget(accept: (dragged: Dragged, copy: boolean) => void) {
  const [over, setOver] = useState(false);
  return {
    over,
    props: {
      onDragOver: (event: DragEvent) => {
        if (!isOurs(event)) return;
        event.preventDefault();
        event.stopPropagation();
        event.dataTransfer.dropEffect = event.ctrlKey ? 'copy' : 'move';
        setOver(true);
      },
      onDragLeave: () => setOver(false),
      onDrop: (event: DragEvent) => {
        if (!isOurs(event)) return;
        event.preventDefault();
        event.stopPropagation();
        setOver(false);
        const dragged = draggedOf(event);
        if (dragged) accept(dragged, event.ctrlKey);
      },
    },
  };
}

/** The browser shows the progress of a download: the size is announced. */
export function download(items: { id: string; kind: 'folder' | 'file' }[]): void {
  const link = document.createElement('a');
  link.href = downloadPath(items);
  link.download = '';
  link.click();
}
