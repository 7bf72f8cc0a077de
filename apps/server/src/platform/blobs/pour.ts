import { createHash, type Hash } from 'node:crypto';
import type { FileHandle } from 'node:fs/promises';
import type { Readable } from 'node:stream';
import { crc32 } from 'node:zlib';

/** Writes that may be under way before the stream is made to wait. */
const WRITES_AHEAD = 8;

/** Both hashes of the bytes so far, and how many there were. */
export interface Pouring {
  hash: Hash;
  crc: number;
  position: number;
}

export const freshPouring = (): Pouring => ({ hash: createHash('sha256'), crc: 0, position: 0 });

/** Takes bytes into the hashes without writing them. */
export function take(state: Pouring, piece: Uint8Array): void {
  state.hash.update(piece);
  state.crc = crc32(piece, state.crc);
  state.position += piece.length;
}

/**
 * Writes a stream to a file from `state.position` on, hashing on the way; at most {@link WRITES_AHEAD} pieces are held in
 * memory. Resolves when all that came has been written: `whole` tells whether the stream ended by itself or broke off.
 * @param limit bytes beyond which nothing is taken: `over` tells that there would have been more
 * @param each called after each write with the length that is written without a gap
 * @throws the file's errors
 */
export function pour(
  stream: Readable,
  file: FileHandle,
  state: Pouring,
  limit: number | null = null,
  each?: (written: number) => void,
): Promise<{ whole: boolean; over: boolean }> {
  const writing = new Set<number>();
  let ended: boolean | null = null;
  let over = false;
  let failed = false;
  return new Promise((resolve, reject) => {
    const fail = (error: unknown) => {
      if (failed) return;
      failed = true;
      stream.pause();
      reject(error as Error);
    };
    const finish = () => {
      if (!failed && ended !== null && writing.size === 0) resolve({ whole: ended, over });
    };
    const end = (whole: boolean) => {
      ended ??= whole;
      finish();
    };
    stream.on('data', (piece: Buffer) => {
      if (failed || ended !== null) return;
      if (limit !== null && state.position + piece.length > limit) {
        over = true;
        stream.pause();
        end(false);
        return;
      }
      const position = state.position;
      writing.add(position);
      if (writing.size >= WRITES_AHEAD) stream.pause();
      writeFully(file, piece, position).then(() => {
        writing.delete(position);
        if (writing.size < WRITES_AHEAD && ended === null && !failed) stream.resume();
        each?.(writing.size === 0 ? state.position : Math.min(...writing));
        finish();
      }, fail);
      take(state, piece);
    });
    stream.on('end', () => end(true));
    stream.on('error', () => end(false));
    stream.on('close', () => end(false));
  });
}

async function writeFully(file: FileHandle, piece: Buffer, position: number): Promise<void> {
  for (let done = 0; done < piece.length;)
    done += (await file.write(piece, done, piece.length - done, position + done)).bytesWritten;
}
