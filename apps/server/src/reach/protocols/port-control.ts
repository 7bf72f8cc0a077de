import { addressBytes } from '@quay/core';

/** PCP (RFC 6887) and NAT-PMP (RFC 6886) as bytes and values, for TCP. Both are spoken to port 5351 of the router. */

export const PORT_CONTROL_PORT = 5351;
const TCP = 6;

export interface MapAsk {
  internalPort: number;
  externalPort: number;
  /** 0 removes the mapping. */
  lifetimeSeconds: number;
}
export type MapAnswer =
  | { outcome: 'granted'; externalPort: number; externalAddress: string | null; lifetimeSeconds: number; epoch: number }
  | { outcome: 'refused'; code: number; words: string };

/** RFC 6887 §7.4, as far as a server says them to a client that asks well. */
const PCP_WORDS: Record<number, string> = {
  1: 'it speaks another version',
  2: 'it does not allow this',
  3: 'the request was malformed',
  4: 'it knows no such request',
  6: 'an option is malformed',
  7: 'the network is in trouble',
  8: 'it has no room for another mapping',
  9: 'it does not map this protocol',
  10: 'this client has too many mappings',
  11: 'that outside address cannot be given',
  12: 'the address it sees is another than the one we said',
  13: 'there are too many remote peers',
};
/** RFC 6886 §3.5. */
const PMP_WORDS: Record<number, string> = {
  1: 'it speaks another version',
  2: 'it does not allow this',
  3: 'it is not connected',
  4: 'it has no room for another mapping',
  5: 'it knows no such request',
};

/**
 * RFC 6887 §7.1 and §11.1. @param nonce 12 random bytes, the same for each renewal; @param client this machine's
 * address
 */
export function encodePcpMap(ask: MapAsk, client: string, nonce: Buffer): Buffer {
  const bytes = Buffer.alloc(60);
  bytes[0] = 2;
  bytes[1] = 1;
  bytes.writeUInt32BE(ask.lifetimeSeconds, 4);
  mapped(client).copy(bytes, 8);
  nonce.copy(bytes, 24);
  bytes[36] = TCP;
  bytes.writeUInt16BE(ask.internalPort, 40);
  bytes.writeUInt16BE(ask.externalPort, 42);
  // §11.1: no suggestion is ::ffff:0:0 for IPv4, and :: for IPv6.
  mapped(client.includes(':') ? '::' : '0.0.0.0').copy(bytes, 44);
  return bytes;
}

/** RFC 6887 §14.1: says nothing and asks for nothing; the answer bears the router's age. */
export function encodePcpAnnounce(client: string): Buffer {
  const bytes = Buffer.alloc(24);
  bytes[0] = 2;
  mapped(client).copy(bytes, 8);
  return bytes;
}

/** The router's age in seconds; null for what is no answer to it. */
export function decodePcpAnnounce(bytes: Buffer): number | null {
  const isAnswer = bytes.length >= 24 && bytes.length <= 1100 && bytes[0] === 2 && bytes[1] === 0x80 && bytes[3] === 0;
  return isAnswer ? bytes.readUInt32BE(8) : null;
}

/**
 * The answer to a MAP request; null for what answers another request, or is garbage. 'other-version' when only NAT-PMP
 * is spoken.
 */
export function decodePcpMap(bytes: Buffer, ask: MapAsk, nonce: Buffer): MapAnswer | 'other-version' | null {
  // §9: a NAT-PMP server answers with version 0 and result 1.
  if (bytes.length >= 8 && bytes[0] === 0 && bytes.readUInt16BE(2) === 1) return 'other-version';
  if (bytes.length < 24 || bytes.length > 1100 || bytes.length % 4 !== 0 || bytes[0] !== 2 || bytes[1] !== 0x81)
    return null;
  const code = bytes[3] as number;
  if (code === 1) return 'other-version';
  if (
    bytes.length < 60 ||
    !bytes.subarray(24, 36).equals(nonce) ||
    bytes[36] !== TCP ||
    bytes.readUInt16BE(40) !== ask.internalPort
  )
    return code !== 0 && bytes.length < 60
      ? { outcome: 'refused', code, words: PCP_WORDS[code] ?? `code ${code}` }
      : null;
  if (code !== 0) return { outcome: 'refused', code, words: PCP_WORDS[code] ?? `code ${code}` };
  return {
    outcome: 'granted',
    externalPort: bytes.readUInt16BE(42),
    externalAddress: unmapped(bytes.subarray(44, 60)),
    lifetimeSeconds: bytes.readUInt32BE(4),
    epoch: bytes.readUInt32BE(8),
  };
}

/** RFC 6886 §3.2: asks for the outside address, and so for the epoch. */
export function encodePmpAddress(): Buffer {
  return Buffer.from([0, 0]);
}
export function decodePmpAddress(bytes: Buffer): { address: string; epoch: number } | { refused: string } | null {
  if (bytes.length < 8 || bytes.length > 16 || bytes[0] !== 0 || bytes[1] !== 128) return null;
  const code = bytes.readUInt16BE(2);
  if (code !== 0) return { refused: PMP_WORDS[code] ?? `code ${code}` };
  return bytes.length < 12 ? null : { address: [...bytes.subarray(8, 12)].join('.'), epoch: bytes.readUInt32BE(4) };
}

/** RFC 6886 §3.3. */
export function encodePmpMap(ask: MapAsk): Buffer {
  const bytes = Buffer.alloc(12);
  bytes[1] = 2;
  bytes.writeUInt16BE(ask.internalPort, 4);
  bytes.writeUInt16BE(ask.externalPort, 6);
  bytes.writeUInt32BE(ask.lifetimeSeconds, 8);
  return bytes;
}
export function decodePmpMap(bytes: Buffer, ask: MapAsk): MapAnswer | null {
  if (bytes.length < 8 || bytes.length > 16 || bytes[0] !== 0 || bytes[1] !== 130) return null;
  const code = bytes.readUInt16BE(2);
  if (code !== 0) return { outcome: 'refused', code, words: PMP_WORDS[code] ?? `code ${code}` };
  if (bytes.length < 16 || bytes.readUInt16BE(8) !== ask.internalPort) return null;
  return {
    outcome: 'granted',
    externalPort: bytes.readUInt16BE(10),
    externalAddress: null,
    lifetimeSeconds: bytes.readUInt32BE(12),
    epoch: bytes.readUInt32BE(4),
  };
}

/** The 16 bytes of an address, an IPv4 one in the form of an IPv6 one (RFC 4291 §2.5.5.2). */
function mapped(address: string): Buffer {
  const bytes = addressBytes(address) ?? [0, 0, 0, 0];
  return Buffer.from(bytes.length === 16 ? bytes : [0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0xff, 0xff, ...bytes]);
}
function unmapped(bytes: Buffer): string | null {
  return bytes.subarray(0, 12).equals(mapped('0.0.0.0').subarray(0, 12)) ? [...bytes.subarray(12)].join('.') : null;
}
