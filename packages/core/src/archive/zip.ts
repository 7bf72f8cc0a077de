import { utf8Bytes } from '../text/utf8.js';

/** One entry of an archive. A folder has `source: null`, size 0 and a path that ends with a slash. */
export interface ZipEntry<S> {
  /** Relative, safe, with forward slashes. */
  path: string;
  sizeBytes: number;
  crc32: number;
  /** Milliseconds since 1970, UTC. */
  modifiedAt: number;
  source: S | null;
}

/**
 * A stretch of the finished archive: bytes made here, or the whole content of a source. `offset` is where it begins.
 */
export type ZipSegment<S> = { offset: number; length: number } & ({ bytes: Uint8Array } | { source: S });

/**
 * Where everything lies in an archive, held compactly: one of a hundred thousand files is a few arrays, not half a
 * million objects.
 */
export interface ZipPlan<S> {
  /** The exact size of the archive. */
  sizeBytes: number;
  /** The local headers, one after another; header i is from `headFrom[i]` to `headFrom[i + 1]`. */
  heads: Uint8Array;
  headFrom: Uint32Array;
  /** Where entry i begins in the archive; one more for where the central directory does. */
  entryAt: Float64Array;
  sources: (S | null)[];
  /** The central directory and its end. */
  tail: Uint8Array;
}

const MAX32 = 0xffffffff;
const MAX16 = 0xffff;
/**
 * Longer paths are not archived: Linux opens none (limits.h, PATH_MAX), and Windows fewer. The format ends at 65,535
 * bytes.
 */
export const ARCHIVE_PATH_MOST_BYTES = 4096;
/** General purpose bit 11: names are UTF-8 (APPNOTE 6.3.x §4.4.4). */
const FLAG_UTF8 = 0x0800;

/**
 * Lays out an archive of stored entries whose sizes and CRCs are known beforehand, so that its size is exact and any
 * byte range of it can be sent on its own. ZIP64 fields appear only where a size, an offset or the count needs them
 * (PKWARE APPNOTE 6.3.x, §4.3.7, §4.3.12, §4.3.14 to §4.3.16, §4.5.3; extended timestamp 0x5455 as Info-ZIP defines
 * it).
 * @throws RangeError for an unsafe path, or one of more than {@link ARCHIVE_PATH_MOST_BYTES}
 */
export function planZip<S>(entries: readonly ZipEntry<S>[]): ZipPlan<S> {
  const names = entries.map((entry) => {
    assertSafePath(entry.path);
    const name = utf8Bytes(entry.path);
    if (name.length > ARCHIVE_PATH_MOST_BYTES) throw new RangeError('a path is too long for an archive');
    return name;
  });
  const headFrom = new Uint32Array(entries.length + 1);
  const entryAt = new Float64Array(entries.length + 1);
  entries.forEach((entry, i) => {
    const length = 30 + (names[i] as Uint8Array).length + TIME_EXTRA + (isBig(entry) ? 20 : 0);
    headFrom[i + 1] = (headFrom[i] as number) + length;
    entryAt[i + 1] = (entryAt[i] as number) + length + (entry.source === null ? 0 : entry.sizeBytes);
  });
  const heads = new Writer(headFrom[entries.length] as number);
  const directoryBytes = entries.reduce(
    (sum, entry, i) =>
      sum + 46 + (names[i] as Uint8Array).length + TIME_EXTRA + wideLength(entry, entryAt[i] as number),
    0,
  );
  const directoryAt = entryAt[entries.length] as number;
  const tail = new Writer(directoryBytes + endLength(entries.length, directoryBytes, directoryAt));
  entries.forEach((entry, i) => {
    localHeader(heads, entry, names[i] as Uint8Array);
    centralHeader(tail, entry, names[i] as Uint8Array, entryAt[i] as number);
  });
  endOfDirectory(tail, entries.length, directoryBytes, directoryAt);
  return {
    sizeBytes: directoryAt + tail.done().length,
    heads: heads.done(),
    headFrom,
    entryAt,
    sources: entries.map((e) => e.source),
    tail: tail.done(),
  };
}

/** The segments that hold the bytes from `start` to `end` (exclusive), the first found by binary search. */
export function* segmentsWithin<S>(plan: ZipPlan<S>, start = 0, end = plan.sizeBytes): Generator<ZipSegment<S>> {
  const { sources, headFrom, entryAt } = plan;
  let low = 0;
  let high = sources.length;
  while (low < high) {
    const middle = (low + high) >> 1;
    if ((entryAt[middle + 1] as number) <= start) low = middle + 1;
    else high = middle;
  }
  for (let i = low; i < sources.length && (entryAt[i] as number) < end; i += 1) {
    const offset = entryAt[i] as number;
    const length = (headFrom[i + 1] as number) - (headFrom[i] as number);
    const content = offset + length;
    const contentLength = (entryAt[i + 1] as number) - content;
    if (content > start) yield { offset, length, bytes: plan.heads.subarray(headFrom[i], headFrom[i + 1]) };
    if (contentLength > 0 && content < end) yield { offset: content, length: contentLength, source: sources[i] as S };
  }
  const tailAt = entryAt[sources.length] as number;
  if (end > tailAt) yield { offset: tailAt, length: plan.tail.length, bytes: plan.tail };
}

/** Paths must stay inside the folder they are unpacked in (APPNOTE §4.4.17.1: relative, forward slashes). */
function assertSafePath(path: string): void {
  const parts = path.replace(/\/$/, '').split('/');
  if (
    path === '' ||
    parts.some((p) => p === '' || p === '.' || p === '..') ||
    /[\\\0]/.test(path) ||
    /^[A-Za-z]:/.test(path)
  ) {
    throw new RangeError(`not a safe path: ${JSON.stringify(path)}`);
  }
}

