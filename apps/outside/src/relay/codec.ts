/** Reads the name a browser asks for out of the first bytes of a TLS connection (RFC 8446 §4.1.2; SNI: RFC 6066 §3). */
export type HelloVerdict = { outcome: 'name'; name: string } | { outcome: 'more' } | { outcome: 'none' };

const HANDSHAKE = 22;
const CLIENT_HELLO = 1;
const SERVER_NAME = 0;
const HELLO_MOST = 16_384;

/** 'more' while the hello is not complete; 'none' for what is no hello, has no name, or is too long. */
export function serverName(bytes: Buffer): HelloVerdict {
  const hello = helloOf(bytes);
  if (hello === 'more' || hello === 'none') return { outcome: hello };
  try {
    // version 2, random 32, then session id, ciphers and compressions, each with its length before it.
    let at = 34;
    at += 1 + hello.readUInt8(at);
    at += 2 + hello.readUInt16BE(at);
    at += 1 + hello.readUInt8(at);
    const end = at + 2 + hello.readUInt16BE(at);
    at += 2;
    while (at + 4 <= end) {
      const [type, length] = [hello.readUInt16BE(at), hello.readUInt16BE(at + 2)];
      if (type === SERVER_NAME) {
        const name = hello.toString('latin1', at + 9, at + 9 + hello.readUInt16BE(at + 7)).toLowerCase();
        return hello.readUInt8(at + 6) === 0 && /^[a-z0-9.-]{1,253}$/.test(name)
          ? { outcome: 'name', name }
          : { outcome: 'none' };
      }
      at += 4 + length;
    }
  } catch {
    // Lengths that lead beyond the end.
  }
  return { outcome: 'none' };
}

/** The body of the hello, put together from the records it came in (RFC 8446 §5.1). */
function helloOf(bytes: Buffer): Buffer | 'more' | 'none' {
  const parts: Buffer[] = [];
  let gathered = 0;
  for (let at = 0; at < HELLO_MOST;) {
    if (bytes.length < at + 5)
      return bytes.length > 0 && bytes[at] !== undefined && bytes[at] !== HANDSHAKE ? 'none' : 'more';
    if (bytes[at] !== HANDSHAKE || bytes[at + 1] !== 3) return 'none';
    const length = bytes.readUInt16BE(at + 3);
    const part = bytes.subarray(at + 5, at + 5 + length);
    parts.push(part);
    gathered += part.length;
    const body = Buffer.concat(parts);
    if (body.length >= 4) {
      if (body[0] !== CLIENT_HELLO) return 'none';
      const whole = body.readUIntBE(1, 3);
      if (whole > HELLO_MOST) return 'none';
      if (gathered >= 4 + whole) return body.subarray(4, 4 + whole);
    }
    if (part.length < length) return 'more';
    at += 5 + length;
  }
  return 'none';
}
