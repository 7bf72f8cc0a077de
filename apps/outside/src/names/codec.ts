/** DNS messages as bytes and as values (RFC 1035 §4; updates RFC 2136 §2; TSIG RFC 8945 §4). */

export const TYPE = { A: 1, NS: 2, CNAME: 5, SOA: 6, TXT: 16, AAAA: 28, TSIG: 250, ANY: 255 } as const;
export const CLASS = { IN: 1, NONE: 254, ANY: 255 } as const;
export const RCODE = {
  NOERROR: 0,
  FORMERR: 1,
  SERVFAIL: 2,
  NXDOMAIN: 3,
  NOTIMP: 4,
  REFUSED: 5,
  YXDOMAIN: 6,
  YXRRSET: 7,
  NXRRSET: 8,
  NOTAUTH: 9,
  NOTZONE: 10,
} as const;
export const OPCODE = { QUERY: 0, UPDATE: 5 } as const;

export interface Question {
  name: string;
  type: number;
  class: number;
}
/** A resource record; `data` is its RDATA with names in it uncompressed. */
export interface ResourceRecord extends Question {
  ttl: number;
  data: Buffer;
}
export interface Message {
  id: number;
  response: boolean;
  opcode: number;
  authoritative: boolean;
  truncated: boolean;
  recursionDesired: boolean;
  rcode: number;
  /** Zone, in an update. */
  questions: Question[];
  /** Prerequisites, in an update. */
  answers: ResourceRecord[];
  /** Changes, in an update. */
  authorities: ResourceRecord[];
  additionals: ResourceRecord[];
}

export class BadMessage extends Error {}

/** Reads a message. @throws BadMessage for what is cut off, loops, or has bytes too many */
export function decode(
  bytes: Buffer,
): Message & { /** Where the last additional record begins: a TSIG is signed without it. */ lastRecordAt: number } {
  if (bytes.length < 12) throw new BadMessage('shorter than a header');
  const flags = bytes.readUInt16BE(2);
  const counts = [4, 6, 8, 10].map((at) => bytes.readUInt16BE(at)) as [number, number, number, number];
  const reader = new Reader(bytes, 12);
  const questions = Array.from({ length: counts[0] }, () => ({
    name: reader.name(),
    type: reader.u16(),
    class: reader.u16(),
  }));
  let lastRecordAt = bytes.length;
  const records = (count: number) =>
    Array.from({ length: count }, () => {
      lastRecordAt = reader.at;
      return reader.record();
    });
  const [answers, authorities, additionals] = [records(counts[1]), records(counts[2]), records(counts[3])];
  return {
    id: bytes.readUInt16BE(0),
    response: (flags & 0x8000) !== 0,
    opcode: (flags >> 11) & 15,
    authoritative: (flags & 0x0400) !== 0,
    truncated: (flags & 0x0200) !== 0,
    recursionDesired: (flags & 0x0100) !== 0,
    rcode: flags & 15,
    questions,
    answers,
    authorities,
    additionals,
    lastRecordAt,
  };
}

/** Writes a message, names uncompressed (RFC 1035 §4.1.4 leaves compression to the writer). */
export function encode(message: Message): Buffer {
  const head = Buffer.alloc(12);
  head.writeUInt16BE(message.id, 0);
  head.writeUInt16BE(
    (message.response ? 0x8000 : 0) |
      (message.opcode << 11) |
      (message.authoritative ? 0x0400 : 0) |
      (message.truncated ? 0x0200 : 0) |
      (message.recursionDesired ? 0x0100 : 0) |
      message.rcode,
    2,
  );
  [message.questions, message.answers, message.authorities, message.additionals].forEach((list, i) =>
    head.writeUInt16BE(list.length, 4 + i * 2),
  );
  return Buffer.concat([
    head,
    ...message.questions.map((q) => Buffer.concat([encodeName(q.name), u16(q.type), u16(q.class)])),
    ...[...message.answers, ...message.authorities, ...message.additionals].map(encodeRecord),
  ]);
}

export function encodeRecord(record: ResourceRecord): Buffer {
  return Buffer.concat([
    encodeName(record.name),
    u16(record.type),
    u16(record.class),
    u32(record.ttl),
    u16(record.data.length),
    record.data,
  ]);
}

/** A name as labels: at most 63 bytes each, 255 in all (RFC 1035 §2.3.4). Small letters, without the dot at the end. */
export function encodeName(name: string): Buffer {
  if (name === '') return Buffer.from([0]);
  const labels = name.split('.').map((label) => Buffer.from(label, 'latin1'));
  if (labels.some((l) => l.length === 0 || l.length > 63)) throw new BadMessage(`not a name: ${name}`);
  const bytes = Buffer.concat([...labels.flatMap((l) => [Buffer.from([l.length]), l]), Buffer.from([0])]);
  if (bytes.length > 255) throw new BadMessage(`a name of ${bytes.length} bytes`);
  return bytes;
}

