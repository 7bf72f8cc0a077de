import { createHmac, randomInt, timingSafeEqual } from 'node:crypto';

/** Dynamic updates of a zone, signed: RFC 2136 and RFC 8945 with hmac-sha256. Bytes and values; no sockets. */

const TYPE = { A: 1, SOA: 6, TXT: 16, AAAA: 28, TSIG: 250 } as const;
const CLASS = { IN: 1, ANY: 255 } as const;
const OPCODE_UPDATE = 5;
const FUDGE_SECONDS = 300;
const ALGORITHM = 'hmac-sha256';

export interface TsigKey {
  name: string;
  secret: Buffer;
}

/** What a name shall have: every record of the type is replaced; null: none is left. */
export interface RecordChange {
  name: string;
  type: 'A' | 'AAAA' | 'TXT';
  value: string | null;
  ttlSeconds: number;
}

/** An answer, judged. Codes are RFC 1035 §4.1.1 and RFC 2136 §2.2; for a bad signature RFC 8945 §5.2. */
export type UpdateAnswer = { outcome: 'done' } | { outcome: 'refused'; code: string } | { outcome: 'not-signed' };

const RCODES = [
  'NOERROR',
  'FORMERR',
  'SERVFAIL',
  'NXDOMAIN',
  'NOTIMP',
  'REFUSED',
  'YXDOMAIN',
  'YXRRSET',
  'NXRRSET',
  'NOTAUTH',
  'NOTZONE',
];
const TSIG_ERRORS: Record<number, string> = { 16: 'BADSIG', 17: 'BADKEY', 18: 'BADTIME', 22: 'BADTRUNC' };

/** Makes a signed update. `mac` is needed to check the answer, which is signed over it (RFC 8945 §5.3). */
export function encodeUpdate(
  zone: string,
  changes: readonly RecordChange[],
  key: TsigKey,
  nowSeconds: number,
  id = randomInt(0x10000),
): { bytes: Buffer; id: number; mac: Buffer } {
  const records = changes.flatMap((c) => {
    const type = TYPE[c.type];
    // RFC 2136 §2.5.2: the whole set goes; §2.5.1: then what it shall be is added.
    const gone = record(c.name, type, CLASS.ANY, 0, Buffer.alloc(0));
    return c.value === null ? [gone] : [gone, record(c.name, type, CLASS.IN, c.ttlSeconds, rdata(c.type, c.value))];
  });
  const head = Buffer.alloc(12);
  head.writeUInt16BE(id, 0);
  head.writeUInt16BE(OPCODE_UPDATE << 11, 2);
  head.writeUInt16BE(1, 4);
  head.writeUInt16BE(records.length, 8);
  const unsigned = Buffer.concat([head, name(zone), u16(TYPE.SOA), u16(CLASS.IN), ...records]);
  const mac = createHmac('sha256', key.secret)
    .update(unsigned)
    .update(variables(key.name, nowSeconds, 0, Buffer.alloc(0)))
    .digest();
  const bytes = Buffer.concat([unsigned, tsigRecord(key.name, nowSeconds, mac, id)]);
  bytes.writeUInt16BE(1, 10);
  return { bytes, id, mac };
}

/** Reads the answer to an update; null for what is none of ours: another id, no answer, garbage. */
export function decodeUpdateAnswer(
  bytes: Buffer,
  id: number,
  requestMac: Buffer,
  key: TsigKey,
  nowSeconds: number,
): UpdateAnswer | null {
  try {
    if (bytes.length < 12 || bytes.readUInt16BE(0) !== id) return null;
    const flags = bytes.readUInt16BE(2);
    if ((flags & 0x8000) === 0 || ((flags >> 11) & 15) !== OPCODE_UPDATE) return null;
    const code = flags & 15;
    const tsig = lastTsig(bytes);
    if (!tsig)
      return code === 0 ? { outcome: 'not-signed' } : { outcome: 'refused', code: RCODES[code] ?? String(code) };
    if (tsig.error !== 0 && tsig.mac.length === 0)
      return { outcome: 'refused', code: TSIG_ERRORS[tsig.error] ?? `TSIG ${tsig.error}` };
    const unsigned = Buffer.from(bytes.subarray(0, tsig.at));
    unsigned.writeUInt16BE(tsig.originalId, 0);
    unsigned.writeUInt16BE(bytes.readUInt16BE(10) - 1, 10);
    const expected = createHmac('sha256', key.secret)
      .update(u16(requestMac.length))
      .update(requestMac)
      .update(unsigned)
      .update(variables(key.name, tsig.signedAt, tsig.error, tsig.other))
      .digest();
    const good =
      tsig.keyName === key.name.toLowerCase() &&
      tsig.mac.length === expected.length &&
      timingSafeEqual(tsig.mac, expected) &&
      Math.abs(nowSeconds - tsig.signedAt) <= FUDGE_SECONDS;
    if (!good) return { outcome: 'not-signed' };
    if (tsig.error !== 0) return { outcome: 'refused', code: TSIG_ERRORS[tsig.error] ?? `TSIG ${tsig.error}` };
    return code === 0 ? { outcome: 'done' } : { outcome: 'refused', code: RCODES[code] ?? String(code) };
  } catch {
    return null;
  }
}

