import type { Readable } from 'node:stream';
import type { Gathered } from './gatherer.js';

/** A stretch of an answer: bytes at hand, or part of a blob. */
export type Stretch = { bytes: Uint8Array } | { sha256: Buffer; from: number; length: number };

/** What is known of a blob once it is kept. */
export interface StoredBlob {
  /** 32 bytes. */
  sha256: Buffer;
  sizeBytes: number;
  crc32: number;
}

/** An open blob; `close` when done. Reads at any position, several at once. */
export interface OpenBlob {
  sizeBytes: number;
  /** Fills `target` from `position`; fewer bytes only at the end. */
  read(target: Uint8Array, position: number, length: number): Promise<number>;
  close(): Promise<void>;
}

/**
 * Bytes that have arrived whole and are hashed, under a temporary name or in memory. `discard` when that is not needed
 * any more.
 */
export interface StagedBlob extends StoredBlob {
  /** Where the implementation finds them again, or the bytes themselves. */
  held: string | Uint8Array;
  flushed: boolean;
  discard(): Promise<void>;
}

/**
 * Asks for room as bytes come: for `upTo` bytes from the beginning on, of which `written` are on the disk.
 * @returns up to where bytes may come before it is asked again
 * @throws Problem when there is no room
 */
export type AskRoom = (upTo: number, written: number) => Promise<number>;

export interface StageHow {
  flush?: boolean;
  ask?: AskRoom;
}

/** Immutable bytes named by their SHA-256. One test suite holds for every implementation. */
export interface BlobStore {
  /**
   * Keeps a stream: {@link stage} and {@link adopt} in one. When this resolves the bytes are on the disk under their
   * name; when it rejects nothing is kept.
   * @throws Problem upload.cut when the stream ends before `expectedBytes`; ENOSPC as the disk reports it
   */
  put(stream: Readable, expectedBytes: number | null): Promise<StoredBlob>;
  /**
   * Takes a stream in without giving it its name.
   * @param how `flush` false leaves flushing to {@link adopt}, which is quicker for many; `ask` is asked for room as
   * bytes come
   */
  stage(stream: Readable, expectedBytes: number | null, how?: StageHow): Promise<StagedBlob>;
  /** Takes in small ones that are at hand: they stay in memory until they are adopted. */
  stageEach(pieces: readonly Uint8Array[]): Promise<StagedBlob[]>;
  /**
   * Gives staged bytes their names, flushed when this resolves. What is there under a name stays, unless `overwrite`
   * says that it cannot be trusted.
   */
  adopt(staged: readonly { blob: StagedBlob; overwrite: boolean }[]): Promise<void>;
  /** The parts of uploads that come in pieces. */
  readonly parts: BlobParts;
  /**
   * Bytes at hand and stretches of blobs in one piece, for sending many small files.
   * @throws Error when a blob is missing or short
   */
  gather(parts: readonly Stretch[]): Promise<Gathered>;
  /**
   * Null when there is no such blob.
   * @param how `shared`: as several may read it at the same time. One that lost its bytes a moment ago may still be read.
   */
  open(sha256: Buffer, how?: 'shared'): Promise<OpenBlob | null>;
  stat(sha256: Buffer): Promise<{ sizeBytes: number } | null>;
  remove(sha256: Buffer): Promise<void>;
  /** The names of all blobs that are there, in no order. */
  names(): AsyncGenerator<Buffer>;
  /** Removes what broken-off uploads left behind a day or more before `now`. @returns how much was removed */
  sweep(now: number): Promise<number>;
  /** Bytes that can still be kept. */
  freeBytes(): Promise<number>;
}

/** Uploads that arrive in pieces, over many requests and restarts, each under an id. */
export interface BlobParts {
  /**
   * Appends a stream at an offset (what lay beyond it is dropped). Resolves also when the stream breaks off.
   * @param flushedTo told from time to time, and at the end, how far the bytes are safe on the disk
   * @returns the new length
   * @throws Problem upload.too-long when the stream would go beyond `sizeBytes`, what `ask` refuses with, ENOSPC as the
   *   disk reports it; then the part ends where it was last told to be safe, and no byte beyond stays on the disk
   */
  append(
    id: string,
    offset: number,
    stream: Readable,
    sizeBytes: number,
    flushedTo: (offset: number) => Promise<void>,
    ask?: AskRoom,
  ): Promise<number>;
  /** Bytes that are there; 0 when there is no such part. */
  length(id: string): Promise<number>;
  /** The complete part as a staged blob: hashed on the way where it came in one go, read again otherwise. */
  finish(id: string, sizeBytes: number): Promise<StagedBlob>;
  remove(id: string): Promise<void>;
  ids(): Promise<string[]>;
}

export const BLOBS = Symbol('blobs');
/** Another store with the same blobs, from which damaged ones are restored; null: there is none. */
export const BLOB_COPY = Symbol('copy of the blobs');