const isBig = (entry: ZipEntry<unknown>): boolean => entry.sizeBytes >= MAX32;
/** Length of the extended timestamp field. */
const TIME_EXTRA = 9;
/** Length of the ZIP64 field of a central header: its own four bytes, and eight for each value that does not fit. */
function wideLength(entry: ZipEntry<unknown>, at: number): number {
  const values = (isBig(entry) ? 2 : 0) + (at >= MAX32 ? 1 : 0);
  return values === 0 ? 0 : 4 + values * 8;
}

function localHeader(out: Writer, entry: ZipEntry<unknown>, name: Uint8Array): void {
  const big = isBig(entry);
  out.u32(0x04034b50).u16(versionNeeded(entry, big)).u16(FLAG_UTF8).u16(0);
  out.dosTime(entry.modifiedAt).u32(entry.crc32);
  out.u32(big ? MAX32 : entry.sizeBytes).u32(big ? MAX32 : entry.sizeBytes);
  out
    .u16(name.length)
    .u16(TIME_EXTRA + (big ? 20 : 0))
    .raw(name);
  timeExtra(out, entry.modifiedAt);
  // §4.5.3: in a local header both sizes must be present when one is.
  if (big) out.u16(0x0001).u16(16).u64(entry.sizeBytes).u64(entry.sizeBytes);
}

function centralHeader(out: Writer, entry: ZipEntry<unknown>, name: Uint8Array, at: number): void {
  const wide = wideLength(entry, at);
  const folder = entry.path.endsWith('/');
  // Made by Unix (3), so that the mode in the upper half of the external attributes counts: 0644, or 0755 with the
  // MS-DOS folder bit.
  const mode = folder ? 0o040755 : 0o100644;
  out
    .u32(0x02014b50)
    .u16((3 << 8) | 63)
    .u16(versionNeeded(entry, wide > 0))
    .u16(FLAG_UTF8)
    .u16(0);
  out.dosTime(entry.modifiedAt).u32(entry.crc32);
  out.u32(isBig(entry) ? MAX32 : entry.sizeBytes).u32(isBig(entry) ? MAX32 : entry.sizeBytes);
  out
    .u16(name.length)
    .u16(TIME_EXTRA + wide)
    .u16(0)
    .u16(0)
    .u16(0)
    .u32(mode * 65_536 + (folder ? 0x10 : 0));
  out.u32(at >= MAX32 ? MAX32 : at).raw(name);
  timeExtra(out, entry.modifiedAt);
  if (wide > 0) out.u16(0x0001).u16(wide - 4);
  if (isBig(entry)) out.u64(entry.sizeBytes).u64(entry.sizeBytes);
  if (at >= MAX32) out.u64(at);
}

const endIsWide = (count: number, length: number, at: number): boolean =>
  count >= MAX16 || length >= MAX32 || at >= MAX32;
const endLength = (count: number, length: number, at: number): number => 22 + (endIsWide(count, length, at) ? 76 : 0);

function endOfDirectory(out: Writer, count: number, length: number, at: number): void {
  if (endIsWide(count, length, at)) {
    out
      .u32(0x06064b50)
      .u64(44)
      .u16((3 << 8) | 63)
      .u16(45)
      .u32(0)
      .u32(0)
      .u64(count)
      .u64(count)
      .u64(length)
      .u64(at);
    out
      .u32(0x07064b50)
      .u32(0)
      .u64(at + length)
      .u32(1);
  }
  out.u32(0x06054b50).u16(0).u16(0).u16(Math.min(count, MAX16)).u16(Math.min(count, MAX16));
  out.u32(Math.min(length, MAX32)).u32(Math.min(at, MAX32)).u16(0);
}

// §4.4.3: 4.5 for ZIP64, 2.0 for folders, 1.0 otherwise.
function versionNeeded(entry: ZipEntry<unknown>, wide: boolean): number {
  return wide ? 45 : entry.path.endsWith('/') ? 20 : 10;
}

function timeExtra(out: Writer, modifiedAt: number): void {
  out
    .u16(0x5455)
    .u16(5)
    .u8(1)
    .u32(Math.floor(modifiedAt / 1000) >>> 0);
}

/** Little-endian fields into a buffer of known size. */
class Writer {
  private readonly out: Uint8Array;
  private readonly view: DataView;
  private at = 0;
  constructor(size: number) {
    this.out = new Uint8Array(size);
    this.view = new DataView(this.out.buffer);
  }
  u8(value: number): this {
    this.view.setUint8(this.at, value);
    this.at += 1;
    return this;
  }
  u16(value: number): this {
    this.view.setUint16(this.at, value, true);
    this.at += 2;
    return this;
  }
  u32(value: number): this {
    this.view.setUint32(this.at, value, true);
    this.at += 4;
    return this;
  }
  u64(value: number): this {
    this.view.setBigUint64(this.at, BigInt(value), true);
    this.at += 8;
    return this;
  }
  /**
   * MS-DOS time and date (two-second steps, 1980 to 2107), in UTC so that the archive is the same wherever it is made.
   */
  dosTime(ms: number): this {
    const d = new Date(Math.min(Math.max(ms, Date.UTC(1980, 0, 1)), Date.UTC(2107, 11, 31)));
    this.u16((d.getUTCHours() << 11) | (d.getUTCMinutes() << 5) | (d.getUTCSeconds() >> 1));
    return this.u16(((d.getUTCFullYear() - 1980) << 9) | ((d.getUTCMonth() + 1) << 5) | d.getUTCDate());
  }
  raw(bytes: Uint8Array): this {
    this.out.set(bytes, this.at);
    this.at += bytes.length;
    return this;
  }
  done(): Uint8Array {
    return this.out;
  }
}
