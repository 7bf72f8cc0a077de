import { BATCH_BYTES, BATCH_FILE_BYTES, BATCH_FILES } from '@quay/contract';

/** What planning needs to know of a file. */
export interface Planned {
  id: number;
  folderId: string;
  conflict: string;
  sizeBytes: number;
  /** Its upload has begun: it goes on by itself, never in a batch. */
  begun: boolean;
}

/**
 * The next pieces of work, in the order of the list: large files one by one, small ones that go to the same folder in
 * batches that stay within the server's limits.
 * @param atMost pieces that may begin now
 */
export function nextPieces<T extends Planned>(waiting: readonly T[], atMost: number): T[][] {
  const pieces: T[][] = [];
  const taken = new Set<number>();
  for (const first of waiting) {
    if (pieces.length >= atMost) return pieces;
    if (taken.has(first.id)) continue;
    taken.add(first.id);
    const piece = [first];
    pieces.push(piece);
    if (!isSmall(first)) continue;
    let bytes = first.sizeBytes;
    for (const next of waiting) {
      if (piece.length >= BATCH_FILES || bytes >= BATCH_BYTES) break;
      if (
        taken.has(next.id) ||
        !isSmall(next) ||
        next.folderId !== first.folderId ||
        next.conflict !== first.conflict ||
        bytes + next.sizeBytes > BATCH_BYTES
      )
        continue;
      taken.add(next.id);
      piece.push(next);
      bytes += next.sizeBytes;
    }
  }
  return pieces;
}

export function isSmall(file: Planned): boolean {
  return !file.begun && file.sizeBytes <= BATCH_FILE_BYTES;
}

/** Bytes a second over the last seconds, from samples of the total; 0 with fewer than two. */
export function rateOf(samples: readonly { at: number; bytes: number }[]): number {
  const [first, last] = [samples[0], samples.at(-1)];
  return first && last && last.at > first.at ? ((last.bytes - first.bytes) / (last.at - first.at)) * 1000 : 0;
}

/** "40 s", "3 min", "2 h 10 min": how long is left, rounded for people. */
export function durationWords(seconds: number): string {
  if (seconds < 90) return `${Math.max(1, Math.round(seconds))} s`;
  const minutes = Math.round(seconds / 60);
  return minutes < 90 ? `${minutes} min` : `${Math.floor(minutes / 60)} h ${minutes % 60} min`;
}
