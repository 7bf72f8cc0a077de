import type { MarkKind } from '@quay/core';

/** What is asked of the program that makes pictures; the bytes come behind it. */
export type PreviewJob = { id: number } & PreviewWork;
export type PreviewWork =
  | { kind: 'image' }
  /** One page, from 1; the first also makes the thumbnail. */
  | { kind: 'pages'; page: number }
  /** A page of text with these lines; no bytes come behind it. Its picture is called "copy". */
  | { kind: 'text'; lines: string[] }
  /** A copy with these lines laid over it. */
  | { kind: 'mark'; of: MarkKind; lines: string[] };

/**
 * What was made, with the pictures by name (their sizes here, their bytes one after the other behind it), or why not. A
 * marked copy is one picture of the name "copy".
 */
export type PreviewDone =
  | { id: number; pages: number | null; width: number | null; height: number | null; pictures: Record<string, number> }
  | { id: number; failed: string };

/** A picture is made of files up to this size; they are held in memory while it is made. */
export const MOST_PICTURED_BYTES = 512 * 1024 * 1024;
/** More than any set of pictures takes, and than any marked copy. */
export const MOST_PICTURES_BYTES = 512 * 1024 * 1024;
