import type { Response } from 'express';
import type { BlobStore, OpenBlob } from './blob-store.js';
import { log } from '../log/log.js';

/** Two buffers of this size take turns: one is read into while the other is sent (measured in docs/benchmarks.md). */
const BUFFER_BYTES = 512 * 1024;
/** Up to this size one read and one write beat any stream. */
const SMALL_BYTES = 256 * 1024;
const spare: Buffer[] = [];
const SPARE_MOST = 16;

/** A stretch of an answer: bytes at hand, or part of a blob. */
export type Stretch = { bytes: Uint8Array } | { sha256: Buffer; from: number; length: number };

/**
 * Sends stretches of bytes as the body of an answer whose head has been set, holding at most two buffers however large
 * the blobs are. Stops quietly when the reader has gone; breaks the connection off when a blob is missing or short, so
 * that a wrong body can never look complete.
 */
export async function sendStretches(res: Response, blobs: BlobStore, stretches: Iterable<Stretch>): Promise<void> {
  const ahead = openAhead(blobs, stretches);
  try {
    for await (const stretch of ahead) {
      if (res.destroyed) return;
      if ('bytes' in stretch) await write(res, stretch.bytes);
      else await sendBlob(res, stretch.blob, stretch.from, stretch.length);
    }
    res.end();
  } catch (error) {
    if (!res.destroyed) log.error({ err: error }, 'an answer was broken off');
    res.destroy();
  }
}

/** One read, one `end`: the whole of a small blob. @returns false when it is missing or not as long as it should be */
export async function sendSmall(res: Response, blobs: BlobStore, sha256: Buffer, from: number, length: number): Promise<boolean> {
  const blob = await blobs.open(sha256);
  if (!blob) return false;
  try {
    const buffer = Buffer.allocUnsafe(length);
    if ((await blob.read(buffer, from, length)) !== length) return false;
    res.end(buffer);
    return true;
  } finally {
    void blob.close();
  }
}

export function isSmall(length: number): boolean {
  return length <= SMALL_BYTES;
}

type Opened = { bytes: Uint8Array } | { blob: OpenBlob; from: number; length: number };
/** Blobs that are opened, and if small read, before their turn. */
const READ_AHEAD = 8;

/** Opens the blobs of the next stretches while the present one is being sent; small ones are read whole. */
async function* openAhead(blobs: BlobStore, stretches: Iterable<Stretch>): AsyncGenerator<Opened> {
  const waiting: Promise<Opened>[] = [];
  const iterator = stretches[Symbol.iterator]();
  const fill = () => {
    while (waiting.length < READ_AHEAD) {
      const next = iterator.next();
      if (next.done) return;
      const opened = openStretch(blobs, next.value);
      opened.catch(() => undefined);
      waiting.push(opened);
    }
  };
  let current: Opened | null = null;
  try {
    fill();
    while (waiting.length > 0) {
      current = await (waiting.shift() as Promise<Opened>);
      fill();
      yield current;
      if ('blob' in current) await current.blob.close();
      current = null;
    }
  } finally {
    if (current && 'blob' in current) void current.blob.close();
    for (const rest of waiting) void rest.then((o) => ('blob' in o ? o.blob.close() : undefined), () => undefined);
  }
}

async function openStretch(blobs: BlobStore, stretch: Stretch): Promise<Opened> {
  if ('bytes' in stretch) return stretch;
  const blob = await blobs.open(stretch.sha256);
  if (!blob) throw new Error(`blob ${stretch.sha256.toString('hex')} is missing`);
  if (stretch.length > SMALL_BYTES) return { blob, from: stretch.from, length: stretch.length };
  try {
    const bytes = Buffer.allocUnsafe(stretch.length);
    if ((await blob.read(bytes, stretch.from, stretch.length)) !== stretch.length) throw new Error('blob is shorter than it should be');
    return { bytes };
  } finally {
    await blob.close();
  }
}

async function sendBlob(res: Response, blob: OpenBlob, from: number, length: number): Promise<void> {
  const buffers = [takeBuffer(), takeBuffer()] as const;
  const sent: [Promise<void>, Promise<void>] = [Promise.resolve(), Promise.resolve()];
  try {
    for (let done = 0, turn = 0; done < length && !res.destroyed; turn ^= 1) {
      await sent[turn as 0 | 1];
      const buffer = buffers[turn as 0 | 1];
      const want = Math.min(BUFFER_BYTES, length - done);
      if ((await blob.read(buffer, from + done, want)) !== want) throw new Error('blob is shorter than it should be');
      const written = write(res, want === BUFFER_BYTES ? buffer : buffer.subarray(0, want));
      written.catch(() => undefined);
      sent[turn as 0 | 1] = written;
      done += want;
    }
    await Promise.all(sent);
  } finally {
    // A buffer goes back only when the connection no longer holds it.
    await Promise.allSettled(sent);
    for (const buffer of buffers) if (spare.length < SPARE_MOST) spare.push(buffer);
  }
}

function takeBuffer(): Buffer {
  return spare.pop() ?? Buffer.allocUnsafeSlow(BUFFER_BYTES);
}

/** Resolves when the system has taken the bytes; rejects when the reader is gone. */
function write(res: Response, bytes: Uint8Array): Promise<void> {
  return new Promise((resolve, reject) => {
    if (res.destroyed) {
      reject(new Error('reader gone'));
      return;
    }
    const gone = () => reject(new Error('reader gone'));
    res.once('close', gone);
    res.write(bytes, (error) => {
      res.off('close', gone);
      if (error) reject(error);
      else resolve();
    });
  });
}
