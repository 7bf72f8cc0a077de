import ipaddr from 'ipaddr.js';

/** What an address can be used for, seen from the public internet. */
export type AddressScope = 'public' | 'private' | 'shared' | 'loopback' | 'link-local' | 'documentation' | 'other';

interface Block {
  prefix: string;
  bits: number;
  scope: AddressScope;
  /** Name in the registry. */
  name: string;
  source: string;
}

/**
 * The IANA IPv4 and IPv6 Special-Purpose Address Registries (RFC 6890, as updated by RFC 8190), as far as their blocks
 * are not globally reachable. More specific blocks come first. Taken down from memory of the registries; each block's
 * RFC is named beside it.
 */
const V4: Block[] = [
  { prefix: '127.0.0.0', bits: 8, scope: 'loopback', name: 'Loopback', source: 'RFC 1122' },
  { prefix: '10.0.0.0', bits: 8, scope: 'private', name: 'Private-Use', source: 'RFC 1918' },
  { prefix: '172.16.0.0', bits: 12, scope: 'private', name: 'Private-Use', source: 'RFC 1918' },
  { prefix: '192.168.0.0', bits: 16, scope: 'private', name: 'Private-Use', source: 'RFC 1918' },
  { prefix: '100.64.0.0', bits: 10, scope: 'shared', name: 'Shared Address Space', source: 'RFC 6598' },
  { prefix: '169.254.0.0', bits: 16, scope: 'link-local', name: 'Link Local', source: 'RFC 3927' },
  { prefix: '192.0.2.0', bits: 24, scope: 'documentation', name: 'Documentation (TEST-NET-1)', source: 'RFC 5737' },
  { prefix: '198.51.100.0', bits: 24, scope: 'documentation', name: 'Documentation (TEST-NET-2)', source: 'RFC 5737' },
  { prefix: '203.0.113.0', bits: 24, scope: 'documentation', name: 'Documentation (TEST-NET-3)', source: 'RFC 5737' },
  { prefix: '192.0.0.0', bits: 24, scope: 'other', name: 'IETF Protocol Assignments', source: 'RFC 6890' },
  { prefix: '198.18.0.0', bits: 15, scope: 'other', name: 'Benchmarking', source: 'RFC 2544' },
  { prefix: '0.0.0.0', bits: 8, scope: 'other', name: 'This network', source: 'RFC 791' },
  { prefix: '240.0.0.0', bits: 4, scope: 'other', name: 'Reserved', source: 'RFC 1112' },
  { prefix: '224.0.0.0', bits: 4, scope: 'other', name: 'Multicast', source: 'RFC 5771' },
];
const V6: Block[] = [
  { prefix: '::1', bits: 128, scope: 'loopback', name: 'Loopback Address', source: 'RFC 4291' },
  { prefix: '::', bits: 128, scope: 'other', name: 'Unspecified Address', source: 'RFC 4291' },
  { prefix: '::ffff:0:0', bits: 96, scope: 'other', name: 'IPv4-mapped Address', source: 'RFC 4291' },
  { prefix: '2001:db8::', bits: 32, scope: 'documentation', name: 'Documentation', source: 'RFC 3849' },
  { prefix: 'fc00::', bits: 7, scope: 'private', name: 'Unique-Local', source: 'RFC 4193' },
  { prefix: 'fe80::', bits: 10, scope: 'link-local', name: 'Link-Local Unicast', source: 'RFC 4291' },
  { prefix: '100::', bits: 64, scope: 'other', name: 'Discard-Only Address Block', source: 'RFC 6666' },
  { prefix: 'ff00::', bits: 8, scope: 'other', name: 'Multicast', source: 'RFC 4291' },
];

/** The special-purpose block that holds an address; null when it is an ordinary public one, or no address. */
export function specialBlock(address: string): { scope: AddressScope; name: string; source: string } | null {
  const parsed = parseAddress(address);
  if (!parsed) return null;
  const found = (parsed.kind() === 'ipv4' ? V4 : V6).find(({ prefix, bits }) =>
    parsed.match(ipaddr.parse(prefix) as never, bits),
  );
  return found ? { scope: found.scope, name: found.name, source: found.source } : null;
}

/** Where an address can be reached from; null when the text is no address. */
export function addressScope(address: string): AddressScope | null {
  return parseAddress(address) ? (specialBlock(address)?.scope ?? 'public') : null;
}

/** Whether two texts are one address, however they are written (RFC 5952); false for what is none. */
export function isSameAddress(one: string, other: string): boolean {
  const [a, b] = [addressBytes(one), addressBytes(other)];
  return a !== null && b !== null && a.length === b.length && a.every((byte, i) => byte === b[i]);
}

/** What is known of a line: its address as the world sees it, and as the router says it; null where not known. */
export interface LineAddresses {
  seenAddress: string | null;
  routerAddress: string | null;
  /** The router says that it has no public address: somebody before it shares one out. */
  routerHasNone?: boolean;
}

/** Whether nobody outside can open a connection to a line, because many have its address (RFC 6598, or by its router). */
export function isSharedLine({ routerAddress, routerHasNone }: LineAddresses): boolean {
  return routerAddress === null ? routerHasNone === true : addressScope(routerAddress) === 'shared';
}

/**
 * The address at which the world finds a line: as the world sees it, else as the router says it, if that can be reached
 * from the world at all; null: nobody knows it.
 */
export function lineAddress(line: LineAddresses): string | null {
  if (line.seenAddress) return line.seenAddress;
  return line.routerAddress && comesFromOutside(line.routerAddress) ? line.routerAddress : null;
}

/** RFC 4291 §2.5.4: the bits of an IPv6 address that name its network. */
const NETWORK_BYTES_6 = 8;

/**
 * Whether somebody comes from outside the office, by their address: what is no address is nobody known. The ranges for
 * documentation stand for public ones in a simulated world.
 * @param own this server's own public address over IPv6: whoever shares its network has a public one too, and is inside
 */
export function comesFromOutside(address: string, own: string | null = null): boolean {
  const [from, here] = own === null ? [null, null] : [addressBytes(address), addressBytes(own)];
  if (from?.length === 16 && from.slice(0, NETWORK_BYTES_6).every((byte, i) => byte === here?.[i])) return false;
  const scope = addressScope(address);
  return scope === null || scope === 'public' || scope === 'documentation';
}

/**
 * The 4 or 16 bytes of an address in its text form (RFC 6943 §3.1.1 strict dotted decimal; RFC 4291 §2.2); null when it
 * is none.
 */
export function addressBytes(text: string): number[] | null {
  return parseAddress(text)?.toByteArray() ?? null;
}

/** Without what only some programs understand: octal and short forms of IPv4, zones of IPv6. */
function parseAddress(text: string): ipaddr.IPv4 | ipaddr.IPv6 | null {
  if (ipaddr.IPv4.isValidFourPartDecimal(text)) return ipaddr.IPv4.parse(text);
  return text.includes('%') || !ipaddr.IPv6.isValid(text) ? null : ipaddr.IPv6.parse(text);
}
