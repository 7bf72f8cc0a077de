import { portOf, type Address } from '../link/link.js';
import type { WayIn } from './facts.js';

/** One thing that was tried from outside: a port, or a path on it. */
export interface Exposed {
  what: string;
  port: number;
  /** '' for the port itself. */
  path: string;
  answers: boolean;
  /** What came: "refused", "200", "no answer". */
  found: string;
}

export interface Exposure extends Exposed {
  should: boolean;
  /** 'as it should be', or what is wrong. */
  verdict: 'as-it-should' | 'open-but-should-not' | 'closed-but-should-answer';
}

/**
 * Ports that storage servers, their databases and their administration commonly listen on (IANA service name registry;
 * from memory).
 */
export const WATCHED_PORTS: readonly { port: number; what: string }[] = [
  { port: 21, what: 'file transfer' },
  { port: 22, what: 'remote shell' },
  { port: 23, what: 'telnet' },
  { port: 139, what: 'file sharing (NetBIOS)' },
  { port: 445, what: 'file sharing (SMB)' },
  { port: 548, what: 'file sharing (AFP)' },
  { port: 873, what: 'synchronisation' },
  { port: 2049, what: 'network file system' },
  { port: 3306, what: 'database' },
  { port: 3389, what: 'remote desktop' },
  { port: 5432, what: 'database (PostgreSQL)' },
  { port: 5900, what: 'screen sharing' },
  { port: 8080, what: 'a second web server' },
  { port: 8443, what: 'a second web server, encrypted' },
];

/** What an address may be used for; each includes those before it. */
export type AddressUses = 'visitors' | 'sign-in' | 'drive';

/** What the browser of a visitor or a contributor asks for, and the page that proves the way in; the pages of Reach are the staff's. */
const FOR_VISITORS = /^\/([sh]\/|reach\/probe([/?]|$)|assets\/|mark\.svg$|favicon)/;
/** Where drives are mounted from. The router takes capitals for small letters, and so does this. */
const FOR_DRIVES = /^\/drive([/?]|$)/i;

/**
 * Whether a path is answered on an address that may be used for this: the door asks, and what is seen from outside is
 * compared with it.
 */
export function mayAnswer(uses: AddressUses, path: string): boolean {
  if (uses === 'drive' || FOR_VISITORS.test(path)) return true;
  return uses === 'sign-in' && !FOR_DRIVES.test(path);
}

/** How an encrypted request came in, and what it names. */
export interface Arrival {
  /** The name that the handshake was made for (RFC 6066 §3); null: none was told. */
  serverName: string | null;
  /** The Host header, with the port if one is named; null: none. */
  host: string | null;
  /** The request target, as it was sent. */
  target: string;
  /** The name whose line to the relay it came by; null: it came to the door itself. */
  relayedFor: string | null;
  /** Whether it comes from outside the office. */
  outside: boolean;
}

/** An address as the door knows it. */
export type DoorAddress = Address & { wayIn: WayIn; uses: AddressUses };

/**
 * The address that an encrypted request is answered at: what the handshake named, what the Host header names, the port,
 * the way it came and the path must all be that address's. Null when they do not agree on any: RFC 9110 §15.5.20, 421.
 */
export function answeringAddress<A extends DoorAddress>(addresses: readonly A[], arrival: Arrival): A | null {
  const named = /^(\[[0-9a-f:.]+\]|[^:\s]+)(?::(\d{1,5}))?$/i.exec(arrival.host ?? '');
  if (!named || !arrival.target.startsWith('/')) return null;
  const host = hostKey(named[1] as string);
  if (arrival.serverName === null || hostKey(arrival.serverName) !== host) return null;
  const port = named[2] === undefined ? portOf({ scheme: 'https', port: null }) : Number(named[2]);
  const fits = addresses.filter(
    (a) =>
      a.scheme === 'https' &&
      hostKey(a.host) === host &&
      portOf(a) === port &&
      cameBy(a, arrival) &&
      isUnder(arrival.target, a.pathPrefix),
  );
  return fits.sort((a, b) => b.pathPrefix.length - a.pathPrefix.length)[0] ?? null;
}

/** A host as it is compared: small letters, without brackets and the dot of the root (RFC 3986 §6.2.2.1). */
const hostKey = (host: string): string =>
  host
    .toLowerCase()
    .replace(/^\[|\]$/g, '')
    .replace(/\.$/, '');

/**
 * An address inside answers to those inside alone; one that is reached through the relay, to it and to those inside.
 */
function cameBy(address: DoorAddress, arrival: Arrival): boolean {
  if (arrival.relayedFor !== null)
    return address.wayIn === 'relay' && hostKey(arrival.relayedFor) === hostKey(address.host);
  return address.wayIn === 'mapping' || address.wayIn === 'fixed' || !arrival.outside;
}

/** Whether a request target lies under a path prefix, as the router compares: capitals are small letters. */
export function isUnder(target: string, prefix: string): boolean {
  const rest = target.slice(prefix.length);
  return (
    target.slice(0, prefix.length).toLowerCase() === prefix.toLowerCase() && (prefix === '' || /^([/?]|$)/.test(rest))
  );
}

/** Paths of the product that are looked at from outside. */
export const WATCHED_PATHS: readonly { path: string; what: string }[] = [
  { path: '/reach/probe', what: 'the page of proofs' },
  { path: '/sign-in', what: 'sign-in' },
  { path: '/reach/plan', what: 'the pages of the admin' },
  { path: '/api/session', what: 'the API' },
  { path: '/api/docs', what: 'the page of the API' },
];

/** Compares what answers from outside with what should. */
export function judgeExposure(
  found: readonly Exposed[],
  wanted: { ports: readonly number[]; uses: AddressUses },
): Exposure[] {
  return found.map((f) => {
    const should = f.path === '' ? wanted.ports.includes(f.port) : mayAnswer(wanted.uses, f.path);
    return {
      ...f,
      should,
      verdict: f.answers === should ? 'as-it-should' : f.answers ? 'open-but-should-not' : 'closed-but-should-answer',
    };
  });
}
