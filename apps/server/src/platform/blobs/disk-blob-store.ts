import { createHash, randomUUID } from 'node:crypto';
import { mkdirSync } from 'node:fs';
import { link, mkdir, open, readdir, rename, stat, statfs, unlink, type FileHandle } from 'node:fs/promises';
import { join } from 'node:path';
import type { Readable } from 'node:stream';
import { crc32 } from 'node:zlib';
import { Problem } from '../problems/problem.js';
import type { BlobStore, OpenBlob, StoredBlob, Stretch } from './blob-store.js';
import { Gatherer, type Gathered } from './gatherer.js';

/** Writes that may be under way before the stream is made to wait. */
const WRITES_AHEAD = 8;
/** Temporary files older than this were left by a crash: no upload sends nothing for a day. */
const ABANDONED_MS = 24 * 3600 * 1000;

/** Blobs as files: `ab/cd/<sha256>` below the root, temporary files in `tmp` on the same volume. */
export class DiskBlobStore implements BlobStore {
  private readonly gatherer = new Gatherer();

  constructor(private readonly root: string) {
    mkdirSync(join(root, 'tmp'), { recursive: true, mode: 0o700 });
  }

  async put(stream: Readable, expectedBytes: number | null): Promise<StoredBlob> {
    const temporary = join(this.root, 'tmp', randomUUID());
    const file = await open(temporary, 'wx', 0o600);
    try {
      const blob = await receive(stream, file, expectedBytes);
      await file.sync();
      await file.close();
      await this.adopt(temporary, blob.sha256);
      return blob;
    } catch (error) {
      await file.close().catch(() => undefined);
      await unlink(temporary).catch(() => undefined);
      throw error;
    }
  }

  /** Gives a complete temporary file its name. The folder is flushed too, or a crash could forget the name. */
  private async adopt(temporary: string, sha256: Buffer): Promise<void> {
    const { folder, path } = this.place(sha256);
    const made = await mkdir(folder, { recursive: true, mode: 0o700 });
    // A blob that is there already is the same bytes: keep it, whoever wrote it first.
    if (await exists(path)) await unlink(temporary);
    else await rename(temporary, path);
    for (const level of made ? [folder, join(folder, '..'), this.root] : [folder]) await syncFolder(level);
  }

  async open(sha256: Buffer): Promise<OpenBlob | null> {
    const { path } = this.place(sha256);
    try {
      const file = await open(path, 'r');
      const { size } = await file.stat();
      return { sizeBytes: size, read: (target, position, length) => readFully(file, target, position, length), close: () => file.close() };
    } catch (error) {
      if ((error as NodeJS.ErrnoException).code === 'ENOENT') return null;
      throw error;
    }
  }

  gather(parts: readonly Stretch[]): Promise<Gathered> {
    return this.gatherer.gather(parts.map((part) => ('bytes' in part ? part : { path: this.place(part.sha256).path, from: part.from, length: part.length })));
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
    await unlink(this.place(sha256).path).catch((error: NodeJS.ErrnoException) => {
      if (error.code !== 'ENOENT') throw error;
    });
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
      const path = join(folder, name);
      const info = await stat(path).catch(() => null);
      if (!info || now - info.mtimeMs < ABANDONED_MS) continue;
      await unlink(path).catch(() => undefined);
      removed += 1;
    }
    return removed;
  }

  /** A second name for the bytes, for tools that serve the same files side by side. */
  async linkTo(sha256: Buffer, path: string): Promise<void> {
    await link(this.place(sha256).path, path);
  }

  private place(sha256: Buffer): { folder: string; path: string } {
    const hex = sha256.toString('hex');
    const folder = join(this.root, hex.slice(0, 2), hex.slice(2, 4));
    return { folder, path: join(folder, hex) };
  }
}

/** Writes the stream to the file, hashing on the way; at most {@link WRITES_AHEAD} pieces are held in memory. */
function receive(stream: Readable, file: FileHandle, expectedBytes: number | null): Promise<StoredBlob> {
  const hash = createHash('sha256');
  let crc = 0;
  let sizeBytes = 0;
  let writing = 0;
  let ended = false;
  return new Promise((resolve, reject) => {
    let failed = false;
    const fail = (error: unknown) => {
      if (failed) return;
      failed = true;
      stream.pause();
      reject(error as Error);
    };
    const cut = () => fail(new Problem('invalid', 'upload.cut', 'The upload ended before all of it had arrived. Nothing was kept; send it again.'));
    const finish = () => {
      if (failed || !ended || writing > 0) return;
      if (expectedBytes !== null && sizeBytes !== expectedBytes) cut();
      else resolve({ sha256: hash.digest(), sizeBytes, crc32: crc });
    };
    stream.on('data', (piece: Buffer) => {
      if (failed) return;
      const position = sizeBytes;
      sizeBytes += piece.length;
      writing += 1;
      if (writing >= WRITES_AHEAD) stream.pause();
      writeFully(file, piece, position).then(
        () => {
          writing -= 1;
          if (writing < WRITES_AHEAD && !ended && !failed) stream.resume();
          finish();
        },
        fail,
      );
      hash.update(piece);
      crc = crc32(piece, crc);
    });
    stream.on('end', () => {
      ended = true;
      finish();
    });
    stream.on('error', cut);
    stream.on('close', () => {
      if (!ended) cut();
    });
  });
}

async function writeFully(file: FileHandle, piece: Buffer, position: number): Promise<void> {
  for (let done = 0; done < piece.length; ) done += (await file.write(piece, done, piece.length - done, position + done)).bytesWritten;
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

async function exists(path: string): Promise<boolean> {
  return stat(path).then(() => true, () => false);
}

async function syncFolder(path: string): Promise<void> {
  const folder = await open(path, 'r');
  try {
    await folder.sync();
  } finally {
    await folder.close();
  }
}
