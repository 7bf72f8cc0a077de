import { archiveFault, ARCHIVE_LIMITS, type Packed } from '@quay/core';
import { Readable } from 'node:stream';
import { createGunzip } from 'node:zlib';
import { fromBufferPromise, fromRandomAccessReaderPromise, RandomAccessReader, type Entry, type ZipFile } from 'yauzl';
import type { OpenBlob } from '../platform/blobs/blob-store.js';
import { bytesOf } from '../platform/blobs/blob-keeper.js';

/** So much of an archive, with all that is in it, is unpacked to be measured; nothing of it is kept. */
const MEASURED_BYTES = 64_000_000;
/** Archives in archives are looked into up to this size. */
const INNER_BYTES = 16_000_000;
/** As a zip begins, and as its list of files does and ends (APPNOTE.TXT 6.3.10, 4.3.7, 4.3.12, 4.3.16). */
const ZIP_BEGINS = Buffer.from('PK\x03\x04');
const LIST_BEGINS = Buffer.from('PK\x01\x02');
const LIST_ENDS = Buffer.from('PK\x05\x06');
const LIST_END_BYTES = 22;
const LONGEST_COMMENT = 65_535;
const STORED = 0;
const DEFLATED = 8;

export interface Measured extends Packed {
  /** Some of it is locked with a password. */
  locked: boolean;
  /** What may still be unpacked. */
  left: number;
}

/** What an archive holds (zip and gzip); null: it is of another kind, or cannot be read. */
export async function packedIn(blob: OpenBlob, media: string | null): Promise<Measured | null> {
  const bytes = blob.sizeBytes;
  const found = { bytes, unpackedBytes: 0, entries: 0, depth: 1, lies: false, locked: false, left: MEASURED_BYTES };
  if (media === 'application/gzip') await measureGzip(blob, found);
  else if (media !== null && HELD_IN_ZIP.test(media))
    await measureZip(await fromRandomAccessReaderPromise(new BlobReader(blob), bytes, HOW), found, 1);
  else return null;
  return found;
}

/** Also what offices write is a zip. */
const HELD_IN_ZIP = /^application\/(zip|vnd\.(openxmlformats|oasis)|epub\+zip|java-archive|x-zip)/;
const HOW = { lazyEntries: true, decodeStrings: false, autoClose: false } as const;

/** Whether a file that is something else can be opened as a zip as well: by the list of files at its end. */
export async function endsAsZip(blob: OpenBlob): Promise<boolean> {
  const tail = Buffer.alloc(Math.min(blob.sizeBytes, LIST_END_BYTES + LONGEST_COMMENT));
  const from = blob.sizeBytes - tail.length;
  await blob.read(tail, from, tail.length);
  for (let at = tail.lastIndexOf(LIST_ENDS); at >= 0; at = at === 0 ? -1 : tail.lastIndexOf(LIST_ENDS, at - 1)) {
    const isLast =
      at + LIST_END_BYTES <= tail.length && at + LIST_END_BYTES + tail.readUInt16LE(at + 20) === tail.length;
    const listAt = isLast ? from + at - tail.readUInt32LE(at + 12) : -1;
    const begins = Buffer.alloc(LIST_BEGINS.length);
    if (listAt >= 0 && (await blob.read(begins, listAt, begins.length)) > 0 && begins.equals(LIST_BEGINS)) return true;
  }
  return false;
}

class BlobReader extends RandomAccessReader {
  constructor(private readonly blob: OpenBlob) {
    super();
  }

  override _readStreamForRange(start: number, end: number): Readable {
    return Readable.from(bytesOf(this.blob, { from: start, to: end }));
  }
}

async function measureGzip(blob: OpenBlob, found: Measured): Promise<void> {
  const unpacking = createGunzip();
  const source = Readable.from(bytesOf(blob));
  source.on('error', (error) => unpacking.destroy(error));
  for await (const piece of source.pipe(unpacking)) {
    found.unpackedBytes += (piece as Buffer).length;
    if (found.unpackedBytes > MEASURED_BYTES) break;
  }
  source.destroy();
  // What was not measured is taken to be as what was.
  if (found.unpackedBytes > MEASURED_BYTES && unpacking.bytesWritten > 0)
    found.unpackedBytes = Math.round((found.unpackedBytes * found.bytes) / unpacking.bytesWritten);
}

/** @param depth of the archive: 1 for the file itself */
async function measureZip(zip: ZipFile, found: Measured, depth: number): Promise<void> {
  let packedBytes = 0;
  const places = new Set<number>();
  try {
    for await (const entry of zip.eachEntry()) {
      found.entries += 1;
      found.unpackedBytes += entry.uncompressedSize;
      packedBytes += entry.compressedSize;
      // Parts that are used twice: together they are more than there is, or begin at the same place.
      if (packedBytes > zip.fileSize || places.has(entry.relativeOffsetOfLocalHeader)) found.lies = true;
      places.add(entry.relativeOffsetOfLocalHeader);
      if (archiveFault(found) !== null) return;
      if (entry.isEncrypted()) found.locked = true;
      else if (found.left > 0) await measureEntry(zip, entry, found, depth);
      if (archiveFault(found) !== null) return;
    }
  } finally {
    zip.close();
  }
}

async function measureEntry(zip: ZipFile, entry: Entry, found: Measured, depth: number): Promise<void> {
  if (entry.compressionMethod !== STORED && entry.compressionMethod !== DEFLATED) return;
  const stream = await zip.openReadStreamPromise(entry);
  const kept: Buffer[] = [];
  let size = 0;
  try {
    for await (const piece of stream as AsyncIterable<Buffer>) {
      size += piece.length;
      found.left -= piece.length;
      const isInner = size === piece.length ? isZip(piece) : kept.length > 0;
      if (isInner && size <= INNER_BYTES) kept.push(piece);
      if (found.left <= 0) return;
    }
  } catch (error) {
    // The library tells what is longer or shorter than it says.
    if (!(error instanceof Error) || !/too many bytes|not enough bytes/.test(error.message)) throw error;
    found.lies = true;
    return;
  }
  if (kept.length === 0) return;
  found.depth = Math.max(found.depth, depth + 1);
  if (size > INNER_BYTES || depth >= ARCHIVE_LIMITS.depth) return;
  const inner = await fromBufferPromise(Buffer.concat(kept), HOW).catch(() => null);
  if (inner) await measureZip(inner, found, depth + 1);
}

const isZip = (piece: Buffer): boolean => piece.subarray(0, ZIP_BEGINS.length).equals(ZIP_BEGINS);
