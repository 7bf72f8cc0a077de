import { addressScope, type AddressScope } from '../reach/special.js';
import { isToken } from '../secret/token.js';

/** A public base address that links are built on. */
export interface Address {
  scheme: 'http' | 'https';
  host: string;
  /** null: the scheme's default port. */
  port: number | null;
  /** '' or '/something', without a slash at the end. */
  pathPrefix: string;
}

const DEFAULT_PORT = { http: 80, https: 443 } as const;

/** The port of an address, also where it is not written. */
export function portOf(address: Pick<Address, 'scheme' | 'port'>): number {
  return address.port ?? DEFAULT_PORT[address.scheme];
}

/** The port as it is kept: null for the scheme's default, so that an address has one form (RFC 3986 §6.2.3). */
export function plainPort(address: Pick<Address, 'scheme' | 'port'>): number | null {
  return address.port === DEFAULT_PORT[address.scheme] ? null : address.port;
}

/**
 * The address as text, without a slash at the end; the port is left out when it is the scheme's default (RFC 3986
 * §6.2.3).
 */
export function addressText(address: Address): string {
  const host = address.host.includes(':') ? `[${address.host}]` : address.host.toLowerCase();
  const kept = plainPort(address);
  const port = kept === null ? '' : `:${kept}`;
  return `${address.scheme}://${host}${port}${address.pathPrefix}`;
}

/** The link of a share. */
export function shareLink(address: Address, token: string): string {
  return `${addressText(address)}/s/${token}`;
}

const LINK = /^(https?):\/\/(\[[0-9a-f:.]+\]|[^/:?#\s]+)(?::(\d{1,5}))?((?:\/[^/?#\s]+)*?)\/s\/([0-9A-Za-z]+)\/?$/i;

/** The address and token a link was built from; null when it is not a link of a share. */
export function parseShareLink(link: string): { address: Address; token: string } | null {
  const match = LINK.exec(link.trim());
  if (!match) return null;
  const [, scheme, host, port, prefix, token] = match as unknown as [
    string,
    string,
    string,
    string | undefined,
    string,
    string,
  ];
  if (!isToken(token)) return null;
  const number = port === undefined ? null : Number(port);
  if (number !== null && (number < 1 || number > 65_535)) return null;
  const s = scheme.toLowerCase() as Address['scheme'];
  return {
    address: {
      scheme: s,
      host: host.replace(/^\[|\]$/g, '').toLowerCase(),
      port: number === DEFAULT_PORT[s] ? null : number,
      pathPrefix: prefix,
    },
    token,
  };
}

export type PortabilityFault = 'single-label' | 'private-name' | 'private-address';

/** What only machines nearby reach, or nobody. */
const LOCAL = new Set<AddressScope>(['private', 'shared', 'loopback', 'link-local', 'other']);

/**
 * Why a host cannot work outside the office; null when it can. Names that never resolve publicly: single labels,
 * localhost and .local (RFC 6761, 6762), .internal (reserved by ICANN in 2024), .home.arpa (RFC 8375), .lan (common
 * practice, no source). Addresses: by the registries (reach/special.ts).
 */
export function portabilityFault(host: string): PortabilityFault | null {
  const name = host.toLowerCase().replace(/\.$/, '');
  const scope = addressScope(name);
  if (scope !== null) return LOCAL.has(scope) ? 'private-address' : null;
  if (!name.includes('.')) return 'single-label';
  return /(^|\.)(localhost|local|lan|internal|home\.arpa)$/.test(name) ? 'private-name' : null;
}
