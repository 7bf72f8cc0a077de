import type { NodeItem } from '@quay/contract';

export function iconOf(item: Pick<NodeItem, 'kind' | 'mediaType'>): string {
  if (item.kind === 'folder') return 'bi-folder';
  const type = item.mediaType ?? '';
  if (/^image\/vnd\.(dxf|dwg)$/.test(type)) return 'bi-rulers';
  if (type.startsWith('image/')) return 'bi-file-earmark-image';
  if (type.startsWith('video/')) return 'bi-file-earmark-play';
  if (type.startsWith('audio/')) return 'bi-file-earmark-music';
  if (type === 'application/pdf') return 'bi-file-earmark-pdf';
  if (type === 'text/csv') return 'bi-file-earmark-spreadsheet';
  if (type.startsWith('text/')) return 'bi-file-earmark-text';
  if (type === 'application/zip') return 'bi-file-earmark-zip';
  return 'bi-file-earmark';
}
