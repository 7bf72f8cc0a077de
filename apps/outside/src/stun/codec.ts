/** STUN binding requests as bytes and as values (RFC 8489 §5, §14). */

const MAGIC = 0x2112a442;
const BINDING_REQUEST = 0x0001;
const BINDING_SUCCESS = 0x0101;
const BINDING_ERROR = 0x0111;
const XOR_MAPPED_ADDRESS = 0x0020;
const ERROR_CODE = 0x0009;
const UNKNOWN_ATTRIBUTES = 0x000a;
const SOFTWARE = 0x8022;

export interface BindingRequest {
  transactionId: Buffer;
  /** Attributes below 0x8000 that are not known: they must be refused (§6.3.1). */
  unknown: number[];
}

/** Reads a request; null for whatever is none, which gets no answer (§6.3). */
export function decodeBinding(bytes: Buffer): BindingRequest | null {
  if (bytes.length < 20 || bytes.readUInt16BE(0) !== BINDING_REQUEST || bytes.readUInt32BE(4) !== MAGIC) return null;
  const length = bytes.readUInt16BE(2);
  if (length % 4 !== 0 || bytes.length !== 20 + length) return null;
  const unknown: number[] = [];
  for (let at = 20; at + 4 <= bytes.length;) {
    const type = bytes.readUInt16BE(at);
    // Comprehension-required attributes: this responder needs none of those that are defined.
    if (type < 0x8000) unknown.push(type);
    at += 4 + Math.ceil(bytes.readUInt16BE(at + 2) / 4) * 4;
  }
  return { transactionId: Buffer.from(bytes.subarray(8, 20)), unknown };
}

/** The answer that tells an asker the address it is seen from (§14.2: XORed with the magic cookie). */
export function encodeSuccess(transactionId: Buffer, address: string, port: number): Buffer {
  const value = Buffer.alloc(8);
  value[1] = 1;
  value.writeUInt16BE(port ^ (MAGIC >>> 16), 2);
  const octets = address.split('.').map(Number);
  value.writeUInt32BE((Buffer.from(octets).readUInt32BE(0) ^ MAGIC) >>> 0, 4);
  return message(BINDING_SUCCESS, transactionId, [
    [XOR_MAPPED_ADDRESS, value],
    [SOFTWARE, Buffer.from('outside world')],
  ]);
}

/** 420, Unknown Attribute (§14.8). */
export function encodeUnknown(transactionId: Buffer, unknown: number[]): Buffer {
  const types = Buffer.alloc(unknown.length * 2);
  unknown.forEach((type, i) => types.writeUInt16BE(type, i * 2));
  return message(BINDING_ERROR, transactionId, [
    [ERROR_CODE, Buffer.concat([Buffer.from([0, 0, 4, 20]), Buffer.from('Unknown Attribute')])],
    [UNKNOWN_ATTRIBUTES, types],
  ]);
}

function message(type: number, transactionId: Buffer, attributes: [type: number, value: Buffer][]): Buffer {
  const body = Buffer.concat(
    attributes.map(([kind, value]) => {
      const head = Buffer.alloc(4);
      head.writeUInt16BE(kind, 0);
      head.writeUInt16BE(value.length, 2);
      return Buffer.concat([head, value, Buffer.alloc((4 - (value.length % 4)) % 4)]);
    }),
  );
  const head = Buffer.alloc(8);
  head.writeUInt16BE(type, 0);
  head.writeUInt16BE(body.length, 2);
  head.writeUInt32BE(MAGIC, 4);
  return Buffer.concat([head, transactionId, body]);
}
