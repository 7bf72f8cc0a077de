import type { ServerResponse } from 'node:http';
import type { BlobStore, OpenBlob, Stretch } from './blob-store.js';
import type { Gathered } from './gatherer.js';
import { log } from '../log/log.js';

/** Two buffers of this size take turns: one is read into while the other is sent (measured in docs/benchmarks.md). */
const BUFFER_BYTES = 1024 * 1024;
/** Up to this size one read and one write beat any stream. */
const SMALL_BYTES = 256 * 1024;
const spare: Buffer[] = [];
const SPARE_MOST = 4;

/**
 * Sends stretches of bytes as the body of an answer whose head has been set, holding a few buffers however large the
 * blobs are. Stops quietly when the reader has gone; breaks the connection off when a blob is missing or short, so that
 * a wrong body can never look complete.
 */
export async function sendStretches(
  res: ServerResponse,
  blobs: BlobStore,
  stretches: Iterable<Stretch>,
): Promise<void> {
  try {
    for await (const piece of readAhead(blobs, stretches)) {
      if (res.destroyed) return;
      if ('blob' in piece) await sendBlob(res, piece.blob, piece.from, piece.length);
      else await write(res, piece.bytes);
    }
    res.end();
  } catch (error) {
    if (!res.destroyed) log.error({ err: error }, 'an answer was broken off');
    res.destroy();
  }
}

/** Small blobs that were read lately, by name: their bytes can never change. */
const lately = new Map<string, Buffer>();
const LATELY_MOST_BYTES = 16 * 1024 * 1024;
let latelyBytes = 0;

/** A stretch of a small file in one piece; null when the blob is missing or not as long as it should be. */
export async function readSmall(
  blobs: BlobStore,
  sha256: Buffer,
  sizeBytes: number,
  from: number,
  length: number,
): Promise<Buffer | null> {
  const key = sha256.toString('latin1');
  const known = lately.get(key);
  if (known) return known.subarray(from, from + length);
  const blob = await blobs.open(sha256);
  if (!blob) return null;
  try {
    if (blob.sizeBytes !== sizeBytes) return null;
    const whole = isSmall(sizeBytes);
    const buffer = Buffer.allocUnsafeSlow(whole ? sizeBytes : length);
    if ((await blob.read(buffer, whole ? 0 : from, buffer.length)) !== buffer.length) return null;
    if (!whole) return buffer;
    remember(key, buffer);
    return buffer.subarray(from, from + length);
  } finally {
    await blob.close();
  }
}

function remember(key: string, bytes: Buffer): void {
  lately.set(key, bytes);
  latelyBytes += bytes.length;
  for (const [oldest, old] of lately) {
    if (latelyBytes <= LATELY_MOST_BYTES) return;
    lately.delete(oldest);
    latelyBytes -= old.length;
  }
}

export function isSmall(length: number): boolean {
  return length <= SMALL_BYTES;
}

type Piece = Gathered | { blob: OpenBlob; from: number; length: number };

/** Small stretches are gathered up to this size. */
const GATHER_BYTES = 1024 * 1024;
/** Pieces that are made ready before their turn. */
const READ_AHEAD = 4;

/** Opens or gathers the next pieces while the present one is being sent; gives back what each holds when it was sent. */
async function* readAhead(blobs: BlobStore, stretches: Iterable<Stretch>): AsyncGenerator<Piece> {
  const groups = grouped(stretches);
  const waiting: Promise<Piece>[] = [];
  const fill = () => {
    while (waiting.length < READ_AHEAD) {
      const next = groups.next();
      if (next.done) return;
      const made = makeReady(blobs, next.value);
      made.catch(() => undefined);
      waiting.push(made);
    }
  };
  let current: Piece | null = null;
  try {
    fill();
    while (waiting.length > 0) {
      current = await (waiting.shift() as Promise<Piece>);
      fill();
      yield current;
      await giveBack(current);
      current = null;
    }
  } finally {
    if (current) void giveBack(current);
    for (const rest of waiting) void rest.then(giveBack, () => undefined);
  }
}

/** Runs of small stretches, and each large one by itself. */
function* grouped(stretches: Iterable<Stretch>): Generator<Stretch[]> {
  let group: Stretch[] = [];
  let bytes = 0;
  for (const stretch of stretches) {
    const length = lengthOf(stretch);
    if (group.length > 0 && (!isSmall(length) || bytes + length > GATHER_BYTES)) {
      yield group;
      [group, bytes] = [[], 0];
    }
    if (isSmall(length) || 'bytes' in stretch) {
      group.push(stretch);
      bytes += length;
    } else yield [stretch];
  }
  if (group.length > 0) yield group;
}

const lengthOf = (stretch: Stretch): number => ('bytes' in stretch ? stretch.bytes.length : stretch.length);

async function makeReady(blobs: BlobStore, group: Stretch[]): Promise<Piece> {
  const [only] = group as [Stretch];
  if (group.every((s) => 'bytes' in s))
    return { bytes: Buffer.concat(group.map((s) => (s as { bytes: Uint8Array }).bytes)), release: () => undefined };
  if (group.length > 1 || 'bytes' in only || isSmall(only.length)) return blobs.gather(group);
  const blob = await blobs.open(only.sha256);
  if (!blob) throw new Error(`blob ${only.sha256.toString('hex')} is missing`);
  return { blob, from: only.from, length: only.length };
}

async function giveBack(piece: Piece): Promise<void> {
  if ('blob' in piece) await piece.blob.close();
  else piece.release();
}

async function sendBlob(res: ServerResponse, blob: OpenBlob, from: number, length: number): Promise<void> {
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
function write(res: ServerResponse, bytes: Uint8Array): Promise<void> {
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
