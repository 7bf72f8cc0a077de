import { createHash, type Hash } from 'node:crypto';
import type { FileHandle } from 'node:fs/promises';
import type { Readable } from 'node:stream';
import { crc32 } from 'node:zlib';
import { PACE, watchPace, type Pace } from '../pace.js';
import type { AskRoom } from './blob-store.js';

/** Writes that may be under way before the stream is made to wait. */
const WRITES_AHEAD = 8;

/** Room is asked for in advance once so much has come since it was last asked for: then nobody waits for the answer. */
const ASK_AGAIN_AFTER = 8 * 1024 * 1024;

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

export interface PourTerms {
  /** Bytes beyond which nothing is taken: `over` tells that there would have been more. */
  limit?: number | null;
  /** Called after each write with the length that is written without a gap. */
  each?: (written: number) => void;
  /** Asked for room before bytes beyond what it granted are taken; its refusal ends the stream. */
  ask?: AskRoom;
  pace?: Pace;
}

export interface Poured {
  /** Whether the stream ended by itself; false: it broke off. */
  whole: boolean;
  over: boolean;
  /** It was ended because too little came. */
  slow: boolean;
}

/**
 * Writes a stream to a file from `state.position` on, hashing on the way; at most {@link WRITES_AHEAD} pieces are held
 * in memory. Resolves when all that came has been written, also of a stream that had gone before anybody read it.
 * @throws the file's errors, and what `ask` refuses with
 */
export function pour(stream: Readable, file: FileHandle, state: Pouring, terms: PourTerms = {}): Promise<Poured> {
  const { limit = null, each, ask, pace = PACE } = terms;
  const writing = new Set<number>();
  let ended: boolean | null = null;
  let over = false;
  let slow = false;
  let failed = false;
  let asking = false;
  let granted = ask ? state.position : Infinity;
  let askedAt = state.position;
  let answer: Promise<void> = Promise.resolve();
  return new Promise((resolve, reject) => {
    const written = () => (writing.size === 0 ? state.position : Math.min(...writing));
    const held = () => (asking && state.position > granted) || writing.size >= WRITES_AHEAD;
    const stopWatching = watchPace(
      pace,
      () => state.position,
      held,
      () => {
        slow = true;
        end(false);
        stream.destroy();
      },
    );
    const fail = (error: unknown) => {
      if (failed) return;
      failed = true;
      stopWatching();
      stream.pause();
      // Not before what was asked for is settled: whoever gives room back must find it.
      answer.then(() => reject(error as Error), reject);
    };
    const finish = () => {
      if (failed || ended === null || writing.size > 0 || asking) return;
      stopWatching();
      resolve({ whole: ended, over, slow });
    };
    const end = (whole: boolean) => {
      ended ??= whole;
      finish();
    };
    const goOn = () => {
      if (!held() && ended === null && !failed) stream.resume();
    };
    const askFor = (upTo: number) => {
      asking = true;
      askedAt = state.position;
      const needed = () => state.position > granted;
      if (needed()) stream.pause();
      const answered = (until: number) => {
        granted = until;
        asking = false;
        if (needed()) askFor(state.position);
        goOn();
        finish();
      };
      // What was asked for in advance may be refused; what is needed by then is asked for by itself.
      answer = (ask as AskRoom)(upTo, written()).then(answered, (error: unknown) =>
        upTo > state.position ? answered(granted) : fail(error),
      );
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
        goOn();
        each?.(written());
        finish();
      }, fail);
      take(state, piece);
      if (asking) {
        if (state.position > granted) stream.pause();
      } else if (state.position > granted) askFor(state.position);
      else if (ask && state.position - askedAt > ASK_AGAIN_AFTER) askFor(granted + 1);
    });
    stream.on('end', () => end(true));
    stream.on('error', () => end(false));
    stream.on('close', () => end(false));
    // A request that was closed before anybody listened tells nothing any more.
    if (stream.destroyed || stream.readableEnded) end(false);
  });
}

async function writeFully(file: FileHandle, piece: Buffer, position: number): Promise<void> {
  for (let done = 0; done < piece.length;)
    done += (await file.write(piece, done, piece.length - done, position + done)).bytesWritten;
}