function rdata(type: RecordChange['type'], value: string): Buffer {
  if (type === 'A') return Buffer.from(value.split('.').map(Number));
  if (type === 'AAAA') return Buffer.from(expanded(value).flatMap((w) => [w >> 8, w & 255]));
  const text = Buffer.from(value, 'latin1');
  return Buffer.concat(
    Array.from({ length: Math.max(1, Math.ceil(text.length / 255)) }, (_, i) =>
      text.subarray(i * 255, (i + 1) * 255),
    ).flatMap((part) => [Buffer.from([part.length]), part]),
  );
}

function expanded(address: string): number[] {
  const [before = '', after] = address.split('::');
  const words = (text: string) => (text ? text.split(':').map((w) => parseInt(w, 16)) : []);
  const [head, tail] = [words(before), after === undefined ? [] : words(after)];
  return [...head, ...Array<number>(8 - head.length - tail.length).fill(0), ...tail];
}

function record(owner: string, type: number, cls: number, ttl: number, data: Buffer): Buffer {
  return Buffer.concat([name(owner), u16(type), u16(cls), u32(ttl), u16(data.length), data]);
}

/** A name as labels; small letters, as RFC 8945 §4.3.3 wants what is signed. @throws RangeError for what is no name */
function name(text: string): Buffer {
  const labels = text
    .toLowerCase()
    .replace(/\.$/, '')
    .split('.')
    .map((l) => Buffer.from(l, 'latin1'));
  if (labels.some((l) => l.length === 0 || l.length > 63)) throw new RangeError(`not a name: ${text}`);
  return Buffer.concat([...labels.flatMap((l) => [Buffer.from([l.length]), l]), Buffer.from([0])]);
}

/** RFC 8945 §4.3.3. */
function variables(keyName: string, signedAt: number, error: number, other: Buffer): Buffer {
  return Buffer.concat([
    name(keyName),
    u16(CLASS.ANY),
    u32(0),
    name(ALGORITHM),
    u48(signedAt),
    u16(FUDGE_SECONDS),
    u16(error),
    u16(other.length),
    other,
  ]);
}

function tsigRecord(keyName: string, signedAt: number, mac: Buffer, id: number): Buffer {
  return record(
    keyName,
    TYPE.TSIG,
    CLASS.ANY,
    0,
    Buffer.concat([name(ALGORITHM), u48(signedAt), u16(FUDGE_SECONDS), u16(mac.length), mac, u16(id), u16(0), u16(0)]),
  );
}

interface ReadTsig {
  at: number;
  keyName: string;
  signedAt: number;
  mac: Buffer;
  originalId: number;
  error: number;
  other: Buffer;
}

/** The TSIG record at the end of a message; null when there is none. @throws RangeError where the message is cut off */
function lastTsig(bytes: Buffer): ReadTsig | null {
  let at = 12;
  for (let n = bytes.readUInt16BE(4); n > 0; n -= 1) at = skipName(bytes, at) + 4;
  const records = bytes.readUInt16BE(6) + bytes.readUInt16BE(8) + bytes.readUInt16BE(10);
  let start = at;
  for (let n = records; n > 0; n -= 1) {
    start = at;
    at = skipName(bytes, at);
    at += 10 + bytes.readUInt16BE(at + 8);
    if (at > bytes.length) throw new RangeError('cut off');
  }
  const fixed = records > 0 ? skipName(bytes, start) : 0;
  if (records === 0 || bytes.readUInt16BE(10) === 0 || bytes.readUInt16BE(fixed) !== TYPE.TSIG) return null;
  const data = bytes.subarray(fixed + 10, at);
  const from = skipName(data, 0);
  const macLength = data.readUInt16BE(from + 8);
  const after = from + 10 + macLength;
  const otherLength = data.readUInt16BE(after + 4);
  return {
    at: start,
    keyName: plainName(bytes, start),
    signedAt: data.readUIntBE(from, 6),
    mac: data.subarray(from + 10, after),
    originalId: data.readUInt16BE(after),
    error: data.readUInt16BE(after + 2),
    other: data.subarray(after + 6, after + 6 + otherLength),
  };
}

/** Where the bytes after a name begin; a pointer ends it (RFC 1035 §4.1.4). */
function skipName(bytes: Buffer, from: number): number {
  for (let at = from; ;) {
    const length = bytes.readUInt8(at);
    if (length === 0) return at + 1;
    if ((length & 0xc0) === 0xc0) return at + 2;
    at += 1 + length;
  }
}

function plainName(bytes: Buffer, from: number): string {
  const labels: string[] = [];
  for (let at = from, hops = 0; hops < 128; hops += 1) {
    const length = bytes.readUInt8(at);
    if (length === 0) break;
    if ((length & 0xc0) === 0xc0) at = bytes.readUInt16BE(at) & 0x3fff;
    else {
      labels.push(bytes.toString('latin1', at + 1, at + 1 + length));
      at += 1 + length;
    }
  }
  return labels.join('.').toLowerCase();
}

function u16(value: number): Buffer {
  return Buffer.from([value >> 8, value & 255]);
}
function u32(value: number): Buffer {
  const bytes = Buffer.alloc(4);
  bytes.writeUInt32BE(value);
  return bytes;
}
function u48(value: number): Buffer {
  const bytes = Buffer.alloc(6);
  bytes.writeUIntBE(value, 0, 6);
  return bytes;
}
