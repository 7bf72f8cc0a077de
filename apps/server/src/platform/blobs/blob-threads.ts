import { availableParallelism } from 'node:os';
import { Thread } from '../thread.js';

const SCRIPT = 'platform/blobs/blob.thread.js';
/** More than the disk takes are of no use. */
const MOST_THREADS = 4;

export interface Digest {
  /** 32 bytes. */
  sha256: Buffer;
  crc32: number;
}

/** Bytes at hand that are to be kept under a name. */
export interface SmallFile {
  folder: string;
  path: string;
  bytes: Uint8Array;
  /** What lies under the name cannot be trusted. */
  overwrite: boolean;
}

const threads = Array.from({ length: Math.min(MOST_THREADS, availableParallelism()) }, () => new Thread(SCRIPT));

/** The one with the least to do; of those, another one each time. */
function nextThread(): Thread {
  threads.push(threads.shift() as Thread);
  return threads.reduce((least, thread) => (thread.asked < least.asked ? thread : least));
}

const digestFrom = ({ sha256, crc32 }: { sha256: Uint8Array; crc32: number }): Digest => ({
  sha256: Buffer.from(sha256),
  crc32,
});

/** The hashes of each of many small pieces. They must lie in shared memory, or they are copied. */
export async function hashEach(pieces: readonly Uint8Array[]): Promise<Digest[]> {
  const found = await nextThread().ask<{ sha256: Uint8Array; crc32: number }[]>('hashEach', { pieces });
  return found.map(digestFrom);
}

/** Keeps small files under their names, below a root, all of them safe on the disk when this resolves. */
export function writeEach(root: string, files: readonly SmallFile[]): Promise<void> {
  return nextThread().ask('writeEach', { root, files });
}

/** Everything that was written to the file system of a folder is on the disk when this resolves. */
export function flushFileSystem(path: string): Promise<void> {
  return nextThread().ask('flush', { path });
}
