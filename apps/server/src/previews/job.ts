export interface PreviewJob {
  id: number;
  kind: 'image' | 'pages';
  /** For pages: which one, from 1; the first also makes the thumbnail. */
  page: number;
}

/**
 * What was made, with the pictures by name (their sizes here, their bytes one after the other behind it), or why not.
 */
export type PreviewDone =
  | { id: number; pages: number | null; width: number | null; height: number | null; pictures: Record<string, number> }
  | { id: number; failed: string };

/** A picture is made of files up to this size; they are held in memory while it is made. */
export const MOST_PICTURED_BYTES = 512 * 1024 * 1024;
/** More than any set of pictures takes. */
export const MOST_PICTURES_BYTES = 64 * 1024 * 1024;
