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

/** A stretch of the finished archive: bytes made here, or the whole content of a source. `offset` is where it begins. */
export type ZipSegment<S> = { offset: number; length: number } & ({ bytes: Uint8Array } | { source: S });

export interface ZipPlan<S> {
  /** The exact size of the archive. */
  sizeBytes: number;
  segments: ZipSegment<S>[];
}

const MAX32 = 0xffffffff;
const MAX16 = 0xffff;
/** General purpose bit 11: names are UTF-8 (APPNOTE 6.3.x §4.4.4). */
const FLAG_UTF8 = 0x0800;

/**
 * Lays out an archive of stored entries whose sizes and CRCs are known beforehand, so that its size is exact and any
 * byte range of it can be sent on its own. ZIP64 fields appear only where a size, an offset or the count needs them
 * (PKWARE APPNOTE 6.3.x, §4.3.7, §4.3.12, §4.3.14 to §4.3.16, §4.5.3; extended timestamp 0x5455 as Info-ZIP defines it).
 * @throws RangeError for an unsafe path
 */
export function planZip<S>(entries: readonly ZipEntry<S>[]): ZipPlan<S> {
  const segments: ZipSegment<S>[] = [];
  const central: Uint8Array[] = [];
  let offset = 0;
  const add = (bytes: Uint8Array) => {
    segments.push({ offset, length: bytes.length, bytes });
    offset += bytes.length;
  };
  for (const entry of entries) {
    assertSafePath(entry.path);
    const name = utf8Bytes(entry.path);
    const at = offset;
    add(localHeader(entry, name));
    if (entry.source !== null && entry.sizeBytes > 0) {
      segments.push({ offset, length: entry.sizeBytes, source: entry.source });
      offset += entry.sizeBytes;
    }
    central.push(centralHeader(entry, name, at));
  }
  const directoryAt = offset;
  const directory = concat(central);
  add(directory);
  add(endOfDirectory(entries.length, directory.length, directoryAt));
  return { sizeBytes: offset, segments };
}

/** The segments that hold the bytes from `start` to `end` (exclusive), by binary search on their offsets. */
export function segmentsWithin<S>(plan: ZipPlan<S>, start: number, end: number): ZipSegment<S>[] {
  let low = 0;
  let high = plan.segments.length;
  while (low < high) {
    const middle = (low + high) >> 1;
    const segment = plan.segments[middle] as ZipSegment<S>;
    if (segment.offset + segment.length <= start) low = middle + 1;
    else high = middle;
  }
  const found: ZipSegment<S>[] = [];
  for (let i = low; i < plan.segments.length && (plan.segments[i] as ZipSegment<S>).offset < end; i += 1) found.push(plan.segments[i] as ZipSegment<S>);
  return found;
}

/** Paths must stay inside the folder they are unpacked in (APPNOTE §4.4.17.1: relative, forward slashes). */
function assertSafePath(path: string): void {
  const parts = path.replace(/\/$/, '').split('/');
  if (path === '' || parts.some((p) => p === '' || p === '.' || p === '..') || /[\\\0]/.test(path) || /^[A-Za-z]:/.test(path)) {
    throw new RangeError(`not a safe path: ${JSON.stringify(path)}`);
  }
}

function localHeader(entry: ZipEntry<unknown>, name: Uint8Array): Uint8Array {
  const big = entry.sizeBytes >= MAX32;
  // §4.5.3: in a local header both sizes must be present when one is.
  const extra = concat([timeExtra(entry.modifiedAt), big ? zip64Extra([entry.sizeBytes, entry.sizeBytes]) : EMPTY]);
  const out = new Writer(30 + name.length + extra.length);
  out.u32(0x04034b50).u16(versionNeeded(entry, big)).u16(FLAG_UTF8).u16(0);
  out.dosTime(entry.modifiedAt).u32(entry.crc32);
  out.u32(big ? MAX32 : entry.sizeBytes).u32(big ? MAX32 : entry.sizeBytes);
  return out.u16(name.length).u16(extra.length).raw(name).raw(extra).done();
}

function centralHeader(entry: ZipEntry<unknown>, name: Uint8Array, at: number): Uint8Array {
  const bigSize = entry.sizeBytes >= MAX32;
  const bigOffset = at >= MAX32;
  const wide = [...(bigSize ? [entry.sizeBytes, entry.sizeBytes] : []), ...(bigOffset ? [at] : [])];
  const extra = concat([timeExtra(entry.modifiedAt), wide.length ? zip64Extra(wide) : EMPTY]);
  const folder = entry.path.endsWith('/');
  // Made by Unix (3), so that the mode in the upper half of the external attributes counts: 0644, or 0755 with the MS-DOS folder bit.
  const mode = folder ? 0o040755 : 0o100644;
  const out = new Writer(46 + name.length + extra.length);
  out.u32(0x02014b50).u16((3 << 8) | 63).u16(versionNeeded(entry, bigSize || bigOffset)).u16(FLAG_UTF8).u16(0);
  out.dosTime(entry.modifiedAt).u32(entry.crc32);
  out.u32(bigSize ? MAX32 : entry.sizeBytes).u32(bigSize ? MAX32 : entry.sizeBytes);
  out.u16(name.length).u16(extra.length).u16(0).u16(0).u16(0).u32(mode * 65_536 + (folder ? 0x10 : 0));
  return out.u32(bigOffset ? MAX32 : at).raw(name).raw(extra).done();
}

function endOfDirectory(count: number, length: number, at: number): Uint8Array {
  const wide = count >= MAX16 || length >= MAX32 || at >= MAX32;
  const out = new Writer(22 + (wide ? 76 : 0));
  if (wide) {
    out.u32(0x06064b50).u64(44).u16((3 << 8) | 63).u16(45).u32(0).u32(0).u64(count).u64(count).u64(length).u64(at);
    out.u32(0x07064b50).u32(0).u64(at + length).u32(1);
  }
  out.u32(0x06054b50).u16(0).u16(0).u16(Math.min(count, MAX16)).u16(Math.min(count, MAX16));
  return out.u32(Math.min(length, MAX32)).u32(Math.min(at, MAX32)).u16(0).done();
}

// §4.4.3: 4.5 for ZIP64, 2.0 for folders, 1.0 otherwise.
function versionNeeded(entry: ZipEntry<unknown>, wide: boolean): number {
  return wide ? 45 : entry.path.endsWith('/') ? 20 : 10;
}

function timeExtra(modifiedAt: number): Uint8Array {
  const seconds = Math.floor(modifiedAt / 1000);
  return new Writer(9).u16(0x5455).u16(5).u8(1).u32(seconds >>> 0).done();
}

function zip64Extra(values: number[]): Uint8Array {
  const out = new Writer(4 + values.length * 8).u16(0x0001).u16(values.length * 8);
  for (const value of values) out.u64(value);
  return out.done();
}

const EMPTY = new Uint8Array(0);

function concat(parts: Uint8Array[]): Uint8Array {
  const out = new Writer(parts.reduce((sum, p) => sum + p.length, 0));
  for (const part of parts) out.raw(part);
  return out.done();
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
  /** MS-DOS time and date (two-second steps, 1980 to 2107), in UTC so that the archive is the same wherever it is made. */
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
