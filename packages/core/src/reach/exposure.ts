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

/** Ports that storage servers, their databases and their administration commonly listen on (IANA service name registry; from memory). */
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

/** What a visitor's browser asks for. */
const FOR_VISITORS = /^\/(s\/|reach\/|assets\/|mark\.svg$|favicon)/;
/** Where drives are mounted from. */
const FOR_DRIVES = /^\/drive([/?]|$)/;

/** Whether a path is answered on an address that may be used for this: the door asks, and what is seen from outside is compared with it. */
export function mayAnswer(uses: AddressUses, path: string): boolean {
  if (uses === 'drive' || FOR_VISITORS.test(path)) return true;
  return uses === 'sign-in' && !FOR_DRIVES.test(path);
}

/** Paths of the product that are looked at from outside. */
export const WATCHED_PATHS: readonly { path: string; what: string }[] = [
  { path: '/reach/probe', what: 'the page of proofs' },
  { path: '/sign-in', what: 'sign-in' },
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
