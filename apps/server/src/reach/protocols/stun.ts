/** A binding request and its answer (RFC 8489 §5, §14.2): the address that the world sees the office as. */

const MAGIC_COOKIE = 0x2112a442;
const BINDING_REQUEST = 0x0001;
const BINDING_SUCCESS = 0x0101;
const XOR_MAPPED_ADDRESS = 0x0020;
const MAPPED_ADDRESS = 0x0001;

/** @param transactionId 12 random bytes */
export function encodeBinding(transactionId: Buffer): Buffer {
  const bytes = Buffer.alloc(20);
  bytes.writeUInt16BE(BINDING_REQUEST, 0);
  bytes.writeUInt32BE(MAGIC_COOKIE, 4);
  transactionId.copy(bytes, 8);
  return bytes;
}

/** The address in an answer; null for another transaction, an error or garbage. */
export function decodeBinding(bytes: Buffer, transactionId: Buffer): string | null {
  if (
    bytes.length < 20 ||
    bytes.readUInt16BE(0) !== BINDING_SUCCESS ||
    bytes.readUInt32BE(4) !== MAGIC_COOKIE ||
    !bytes.subarray(8, 20).equals(transactionId)
  )
    return null;
  if (20 + bytes.readUInt16BE(2) !== bytes.length) return null;
  let plain: string | null = null;
  for (let at = 20; at + 4 <= bytes.length;) {
    const type = bytes.readUInt16BE(at);
    const length = bytes.readUInt16BE(at + 2);
    const value = bytes.subarray(at + 4, at + 4 + length);
    if (value.length < length) return null;
    if (type === XOR_MAPPED_ADDRESS) return addressOf(value, bytes.subarray(4, 20));
    if (type === MAPPED_ADDRESS) plain = addressOf(value, Buffer.alloc(16));
    // §14: attributes are padded to four bytes.
    at += 4 + length + ((4 - (length % 4)) % 4);
  }
  return plain;
}

function addressOf(value: Buffer, mask: Buffer): string | null {
  const size = value[1] === 1 ? 4 : value[1] === 2 ? 16 : 0;
  if (size === 0 || value.length !== 4 + size) return null;
  const bytes = Array.from(value.subarray(4), (b, i) => b ^ (mask[i] as number));
  if (size === 4) return bytes.join('.');
  return Array.from({ length: 8 }, (_, i) =>
    (((bytes[i * 2] as number) << 8) | (bytes[i * 2 + 1] as number)).toString(16),
  ).join(':');
}
