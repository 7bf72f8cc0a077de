/** What a browser says first on a TLS connection, before anything is encrypted (RFC 8446 §4.1.2). */
export interface Hello {
  /** The name it asks for (RFC 6066 §3), in small letters; null: none. */
  name: string | null;
  /** What it would speak (RFC 7301 §3.1): "h2", "http/1.1", "acme-tls/1". */
  protocols: string[];
}
/** 'more' while the hello is not complete; 'none' for what is no hello, or is too long. */
export type HelloVerdict = ({ outcome: 'hello' } & Hello) | { outcome: 'more' } | { outcome: 'none' };

const HANDSHAKE = 22;
const CLIENT_HELLO = 1;
const SERVER_NAME = 0;
const PROTOCOLS = 16;
/** A hello that is longer is no browser's (RFC 8446 §5.1 lets a record hold as much). */
export const HELLO_MOST = 16_384;

/** Reads a hello out of the first bytes of a connection. Never throws. */
export function clientHello(bytes: Buffer): HelloVerdict {
  const body = bodyOf(bytes);
  if (body === 'more' || body === 'none') return { outcome: body };
  try {
    const found: Hello = { name: null, protocols: [] };
    for (const { type, content } of extensionsOf(body)) {
      if (type === SERVER_NAME) found.name = nameIn(content);
      if (type === PROTOCOLS) found.protocols = protocolsIn(content);
    }
    return { outcome: 'hello', ...found };
  } catch {
    // Lengths that lead beyond the end.
    return { outcome: 'none' };
  }
}

function* extensionsOf(body: Buffer): Iterable<{ type: number; content: Buffer }> {
  // version 2, random 32, then session id, ciphers and compressions, each with its length before it.
  let at = 34;
  at += 1 + body.readUInt8(at);
  at += 2 + body.readUInt16BE(at);
  at += 1 + body.readUInt8(at);
  if (at + 2 > body.length) return;
  const end = at + 2 + body.readUInt16BE(at);
  at += 2;
  while (at + 4 <= end) {
    const length = body.readUInt16BE(at + 2);
    yield { type: body.readUInt16BE(at), content: body.subarray(at + 4, at + 4 + length) };
    at += 4 + length;
  }
}

function nameIn(content: Buffer): string | null {
  const name = content.toString('latin1', 5, 5 + content.readUInt16BE(3)).toLowerCase();
  return content.readUInt8(2) === 0 && /^[a-z0-9.-]{1,253}$/.test(name) ? name : null;
}

function protocolsIn(content: Buffer): string[] {
  const protocols: string[] = [];
  for (let at = 2; at < content.length && protocols.length < 20; at += 1 + content.readUInt8(at))
    protocols.push(content.toString('latin1', at + 1, at + 1 + content.readUInt8(at)));
  return protocols;
}

/** The body of the hello, put together from the records it came in (RFC 8446 §5.1). */
function bodyOf(bytes: Buffer): Buffer | 'more' | 'none' {
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
