import type { Instant } from '../text/when.js';
import type { LineAddresses } from './special.js';

/** Where a check is made from. */
export const VANTAGES = ['outside', 'office', 'guest', 'tunnel'] as const;
export type Vantage = (typeof VANTAGES)[number];
export const VANTAGE_WORDS: Record<Vantage, string> = {
  outside: 'Outside',
  office: 'Office network',
  guest: 'Guest Wi-Fi',
  tunnel: 'Remote tunnel',
};

/** The stages of the way in, in the order in which a request passes them. */
export const STAGES = ['name', 'line', 'router', 'port', 'certificate', 'redirect', 'page'] as const;
export type Stage = (typeof STAGES)[number];
export const STAGE_WORDS: Record<Stage, string> = {
  name: 'Name',
  line: 'Line',
  router: 'Router',
  port: 'Server port',
  certificate: 'Certificate',
  redirect: 'Redirect',
  page: 'Page',
};

/** How people get in: an own name with a port mapping, a fixed public address, a relay, or only from the office. */
export type WayIn = 'mapping' | 'fixed' | 'relay' | 'office';

/** What was measured at one address of a name. A fact that was not asked for, because an earlier one failed, is null. */
export interface AddressFacts {
  connect: { outcome: 'connected' | 'refused' | 'timeout' | 'unreachable'; address: string; elapsedMs: number } | null;
  tls: {
    /** 'stalls': short answers come, and long ones do not. */
    outcome: 'agreed' | 'no-tls' | 'old-protocol' | 'failed' | 'stalls';
    protocol: string | null;
    names: string[];
    notBefore: Instant;
    notAfter: Instant;
    trusted: boolean;
    /** What is wrong with the chain besides the dates of the certificate itself; null: nothing. */
    chainFault?: 'expired' | 'untrusted' | 'incomplete' | null;
    issuer: string;
  } | null;
  page: { outcome: 'right' | 'wrong-server' | 'error' | 'timeout'; status: number | null; elapsedMs: number } | null;
}

/** No router translates IPv6: requests come to the server's own address, where a firewall lets them. */
export interface OwnSix {
  address: string;
  /** Whether the program had the router's firewall let requests in. */
  opened: boolean;
}

/** What was measured from one vantage. A fact that was not asked for, because an earlier one failed, is null. */
export interface ReachFacts extends AddressFacts {
  vantage: Vantage;
  wayIn: WayIn;
  host: string;
  /** Of the address that links are built on. */
  port: number;
  at: Instant;
  /** Inside, where the server listens. */
  server: { address: string; port: number };
  /** Whether somebody inside who comes to the server's own address finds it at the address's port; null: not tried. */
  insideAnswers?: boolean | null;
  lookup: {
    outcome: 'answered' | 'no-such-name' | 'no-address' | 'refused' | 'failed' | 'timeout';
    addresses: string[];
    ttlSeconds: number | null;
    elapsedMs: number;
  } | null;
  /**
   * The office's address as the world sees it (STUN), and as the router says it is (NAT-PMP, PCP, UPnP); null where not
   * known.
   */
  line: LineAddresses | null;
  /** This server's own public address over IPv6; null: it has none. */
  six?: OwnSix | null;
  mapping: {
    protocol: 'pcp' | 'nat-pmp' | 'upnp' | null;
    outcome: 'present' | 'absent' | 'taken' | 'refused' | 'no-protocol';
    externalPort: number | null;
    internal: { address: string; port: number } | null;
    leaseSecondsLeft: number | null;
    /** For how long it was given; null: not known, or for good. */
    leaseSeconds?: number | null;
  } | null;
  /** Whether somebody outside gets a connection; not said: nobody looked from there. */
  outsideConnects?: boolean;
  /** When the program last set the record of the name; null: it did not. */
  recordSetAt?: Instant | null;
  /** What came of the further addresses of the name. */
  others?: AddressFacts[];
  /** What plain HTTP on port 80 answered. */
  redirect: {
    outcome: 'redirects' | 'serves-plain' | 'closed' | 'elsewhere' | 'no-redirect' | 'silent';
    status: number | null;
    location: string | null;
    hstsSeconds: number | null;
  } | null;
}

export type StageMark = 'ok' | 'warn' | 'fail' | 'skipped' | 'not-reached';

/** Something that mends a stage: in words with concrete values, and a code for what the program can do by itself. */
export interface Remedy {
  words: string;
  act: 'update-record' | 'map-port' | 'get-certificate' | 'redirect-on' | 'office-record' | 'use-relay' | null;
}

export interface StageResult {
  stage: Stage;
  mark: StageMark;
  /** The measured value, for the matrix: "198.51.100.24". */
  value: string;
  /** A second line: "ttl 300". */
  note: string;
  /** Why it is not simply well; empty when it is. */
  reason: string;
  remedies: Remedy[];
}

/** What a stage comes to. */
export type Judged = { mark: StageMark; value: string; note?: string; reason?: string; remedies?: Remedy[] };
