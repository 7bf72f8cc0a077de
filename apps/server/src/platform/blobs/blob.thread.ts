import { execFileSync } from 'node:child_process';
import { createHash, randomUUID } from 'node:crypto';
import { closeSync, mkdirSync, openSync, renameSync, rmSync, statSync, writeSync } from 'node:fs';
import { join } from 'node:path';
import { parentPort } from 'node:worker_threads';
import { crc32 } from 'node:zlib';
import type { SmallFile } from './blob-threads.js';

// Runs in a thread of its own (blob-threads.ts): file after file is hashed and written several times as fast by calls
// that wait as by the event loop. A single large stream is hashed where it comes in: measured here, handing it over
// cost more than it won (docs/benchmarks.md).

function writeAll(fd: number, piece: Uint8Array, position: number): void {
  for (let done = 0; done < piece.length;) done += writeSync(fd, piece, done, piece.length - done, position + done);
}

function giveName(temporary: string, folder: string, path: string): void {
  try {
    renameSync(temporary, path);
  } catch (error) {
    // Most folders are there already.
    if ((error as NodeJS.ErrnoException).code !== 'ENOENT') throw error;
    mkdirSync(folder, { recursive: true, mode: 0o700 });
    renameSync(temporary, path);
  }
}

/** Written under another name first, so that the name never stands for half of the bytes. */
function writeNamed(root: string, { folder, path, bytes }: SmallFile): void {
  const temporary = join(root, 'tmp', randomUUID());
  try {
    const fd = openSync(temporary, 'wx', 0o600);
    try {
      writeAll(fd, bytes, 0);
    } finally {
      closeSync(fd);
    }
    giveName(temporary, folder, path);
  } catch (error) {
    rmSync(temporary, { force: true });
    throw error;
  }
}

/** All of a file system, by coreutils' sync -f. */
const flush = (path: string): void => void execFileSync('sync', ['-f', path]);

const isThere = ({ path, bytes }: SmallFile): boolean =>
  statSync(path, { throwIfNoEntry: false })?.size === bytes.length;

const acts = {
  hashEach: ({ pieces }: { pieces: Uint8Array[] }) =>
    pieces.map((piece) => ({ sha256: createHash('sha256').update(piece).digest(), crc32: crc32(piece) })),
  /** The names are flushed with the bytes, or a crash could forget them. */
  writeEach: ({ root, files }: { root: string; files: SmallFile[] }) => {
    let written = 0;
    for (const file of files) {
      // A blob that is there already is the same bytes: it stays, whoever wrote it first.
      if (!file.overwrite && isThere(file)) continue;
      writeNamed(root, file);
      written += 1;
    }
    if (written > 0) flush(root);
  },
  flush: ({ path }: { path: string }) => flush(path),
};

parentPort?.on('message', ({ id, act, given }: { id: number; act: keyof typeof acts; given: never }) => {
  try {
    const answer: unknown = acts[act](given);
    if (id) parentPort?.postMessage({ id, answer });
  } catch (error) {
    const { message, code } = error as NodeJS.ErrnoException;
    if (id) parentPort?.postMessage({ id, error: { message, code } });
  }
});
