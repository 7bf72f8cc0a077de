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

/** Immutable bytes named by their SHA-256. One test suite holds for every implementation. */
export interface BlobStore {
  /**
   * Keeps a stream. When this resolves the bytes are on the disk under their name; when it rejects nothing is kept.
   * @throws Problem upload.cut when the stream ends before `expectedBytes`; ENOSPC as the disk reports it
   */
  put(stream: Readable, expectedBytes: number | null): Promise<StoredBlob>;
  /**
   * Bytes at hand and stretches of blobs in one piece, for sending many small files.
   * @throws Error when a blob is missing or short
   */
  gather(parts: readonly Stretch[]): Promise<Gathered>;
  /** Null when there is no such blob. */
  open(sha256: Buffer): Promise<OpenBlob | null>;
  stat(sha256: Buffer): Promise<{ sizeBytes: number } | null>;
  remove(sha256: Buffer): Promise<void>;
  /** Removes what broken-off uploads left behind a day or more before `now`. @returns how much was removed */
  sweep(now: number): Promise<number>;
  /** Bytes that can still be kept. */
  freeBytes(): Promise<number>;
}

export const BLOBS = Symbol('blobs');
