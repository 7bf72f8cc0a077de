import { randomUUID } from 'node:crypto';
import { mkdirSync } from 'node:fs';
import { link, mkdir, open, readdir, rename, stat, statfs, unlink, type FileHandle } from 'node:fs/promises';
import { join } from 'node:path';
import type { Readable } from 'node:stream';
import { Problem } from '../problems/problem.js';
import { PACE, type Pace } from '../pace.js';
import type { BlobStore, OpenBlob, StagedBlob, StageHow, StoredBlob, Stretch } from './blob-store.js';
import { flushFileSystem, hashEach, writeEach, type SmallFile } from './blob-threads.js';
import { DiskParts } from './disk-parts.js';
import { flusher } from './flusher.js';
import { Gatherer, type Gathered } from './gatherer.js';
import { OpenFiles } from './open-files.js';
import { freshPouring, pour } from './pour.js';

/** From here on one flush of the file system is quicker than one for each folder. */
const FLUSH_TOGETHER_FROM = 6;
/** Temporary files older than this were left by a crash: no upload sends nothing for a day. */
const ABANDONED_MS = 24 * 3600 * 1000;

/** Blobs as files: `ab/cd/<sha256>` below the root, temporary files in `tmp` on the same volume. */
export class DiskBlobStore implements BlobStore {
  private readonly gatherer = new Gatherer();
  private readonly openFiles = new OpenFiles();

  readonly parts: DiskParts;

  constructor(
    private readonly root: string,
    private readonly pace: Pace = PACE,
  ) {
    const temporary = join(root, 'tmp');
    mkdirSync(temporary, { recursive: true, mode: 0o700 });
    this.parts = new DiskParts(temporary, pace);
  }

  async put(stream: Readable, expectedBytes: number | null): Promise<StoredBlob> {
    const blob = await this.stage(stream, expectedBytes);
    try {
      await this.adopt([{ blob, overwrite: false }]);
    } finally {
      await blob.discard();
    }
    return { sha256: blob.sha256, sizeBytes: blob.sizeBytes, crc32: blob.crc32 };
  }

  async stage(
    stream: Readable,
    expectedBytes: number | null,
    { flush = true, ask }: StageHow = {},
  ): Promise<StagedBlob> {
    const path = join(this.root, 'tmp', randomUUID());
    const file = await open(path, 'wx', 0o600);
    const discard = () => unlink(path).catch(() => undefined);
    try {
      const state = freshPouring();
      const flushing = flush ? flusher(file, 0) : null;
      const terms = { each: flushing?.look, ask, pace: this.pace };
      const { whole, slow } = await pour(stream, file, state, terms).finally(() => flushing?.settled());
      if (slow) throw tooSlow();
      if (!whole || (expectedBytes !== null && state.position !== expectedBytes))
        throw new Problem(
          'invalid',
          'upload.cut',
          'The upload ended before all of it had arrived. Nothing was kept; send it again.',
        );
      if (flush) await file.sync();
      await file.close();
      const digest = { sha256: state.hash.digest(), crc32: state.crc };
      return { ...digest, sizeBytes: state.position, held: path, flushed: flush, discard };
    } catch (error) {
      await file.close().catch(() => undefined);
      await discard();
      throw error;
    }
  }

  async stageEach(pieces: readonly Uint8Array[]): Promise<StagedBlob[]> {
    const held = shared(pieces);
    const digests = await hashEach(held);
    const discard = () => Promise.resolve();
    return digests.map((digest, i) => {
      const bytes = held[i] as Uint8Array;
      return { ...digest, sizeBytes: bytes.length, held: bytes, flushed: false, discard };
    });
  }

  /** The folders are flushed too, or a crash could forget the names. */
  async adopt(staged: readonly { blob: StagedBlob; overwrite: boolean }[]): Promise<void> {
    const small: SmallFile[] = [];
    const folders = new Set<string>();
    let unflushed = 0;
    for (const { blob, overwrite } of staged) {
      const { folder, path } = this.place(blob.sha256);
      if (typeof blob.held !== 'string') {
        small.push({ folder, path, bytes: blob.held, overwrite });
        continue;
      }
      const made = await mkdir(folder, { recursive: true, mode: 0o700 });
      // A blob that is there already is the same bytes: keep it, whoever wrote it first.
      if (overwrite || (await stat(path).catch(() => null))?.size !== blob.sizeBytes) {
        await giveName(blob.held, path);
        if (!blob.flushed) unflushed += 1;
      }
      for (const level of made ? [folder, join(folder, '..'), this.root] : [folder]) folders.add(level);
    }
    if (small.length > 0) await writeEach(this.root, small);
    if (unflushed > 0 || folders.size >= FLUSH_TOGETHER_FROM) await flushFileSystem(this.root);
    else for (const folder of folders) await syncFolder(folder);
  }