class Reader {
  constructor(
    private readonly bytes: Buffer,
    public at: number,
  ) {}

  u16(): number {
    return this.take(2).readUInt16BE(0);
  }
  u32(): number {
    return this.take(4).readUInt32BE(0);
  }
  take(length: number): Buffer {
    if (this.at + length > this.bytes.length) throw new BadMessage('cut off');
    this.at += length;
    return this.bytes.subarray(this.at - length, this.at);
  }
  name(): string {
    const { name, next } = readName(this.bytes, this.at);
    this.at = next;
    return name;
  }
  record(): ResourceRecord {
    const head = { name: this.name(), type: this.u16(), class: this.u16(), ttl: this.u32() };
    const length = this.u16();
    const from = this.at;
    this.take(length);
    return { ...head, data: plainData(this.bytes, head.type, from, length) };
  }
}

/** A name at a place, following pointers backwards only, so that none can loop. */
export function readName(bytes: Buffer, from: number): { name: string; next: number } {
  const labels: string[] = [];
  let [at, next, lowest] = [from, -1, from];
  for (;;) {
    const length = bytes[at];
    if (length === undefined) throw new BadMessage('a name is cut off');
    if (length === 0) return { name: labels.join('.').toLowerCase(), next: next === -1 ? at + 1 : next };
    if ((length & 0xc0) === 0xc0) {
      const to = ((length & 0x3f) << 8) | (bytes[at + 1] ?? 0);
      if (next === -1) next = at + 2;
      if (to >= lowest) throw new BadMessage('a name points forward');
      lowest = to;
      at = to;
      continue;
    }
    if (length > 63 || at + 1 + length > bytes.length) throw new BadMessage('a label is too long');
    labels.push(bytes.toString('latin1', at + 1, at + 1 + length));
    if (labels.length > 127) throw new BadMessage('too many labels');
    at += 1 + length;
  }
}

/** RDATA with the names in it written out, so that it can be kept and sent elsewhere. */
function plainData(bytes: Buffer, type: number, from: number, length: number): Buffer {
  if (length === 0) return Buffer.alloc(0);
  if (type === TYPE.NS || type === TYPE.CNAME) return encodeName(readName(bytes, from).name);
  if (type === TYPE.SOA) {
    const primary = readName(bytes, from);
    const mailbox = readName(bytes, primary.next);
    return Buffer.concat([
      encodeName(primary.name),
      encodeName(mailbox.name),
      bytes.subarray(mailbox.next, from + length),
    ]);
  }
  return Buffer.from(bytes.subarray(from, from + length));
}

export interface Tsig {
  keyName: string;
  algorithm: string;
  signedAtSeconds: number;
  fudgeSeconds: number;
  mac: Buffer;
  originalId: number;
  error: number;
  other: Buffer;
}

/** The RDATA of a TSIG record (RFC 8945 §4.2). */
export function decodeTsig(record: ResourceRecord): Tsig {
  const { name: algorithm, next } = readName(record.data, 0);
  const reader = new Reader(record.data, next);
  const signedAtSeconds = reader.u16() * 2 ** 32 + reader.u32();
  const fudgeSeconds = reader.u16();
  const mac = Buffer.from(reader.take(reader.u16()));
  const [originalId, error] = [reader.u16(), reader.u16()];
  return {
    keyName: record.name,
    algorithm,
    signedAtSeconds,
    fudgeSeconds,
    mac,
    originalId,
    error,
    other: Buffer.from(reader.take(reader.u16())),
  };
}

export function encodeTsig(tsig: Tsig): ResourceRecord {
  const data = Buffer.concat([
    encodeName(tsig.algorithm),
    u48(tsig.signedAtSeconds),
    u16(tsig.fudgeSeconds),
    u16(tsig.mac.length),
    tsig.mac,
    u16(tsig.originalId),
    u16(tsig.error),
    u16(tsig.other.length),
    tsig.other,
  ]);
  return { name: tsig.keyName, type: TYPE.TSIG, class: CLASS.ANY, ttl: 0, data };
}

/** What is signed besides the message (RFC 8945 §4.3.3): the variables of the TSIG record. */
export function tsigVariables(tsig: Tsig): Buffer {
  return Buffer.concat([
    encodeName(tsig.keyName),
    u16(CLASS.ANY),
    u32(0),
    encodeName(tsig.algorithm),
    u48(tsig.signedAtSeconds),
    u16(tsig.fudgeSeconds),
    u16(tsig.error),
    u16(tsig.other.length),
    tsig.other,
  ]);
}

export function u16(value: number): Buffer {
  const bytes = Buffer.alloc(2);
  bytes.writeUInt16BE(value);
  return bytes;
}
export function u32(value: number): Buffer {
  const bytes = Buffer.alloc(4);
  bytes.writeUInt32BE(value);
  return bytes;
}
function u48(value: number): Buffer {
  const bytes = Buffer.alloc(6);
  bytes.writeUIntBE(value, 0, 6);
  return bytes;
}
