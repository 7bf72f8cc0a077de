import type { ServerResponse } from 'node:http';
import type { BlobStore, OpenBlob, Stretch } from './blob-store.js';
import type { Gathered } from './gatherer.js';
import { log } from '../log/log.js';
import { PACE, watchPace, type Pace } from '../pace.js';
import {
  giveLarge,
  LARGE_BYTES,
  ReaderMemory,
  SMALL_BYTES as SLOW_BYTES,
  STALLED_MS,
  takeLarge,
} from './reader-memory.js';

/** Up to this size one read and one write beat any stream. */
const SMALL_BYTES = 256 * 1024;

/**
 * Sends stretches of bytes as the body of an answer whose head has been set, holding little however large the blobs are
 * and however slow the reader is. Stops quietly when the reader has gone; breaks the connection off when a blob is
 * missing or short, so that a wrong body can never look complete, and when a reader takes next to nothing for too long.
 */
export async function sendStretches(
  res: ServerResponse,
  blobs: BlobStore,
  stretches: Iterable<Stretch>,
  pace: Pace = PACE,
): Promise<void> {
  const reader = new Reader(res);
  const stopWatching = watchPace(
    pace,
    () => reader.sentBytes,
    () => false,
    () => res.destroy(),
  );
  try {
    for await (const piece of readAhead(blobs, stretches, reader)) {
      if (res.destroyed) return;
      if ('blob' in piece) await sendBlob(reader, piece.blob, piece.from, piece.length);
      else await reader.write(piece.bytes);
    }
    await reader.end();
  } catch (error) {
    if (!res.destroyed && !hasLeft(error)) log.error({ err: error }, 'an answer was broken off');
    res.destroy();
  } finally {
    stopWatching();
    reader.memory.end();
  }
}

/** Whether the other end is gone, which the system may say before the connection does. */
const hasLeft = (error: unknown): boolean =>
  ['ECONNRESET', 'EPIPE'].includes((error as NodeJS.ErrnoException | null)?.code ?? '');

/** Somebody who is sent bytes: how much they have taken, how promptly, and what is held for them. */
class Reader {
  readonly memory = new ReaderMemory();
  sentBytes = 0;
  /** Whether the last write waited. */
  stalled = false;

  constructor(readonly res: ServerResponse) {}

  get gone(): boolean {
    return this.res.destroyed;
  }

  /** Resolves when the system has taken the bytes; rejects when the reader is gone. */
  write(bytes: Uint8Array): Promise<void> {
    const began = performance.now();
    return this.flushed((done) => this.res.write(bytes, done)).then(() => {
      this.sentBytes += bytes.length;
      this.stalled = performance.now() - began > STALLED_MS;
      if (this.stalled) this.memory.shrink();
    });
  }

  /** Resolves when everything has been taken. */
  async end(): Promise<void> {
    await this.flushed((done) => this.res.end(done)).catch(() => undefined);
  }

  private flushed(act: (done: (error?: Error | null) => void) => void): Promise<void> {
    return new Promise((resolve, reject) => {
      if (this.gone) {
        reject(new Error('reader gone'));
        return;
      }
      const gone = () => reject(new Error('reader gone'));
      this.res.once('close', gone);
      act((error) => {
        this.res.off('close', gone);
        if (error) reject(error);
        else resolve();
      });
    });
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

/** Pieces of an archive that are made ready before their turn for a reader who is quick. */
const READ_AHEAD = 4;

/**
 * Opens or gathers the next pieces while the present one is being sent; gives back what each holds when it was sent.
 */
async function* readAhead(blobs: BlobStore, stretches: Iterable<Stretch>, reader: Reader): AsyncGenerator<Piece> {
  const groups = grouped(stretches, () => (reader.memory.isLarge ? LARGE_BYTES : SLOW_BYTES));
  const waiting: Promise<Piece>[] = [];
  const fill = () => {
    while (waiting.length < (reader.memory.isLarge ? READ_AHEAD : 1)) {
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
      // What was taken promptly shows a reader for whom it is worth being quick.
      if (!('blob' in current) && !reader.stalled && reader.sentBytes > 0) reader.memory.grow(READ_AHEAD + 1);
      current = null;
    }
  } finally {
    if (current) giveBack(current).catch(() => undefined);
    for (const rest of waiting) rest.then(giveBack).catch(() => undefined);
  }
}

/** Runs of small stretches, and each large one by itself. */
function* grouped(stretches: Iterable<Stretch>, mostBytes: () => number): Generator<Stretch[]> {
  let group: Stretch[] = [];
  let bytes = 0;
  for (const stretch of stretches) {
    const length = lengthOf(stretch);
    if (group.length > 0 && (!isSmall(length) || bytes + length > mostBytes())) {
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
  const blob = await blobs.open(only.sha256, 'shared');
  if (!blob) throw new Error(`blob ${only.sha256.toString('hex')} is missing`);
  return { blob, from: only.from, length: only.length };
}

async function giveBack(piece: Piece): Promise<void> {
  if ('blob' in piece) await piece.blob.close();
  else piece.release();
}

/** Small pieces after which somebody who waited in vain for a large buffer tries again. */
const SMALL_UNTIL_NEXT_TRY = 32;

/** With one small buffer until the reader proves quick, then with large ones in turn, until they stall. */
async function sendBlob(reader: Reader, blob: OpenBlob, from: number, length: number): Promise<void> {
  let done = 0;
  let tryIn = 1;
  while (done < length && !reader.gone) {
    if (tryIn <= 0 && !reader.stalled && !reader.memory.isLarge && !(await reader.memory.growInTurn(2)))
      tryIn = SMALL_UNTIL_NEXT_TRY;
    if (reader.memory.isLarge) done += await sendLarge(reader, blob, from + done, length - done);
    else done += await sendSmall(reader, blob, from + done, length - done);
    tryIn -= 1;
  }
}

async function sendSmall(reader: Reader, blob: OpenBlob, from: number, length: number): Promise<number> {
  const want = Math.min(SLOW_BYTES, length);
  const buffer = Buffer.allocUnsafeSlow(want);
  await readExactly(blob, buffer, from);
  await reader.write(buffer);
  return want;
}

/**
 * With two buffers one is read into while the other is sent. @returns how much was sent until all was or the reader
 * stalled
 */
async function sendLarge(reader: Reader, blob: OpenBlob, from: number, length: number): Promise<number> {
  const buffers = Array.from({ length: Math.min(2, reader.memory.largeCount) }, takeLarge);
  const sent = buffers.map(() => Promise.resolve());
  let done = 0;
  try {
    for (let turn = 0; done < length && !reader.gone && reader.memory.isLarge; turn = (turn + 1) % buffers.length) {
      await sent[turn];
      const want = Math.min(LARGE_BYTES, length - done);
      const bytes = (buffers[turn] as Buffer).subarray(0, want);
      await readExactly(blob, bytes, from + done);
      const written = reader.write(bytes);
      written.catch(() => undefined);
      sent[turn] = written;
      done += want;
    }
    await Promise.all(sent);
    return done;
  } finally {
    await Promise.allSettled(sent);
    for (const buffer of buffers) giveLarge(buffer);
  }
}

async function readExactly(blob: OpenBlob, target: Buffer, position: number): Promise<void> {
  if ((await blob.read(target, position, target.length)) !== target.length)
    throw new Error('blob is shorter than it should be');
}
