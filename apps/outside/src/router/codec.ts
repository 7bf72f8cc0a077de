/** NAT-PMP (RFC 6886) and PCP (RFC 6887) as bytes and as values. Both speak on UDP port 5351; the first byte tells which. */

export type MapProtocol = 'tcp' | 'udp';

export type PmpRequest =
  | { kind: 'address' }
  | { kind: 'map'; protocol: MapProtocol; internalPort: number; externalPort: number; lifetimeSeconds: number };
/** RFC 6886 §3.5. */
export const PMP_RESULT = {
  success: 0,
  'unsupported-version': 1,
  refused: 2,
  'network-failure': 3,
  'out-of-resources': 4,
  'unsupported-opcode': 5,
} as const;

/** RFC 6887 §7.4. */
export const PCP_RESULT = {
  success: 0,
  'unsupported-version': 1,
  'not-authorized': 2,
  'malformed-request': 3,
  'unsupported-opcode': 4,
  'no-resources': 8,
  'cannot-provide-external': 11,
  'address-mismatch': 12,
} as const;

export interface PcpRequest {
  opcode: number;
  lifetimeSeconds: number;
  /** As the client says; must be where the request came from (RFC 6887 §8.2). */
  clientAddress: string;
  map: { nonce: Buffer; protocol: number; internalPort: number; externalPort: number; externalAddress: string } | null;
}

/** Reads a NAT-PMP request (RFC 6886 §3.2, §3.3); null when it is none that can be answered. */
export function decodePmp(bytes: Buffer): PmpRequest | 'unsupported-opcode' | null {
  if (bytes.length < 2 || bytes[0] !== 0 || (bytes[1] as number) >= 128) return null;
  if (bytes[1] === 0) return { kind: 'address' };
  if (bytes[1] !== 1 && bytes[1] !== 2) return 'unsupported-opcode';
  if (bytes.length < 12) return null;
  return {
    kind: 'map',
    protocol: bytes[1] === 2 ? 'tcp' : 'udp',
    internalPort: bytes.readUInt16BE(4),
    externalPort: bytes.readUInt16BE(6),
    lifetimeSeconds: bytes.readUInt32BE(8),
  };
}

export function encodePmpAddress(result: number, epochSeconds: number, address: string): Buffer {
  return Buffer.concat([pmpHead(0, result, epochSeconds), v4(address)]);
}

export function encodePmpMap(
  protocol: MapProtocol,
  result: number,
  epochSeconds: number,
  mapped: { internalPort: number; externalPort: number; lifetimeSeconds: number },
): Buffer {
  const body = Buffer.alloc(8);
  body.writeUInt16BE(mapped.internalPort, 0);
  body.writeUInt16BE(mapped.externalPort, 2);
  body.writeUInt32BE(mapped.lifetimeSeconds, 4);
  return Buffer.concat([pmpHead(protocol === 'tcp' ? 2 : 1, result, epochSeconds), body]);
}

/** RFC 6886 §3.5: an answer to an opcode that is not known repeats it with the top bit set. */
export function encodePmpRefusal(opcode: number, result: number, epochSeconds: number): Buffer {
  return pmpHead(opcode & 0x7f, result, epochSeconds);
}

function pmpHead(opcode: number, result: number, epochSeconds: number): Buffer {
  const head = Buffer.alloc(8);
  head[1] = 128 + opcode;
  head.writeUInt16BE(result, 2);
  head.writeUInt32BE(epochSeconds, 4);
  return head;
}

/** Reads a PCP request (RFC 6887 §7.1, §11.1); null when it is malformed. */
export function decodePcp(bytes: Buffer): PcpRequest | null {
  if (
    bytes.length < 24 ||
    bytes.length > 1100 ||
    bytes.length % 4 !== 0 ||
    bytes[0] !== 2 ||
    (bytes[1] as number) >= 128
  )
    return null;
  const opcode = bytes[1] as number;
  const head = { opcode, lifetimeSeconds: bytes.readUInt32BE(4), clientAddress: fromMapped(bytes.subarray(8, 24)) };
  if (opcode !== 1) return { ...head, map: null };
  if (bytes.length < 60) return null;
  return {
    ...head,
    map: {
      nonce: Buffer.from(bytes.subarray(24, 36)),
      protocol: bytes[36] as number,
      internalPort: bytes.readUInt16BE(40),
      externalPort: bytes.readUInt16BE(42),
      externalAddress: fromMapped(bytes.subarray(44, 60)),
    },
  };
}

/** An answer (RFC 6887 §7.2): for a mapping with its data, otherwise the request's own body. */
export function encodePcp(
  opcode: number,
  result: number,
  lifetimeSeconds: number,
  epochSeconds: number,
  map: PcpRequest['map'],
): Buffer {
  const head = Buffer.alloc(24);
  head[0] = 2;
  head[1] = 128 + opcode;
  head[3] = result;
  head.writeUInt32BE(lifetimeSeconds, 4);
  head.writeUInt32BE(epochSeconds, 8);
  if (!map) return head;
  const body = Buffer.alloc(36);
  map.nonce.copy(body, 0);
  body[12] = map.protocol;
  body.writeUInt16BE(map.internalPort, 16);
  body.writeUInt16BE(map.externalPort, 18);
  toMapped(map.externalAddress).copy(body, 20);
  return Buffer.concat([head, body]);
}

function v4(address: string): Buffer {
  return Buffer.from(address.split('.').map(Number));
}

/** RFC 6887 §5: IPv4 addresses travel as IPv4-mapped IPv6 addresses. */
function toMapped(address: string): Buffer {
  return Buffer.concat([Buffer.alloc(10), Buffer.from([0xff, 0xff]), v4(address)]);
}

function fromMapped(bytes: Buffer): string {
  return bytes.subarray(0, 10).every((b) => b === 0) && bytes.readUInt16BE(10) === 0xffff
    ? [...bytes.subarray(12)].join('.')
    : bytes.toString('hex');
}