  async *names(): AsyncGenerator<Buffer> {
    const hex = /^[0-9a-f]{2}$/;
    for (const a of (await readdir(this.root)).filter((n) => hex.test(n))) {
      for (const b of (await readdir(join(this.root, a))).filter((n) => hex.test(n))) {
        for (const name of await readdir(join(this.root, a, b)))
          if (/^[0-9a-f]{64}$/.test(name)) yield Buffer.from(name, 'hex');
      }
    }
  }

  async open(sha256: Buffer, how?: 'shared'): Promise<OpenBlob | null> {
    const { path } = this.place(sha256);
    if (how === 'shared') {
      const shared = await this.openFiles.open(path);
      return (
        shared && {
          sizeBytes: shared.sizeBytes,
          read: (target, position, length) => readFully(shared.file, target, position, length),
          close: shared.close,
        }
      );
    }
    try {
      const file = await open(path, 'r');
      const { size } = await file.stat();
      return {
        sizeBytes: size,
        read: (target, position, length) => readFully(file, target, position, length),
        close: () => file.close(),
      };
    } catch (error) {
      if ((error as NodeJS.ErrnoException).code === 'ENOENT') return null;
      throw error;
    }
  }

  gather(parts: readonly Stretch[]): Promise<Gathered> {
    return this.gatherer.gather(
      parts.map((part) =>
        'bytes' in part ? part : { path: this.place(part.sha256).path, from: part.from, length: part.length },
      ),
    );
  }

  async stat(sha256: Buffer): Promise<{ sizeBytes: number } | null> {
    try {
      return { sizeBytes: (await stat(this.place(sha256).path)).size };
    } catch (error) {
      if ((error as NodeJS.ErrnoException).code === 'ENOENT') return null;
      throw error;
    }
  }

  async remove(sha256: Buffer): Promise<void> {
    const { path } = this.place(sha256);
    await unlink(path).catch((error: NodeJS.ErrnoException) => {
      if (error.code !== 'ENOENT') throw error;
    });
    await this.openFiles.forget(path);
  }

  async freeBytes(): Promise<number> {
    const { bavail, bsize } = await statfs(this.root);
    return bavail * bsize;
  }

  /** Removes temporary files that a crash left behind; uploads that are under way are younger than that. */
  async sweep(now: number): Promise<number> {
    const folder = join(this.root, 'tmp');
    let removed = 0;
    for (const name of await readdir(folder)) {
      // Parts of uploads are kept for as long as their upload is.
      if (name.startsWith('part-')) continue;
      const path = join(folder, name);
      const info = await stat(path).catch(() => null);
      if (!info || now - info.mtimeMs < ABANDONED_MS) continue;
      await unlink(path).catch(() => undefined);
      removed += 1;
    }
    return removed;
  }

  private place(sha256: Buffer): { folder: string; path: string } {
    const hex = sha256.toString('hex');
    const folder = join(this.root, hex.slice(0, 2), hex.slice(2, 4));
    return { folder, path: join(folder, hex) };
  }
}

/**
 * Small pieces in one stretch of memory that another thread sees too, so that they are copied once and not at each
 * step.
 */
function shared(pieces: readonly Uint8Array[]): Uint8Array[] {
  const memory = new SharedArrayBuffer(pieces.reduce((sum, piece) => sum + piece.length, 0));
  let at = 0;
  return pieces.map((piece) => {
    const own = new Uint8Array(memory, at, piece.length);
    own.set(piece);
    at += piece.length;
    return own;
  });
}

function tooSlow(): Problem {
  return new Problem(
    'too-slow',
    'upload.too-slow',
    'Too little of the upload arrived for a while. Nothing was kept; send it again.',
  );
}

/**
 * A name beside the temporary one, which stays for as long as the transaction may still fail. Where an attempt before
 * this one has named the same file, rename(2) does nothing, and the name in between is left.
 */
async function giveName(staged: string, path: string): Promise<void> {
  const second = `${staged}.${randomUUID()}`;
  await link(staged, second);
  await rename(second, path);
  await unlink(second).catch((error: NodeJS.ErrnoException) => {
    if (error.code !== 'ENOENT') throw error;
  });
}

async function readFully(file: FileHandle, target: Uint8Array, position: number, length: number): Promise<number> {
  let done = 0;
  while (done < length) {
    const { bytesRead } = await file.read(target, done, length - done, position + done);
    if (bytesRead === 0) break;
    done += bytesRead;
  }
  return done;
}

async function syncFolder(path: string): Promise<void> {
  const folder = await open(path, 'r');
  try {
    await folder.sync();
  } finally {
    await folder.close();
  }
}
