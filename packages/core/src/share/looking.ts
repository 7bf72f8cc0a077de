import { previewKind } from '../preview/preview.js';
import type { ShareLevel } from './may.js';
import { marksPictures, type Handing, type Watermark } from './watermark.js';

/**
 * Whether a text is shown as pictures of its pages, with the marks of a visit: to whoever may look at it and is not
 * given it. Where nothing is marked it is not shown at all: its text is the file.
 */
export function showsTextAsPages(
  name: string,
  handing: Handing,
  may: { level: ShareLevel; watermark: Watermark },
): boolean {
  const kind = previewKind(name);
  return (kind === 'text' || kind === 'table') && handing !== 'plain' && marksPictures(may);
}
