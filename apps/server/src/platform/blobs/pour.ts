import { createHash, type Hash } from 'node:crypto';
import type { FileHandle } from 'node:fs/promises';
import type { Readable } from 'node:stream';
import { crc32 } from 'node:zlib';
import { PACE, watchPace, type Pace } from '../pace.js';
import type { AskRoom } from './blob-store.js';

/**
 * Pieces come as the network brings them (64 KiB at most). They are copied into blocks, and each block is written and
 * hashed at once: every write wakes a thread, which takes its turn from the hashing where there are few cores.
 */
const BLOCK_BYTES = 256 * 1024;
/** Blocks of one stream that may be on their way to the disk before it is made to wait; another one fills meanwhile. */
const WRITES_AHEAD = 2;
/** Blocks that are kept for the next streams. */
const SPARE_MOST = 6;
const spare: Buffer[] = [];

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
 * Writes a stream to a file from `state.position` on, hashing on the way; a few times {@link BLOCK_BYTES} are held in
 * memory at most. Resolves when all that came has been written, also of a stream that had gone before anybody read it.
 * @throws the file's errors, and what `ask` refuses with
 */
export function pour(stream: Readable, file: FileHandle, state: Pouring, terms: PourTerms = {}): Promise<Poured> {
  return new Promise((resolve, reject) => new Pour(stream, file, state, terms, { resolve, reject }).begin());
}

interface Settle {
  resolve: (poured: Poured) => void;
  reject: (error: Error) => void;
}

/** One stream on its way into a file. */
class Pour {
  /** The blocks that are being written, by where they begin. */
  private readonly writing = new Map<number, Promise<unknown>>();
  /** The block that fills, behind what is hashed. */
  private block: Buffer | null = null;
  private filled = 0;
  /** Whether the stream ended by itself, once it has ended. */
  private ended: boolean | null = null;
  private over = false;
  private slow = false;
  private failed = false;
  private asking = false;
  /** Bytes that may be taken without asking again. */
  private granted: number;
  private askedAt: number;
  private answer: Promise<void> = Promise.resolve();
  private stopWatching = (): void => undefined;

  constructor(
    private readonly stream: Readable,
    private readonly file: FileHandle,
    private readonly state: Pouring,
    private readonly terms: PourTerms,
    private readonly settle: Settle,
  ) {
    this.granted = terms.ask ? state.position : Infinity;
    this.askedAt = state.position;
  }

  begin(): void {
    const { stream, terms } = this;
    const tooSlow = () => {
      this.slow = true;
      this.end(false);
      stream.destroy();
    };
    this.stopWatching = watchPace(
      terms.pace ?? PACE,
      () => this.come,
      () => this.isHeld(),
      tooSlow,
    );
    stream.on('data', (piece: Buffer) => this.takePiece(piece));
    stream.on('end', () => this.end(true));
    stream.on('error', () => this.end(false));
    stream.on('close', () => this.end(false));
    // A request that was closed before anybody listened tells nothing any more.
    if (stream.destroyed || stream.readableEnded) this.end(false);
  }

  /** How much has come. */
  private get come(): number {
    return this.state.position + this.filled;
  }

  private takePiece(piece: Buffer): void {
    const { limit = null } = this.terms;
    if (this.failed || this.ended !== null) return;
    if (limit !== null && this.come + piece.length > limit) {
      this.over = true;
      this.stream.pause();
      this.end(false);
      return;
    }
    for (let from = 0; from < piece.length;) {
      this.block ??= spare.pop() ?? Buffer.allocUnsafeSlow(BLOCK_BYTES);
      const copied = piece.copy(this.block, this.filled, from);
      this.filled += copied;
      from += copied;
      if (this.filled === BLOCK_BYTES) this.writeBlock();
    }
    this.seeToRoom();
  }

  /** Hands the block to a thread that writes it, and hashes it meanwhile. */
  private writeBlock(): void {
    const { block, filled, state } = this;
    if (!block) return;
    this.block = null;
    this.filled = 0;
    const { position } = state;
    const write = writeFully(this.file, block, filled, position)
      .then(() => {
        this.writing.delete(position);
        this.goOn();
        this.terms.each?.(this.written());
        this.finish();
      })
      .catch((error: unknown) => this.fail(error))
      .finally(() => spare.length < SPARE_MOST && spare.push(block));
    this.writing.set(position, write);
    if (this.writing.size >= WRITES_AHEAD) this.stream.pause();
    take(state, block.subarray(0, filled));
  }

  private seeToRoom(): void {
    const { come } = this;
    if (this.asking) {
      if (come > this.granted) this.stream.pause();
    } else if (come > this.granted) this.askFor(come);
    else if (this.terms.ask && come - this.askedAt > ASK_AGAIN_AFTER) this.askFor(this.granted + 1);
  }

  private askFor(upTo: number): void {
    this.asking = true;
    this.askedAt = this.come;
    const isNeeded = () => this.come > this.granted;
    if (isNeeded()) this.stream.pause();
    const answered = (until: number) => {
      this.granted = until;
      this.asking = false;
      if (isNeeded()) this.askFor(this.come);
      this.goOn();
      this.finish();
    };
    // What was asked for in advance may be refused; what is needed by then is asked for by itself.
    this.answer = (this.terms.ask as AskRoom)(upTo, this.written()).then(answered, (error: unknown) =>
      upTo > this.come ? answered(this.granted) : this.fail(error),
    );
  }

  /** How far the file is written without a gap. */
  private written(): number {
    return Math.min(...this.writing.keys(), this.state.position);
  }

  private isHeld(): boolean {
    return (this.asking && this.come > this.granted) || this.writing.size >= WRITES_AHEAD;
  }

  private goOn(): void {
    if (!this.isHeld() && this.ended === null && !this.failed) this.stream.resume();
  }

  private end(whole: boolean): void {
    this.ended ??= whole;
    if (!this.failed) this.writeBlock();
    this.finish();
  }

  private finish(): void {
    if (this.failed || this.ended === null || this.writing.size > 0 || this.asking) return;
    this.stopWatching();
    this.settle.resolve({ whole: this.ended, over: this.over, slow: this.slow });
  }

  private fail(error: unknown): void {
    if (this.failed) return;
    this.failed = true;
    this.stopWatching();
    this.stream.pause();
    // Not before what was asked for is settled, or whoever gives room back does not find it; nor before the last write
    // has ended, or it would lengthen again what is cut off.
    const reject = () => this.settle.reject(error as Error);
    Promise.allSettled([this.answer, ...this.writing.values()]).then(reject, reject);
  }
}

async function writeFully(file: FileHandle, block: Buffer, length: number, position: number): Promise<void> {
  for (let done = 0; done < length;)
    done += (await file.write(block, done, length - done, position + done)).bytesWritten;
}
