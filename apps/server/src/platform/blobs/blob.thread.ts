import { execFileSync } from 'node:child_process';
import { createHash, randomUUID, type Hash } from 'node:crypto';
import { closeSync, mkdirSync, openSync, renameSync, rmSync, statSync, writeSync } from 'node:fs';
import { join } from 'node:path';
import { parentPort } from 'node:worker_threads';
import { crc32 } from 'node:zlib';
import type { SmallFile } from './blob-threads.js';

// Runs in a thread of its own (blob-threads.ts): hashing takes longer than everything else about an upload, and file after
// file is written several times as fast by calls that wait as by the event loop.

interface State {
  hash: Hash;
  crc: number;
}
const states = new Map<number, State>();

function stateOf(id: number): State {
  let state = states.get(id);
  if (!state) states.set(id, (state = { hash: createHash('sha256'), crc: 0 }));
  return state;
}

function take(id: number, piece: Uint8Array): void {
  const state = stateOf(id);
  state.hash.update(piece);
  state.crc = crc32(piece, state.crc);
}

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
  pour: ({ state, fd, piece, position }: { state: number; fd: number; piece: Uint8Array; position: number }) => {
    writeAll(fd, piece, position);
    take(state, piece);
  },
  take: ({ state, piece }: { state: number; piece: Uint8Array }) => take(state, piece),
  digest: ({ state }: { state: number }) => {
    const { hash, crc } = stateOf(state);
    states.delete(state);
    return { sha256: hash.digest(), crc32: crc };
  },
  drop: ({ state }: { state: number }) => void states.delete(state),
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
