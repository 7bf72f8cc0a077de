import { countOf } from '../text/size.js';
import type { Instant } from '../text/when.js';
import { addressScope, isSameAddress, isSharedLine, specialBlock, type LineAddresses } from './special.js';

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

const DAY_MS = 86_400_000;
/** Common practice, no source: renewed at a third of its life; what has a quarter left, or two weeks, was not. */
const certificateWarnMs = (lifeMs: number): number => Math.min(14 * DAY_MS, lifeMs / 4);
/** A lease of two hours (RFC 6886 §3.3) that has so little left was not renewed at its half. */
const LAPSES_SECONDS = 300;
/** Common practice, no source: after so long people think that nothing comes. */
const SLOW_MS = 4000;
/** RFC 6797 names no least value; half a year is common practice, no source. */
const HSTS_LEAST_SECONDS = 15_552_000;

/**
 * Follows a request from a vantage through every stage of the way in. The first failure ends it: what lies behind is
 * not reached. Pure: the facts were measured before.
 */
export function traceReach(facts: ReachFacts): StageResult[] {
  const judge: Record<Stage, (f: ReachFacts) => Judged> = {
    name: judgeName,
    line: judgeLine,
    router: judgeRouter,
    port: judgePort,
    certificate: judgeCertificate,
    redirect: judgeRedirect,
    page: judgePage,
  };
  let failed = false;
  return STAGES.map((stage) => {
    if (failed) return { stage, mark: 'not-reached', value: '', note: '', reason: '', remedies: [] };
    const judged = { note: '', reason: '', remedies: [], ...withOthers(stage, facts, judge[stage]) };
    failed = judged.mark === 'fail';
    return { stage, ...judged };
  });
}

/**
 * A name may have several addresses, and each is the one that some take. Where nobody answers at one of them, programs go
 * on to the next after a while (RFC 8305); where somebody else answers, they stay.
 */
function withOthers(stage: Stage, f: ReachFacts, judge: (f: ReachFacts) => Judged): Judged {
  const first = judge(f);
  const others = f.others ?? [];
  if (others.length === 0 || !['port', 'certificate', 'page'].includes(stage)) return first;
  if (first.mark === 'fail') return { ...first, reason: `At ${f.connect?.address}: ${first.reason}` };
  for (const other of others) {
    const address = other.connect?.address ?? '';
    // Whoever looks may have no IPv6 themselves, which says nothing of those who have.
    if (!reached(other) && stage !== 'port') continue;
    if (other.connect?.outcome === 'unreachable' && address.includes(':')) continue;
    // Inside the line's own address is not needed where another one leads straight to the server.
    if (staysInside(f) && isLine(f, address)) continue;
    const judged = judge({ ...f, ...other });
    if (judged.mark !== 'fail') continue;
    return {
      ...judged,
      mark: stage === 'port' ? 'warn' : 'fail',
      value: address,
      reason: `The name also leads to ${address}. ${judged.reason}`,
      remedies: remediesAt(f, address, judged.remedies ?? []),
    };
  }
  return first;
}

/** What mends one of several addresses of a name: an own one is opened, another does not belong there. */
function remediesAt(f: ReachFacts, address: string, judged: Remedy[]): Remedy[] {
  if (isSix(f, address)) return [openSix(f, address), firewallByHand(f, address)];
  if (isLine(f, address)) return judged;
  const zone = `In the zone of ${parentOf(f.host)}: `;
  return [
    ...(f.wayIn === 'mapping' && f.line ? [updateOf(f)] : []),
    { act: null, words: `${zone}remove ${address} from ${f.host}, or let it lead here` },
  ];
}

const reached = ({ connect }: AddressFacts): boolean => connect?.outcome === 'connected';
const isLine = ({ line }: ReachFacts, address: string): boolean =>
  [line?.seenAddress, line?.routerAddress].some((own) => own && isSameAddress(own, address));
const isSix = ({ six }: ReachFacts, address: string): boolean => !!six && isSameAddress(six.address, address);
/** Whether whoever looked got a connection by one of the two families. */
const connectsBy = (f: ReachFacts, family: 4 | 6): boolean =>
  [f, ...(f.others ?? [])].some((at) => reached(at) && at.connect?.address.includes(':') === (family === 6));
const openSix = (f: ReachFacts, address: string): Remedy => ({
  act: 'map-port',
  words: `Let those in who have IPv6: TCP ${f.port} → ${address}`,
});
const firewallByHand = (f: ReachFacts, address: string): Remedy => ({
  act: null,
  words: `In the router's firewall for IPv6: let TCP ${f.port} in to ${address}`,
});

/** What a whole trace comes to: the worst mark, and the stage that decided it. */
export function traceVerdict(stages: readonly StageResult[]): { mark: 'ok' | 'warn' | 'fail'; stage: Stage | null } {
  const worst = stages.find((s) => s.mark === 'fail') ?? stages.find((s) => s.mark === 'warn');
  return worst ? { mark: worst.mark as 'warn' | 'fail', stage: worst.stage } : { mark: 'ok', stage: null };
}

export type Judged = { mark: StageMark; value: string; note?: string; reason?: string; remedies?: Remedy[] };

/** A request that never leaves the office needs neither line nor router. */
function staysInside(f: ReachFacts): boolean {
  const address = f.connect?.address ?? f.lookup?.addresses[0] ?? f.host;
  return f.vantage !== 'outside' && (isSameAddress(address, f.server.address) || isSix(f, address));
}

/** The record that the name should have. */
function updateOf(f: ReachFacts): Remedy {
  const own = f.line?.seenAddress ?? f.line?.routerAddress ?? 'the public address of the office line';
  const isShared = f.line !== null && isSharedLine(f.line);
  const six = f.six?.opened ? `AAAA ${f.six.address}` : null;
  const values = isShared && six ? six : [`A ${own}`, six].filter((v) => v !== null).join(', ');
  return { act: 'update-record', words: `In the zone of ${parentOf(f.host)}: ${f.host} ${values}` };
}

/** Common practice, no source: zones have that nothing was there remembered for an hour at the most (RFC 2308 §5). */
const ABSENCE_MS = 3_600_000;

/** Who asked before the record was set goes on hearing that there is none, for a while (RFC 2308). */
function rememberedWords({ recordSetAt, at }: ReachFacts): string {
  if (!recordSetAt || at - recordSetAt > ABSENCE_MS) return '';
  return ` The record was set ${leaseWords((at - recordSetAt) / 1000)} ago; name servers that were asked before go on saying so for as long as the zone has them remember it, an hour at most.`;
}

function judgeName(f: ReachFacts): Judged {
  if (addressScope(f.host)) return { mark: 'skipped', value: f.host, note: 'an address, no name' };
  const lookup = f.lookup;
  const update = updateOf(f);
  if (!lookup) return { mark: 'fail', value: 'not asked', reason: 'The name could not be looked up.' };
  switch (lookup.outcome) {
    case 'timeout':
      return {
        mark: 'fail',
        value: 'no answer',
        note: seconds(lookup.elapsedMs),
        reason: `No name server answered for ${f.host} within ${seconds(lookup.elapsedMs)}.`,
      };
    case 'refused':
      return {
        mark: 'fail',
        value: 'refused',
        reason: `The name server refuses to answer for ${f.host} (REFUSED): it does not serve this zone, or not for those who ask from there.`,
      };
    case 'failed':
      return {
        mark: 'fail',
        value: 'no sound answer',
        reason: `The name servers of ${parentOf(f.host)} could not be asked, or what they say does not hold (SERVFAIL).`,
      };
    case 'no-such-name':
      return {
        mark: 'fail',
        value: 'no such name',
        reason: `${f.host} is not in the zone.${rememberedWords(f)}`,
        remedies: [update],
      };
    case 'no-address':
      return { mark: 'fail', value: 'no address', reason: `${f.host} exists and has no address.`, remedies: [update] };
    case 'answered': {
      const address = lookup.addresses.find((a) => a === f.connect?.address) ?? lookup.addresses[0] ?? '';
      const note = lookup.ttlSeconds === null ? '' : `ttl ${lookup.ttlSeconds}`;
      if (staysInside(f)) return { mark: 'ok', value: address, note: 'office zone' };
      const scope = addressScope(address);
      if (scope !== 'public' && scope !== 'documentation')
        return {
          mark: 'fail',
          value: address,
          note,
          reason: `${f.host} leads to ${address}, which ${scope === 'shared' ? 'lies behind the provider' : 'only the office network knows'} (${specialBlock(address)?.source ?? 'no address'}).`,
          remedies: [update],
        };
      const elsewhere = f.wayIn === 'mapping' ? leadsElsewhere(f, lookup, update) : null;
      if (elsewhere) return { note, ...elsewhere };
      return { mark: 'ok', value: address, note };
    }
  }
}

/** Whether a name leads past the office line; null: it does not. */
function leadsElsewhere(
  f: ReachFacts,
  { addresses, ttlSeconds }: NonNullable<ReachFacts['lookup']>,
  update: Remedy,
): Pick<Judged, 'value' | 'mark' | 'reason' | 'remedies'> | null {
  const seen = f.line?.seenAddress ?? f.line?.routerAddress ?? null;
  if (seen === null || addresses.some((a) => isLine(f, a))) return null;
  const six = addresses.find((a) => isSix(f, a));
  const four = addresses.find((a) => !a.includes(':'));
  // What many customers share is nowhere to lead a name.
  if (six && !four && f.line && isSharedLine(f.line)) return null;
  const wait = ttlSeconds ? ` After the change, old answers are remembered for up to ${ttlSeconds} seconds.` : '';
  if (six && !four)
    return {
      value: six,
      mark: 'warn',
      reason: `${f.host} leads to this server over IPv6 only; whoever has only IPv4 does not find it.${wait}`,
      remedies: [update],
    };
  const value = four ?? addresses[0] ?? '';
  return {
    value,
    mark: six && connectsBy(f, 6) ? 'warn' : 'fail',
    reason: `${f.host} still leads to ${value}; the office line is ${seen} now.${wait}`,
    remedies: [update],
  };
}

export function judgeLine(f: ReachFacts): Judged {
  if (f.wayIn === 'relay') return { mark: 'skipped', value: '–', note: 'through the relay' };
  if (staysInside(f)) return { mark: 'skipped', value: '–' };
  if (!f.line) return { mark: 'skipped', value: 'not known' };
  const { seenAddress, routerAddress } = f.line;
  const relay: Remedy = { act: 'use-relay', words: 'Use the relay: it needs no open port.' };
  const scope = routerAddress && addressScope(routerAddress);
  if (isSharedLine(f.line)) return judgeShared(f, relay);
  if (scope === 'private' || (routerAddress !== null && seenAddress !== null && routerAddress !== seenAddress))
    return {
      mark: 'fail',
      value: routerAddress ?? '',
      note: 'behind another router',
      reason: `The router's own outside address is ${routerAddress}; the world sees ${seenAddress ?? 'another'}. There is a second router in front of it, which must pass the port on too.`,
      remedies: [
        {
          act: null,
          words: `On the router in front: external TCP ${f.port} → ${routerAddress} port ${f.port}, or switch it to bridge mode`,
        },
        relay,
      ],
    };
  if (seenAddress === null && routerAddress === null)
    return {
      mark: 'warn',
      value: 'not known',
      reason: 'Neither the router nor the world could tell the address of the line.',
    };
  return { mark: 'ok', value: 'public', note: 'not shared' };
}

/** A line that many customers share takes no connections; over IPv6 people may come all the same. */
function judgeShared(f: ReachFacts, relay: Remedy): Judged {
  const { routerAddress } = f.line ?? {};
  const ask: Remedy = { act: null, words: 'Ask the provider for a public address of your own.' };
  const shared = routerAddress
    ? `The provider gives the line ${routerAddress}, which many customers share (RFC 6598).`
    : 'The router says that it has no public address of its own: the provider, or another router, shares one out.';
  // Whatever the router says of itself: somebody came in.
  if (!routerAddress && connectsBy(f, 4)) return { mark: 'ok', value: 'public', note: 'seen from outside' };
  if (connectsBy(f, 6))
    return {
      mark: 'warn',
      value: 'IPv6 only',
      note: 'IPv4 shared',
      reason: `${shared} Whoever has IPv6 gets in; whoever has only IPv4 cannot. Through the relay all do.`,
      remedies: [relay, ask],
    };
  return {
    mark: 'fail',
    value: routerAddress ?? 'no address',
    note: 'shared',
    reason: `${shared} Nobody outside can open a connection to it.`,
    remedies: [...(f.six ? [openSix(f, f.six.address)] : []), ask, relay],
  };
}

/** Where the router knows of no mapping to this server, as far as it says. */
function judgeUnmapped(f: ReachFacts, map: Remedy, byHand: Remedy): Judged {
  const m = f.mapping;
  if (m?.outcome === 'taken')
    return {
      mark: 'fail',
      value: `${f.port} taken`,
      reason: `Port ${f.port} of the router already leads to ${m.internal ? `${m.internal.address} port ${m.internal.port}` : 'another device'}.`,
      remedies: [
        {
          act: null,
          words: `On the router: remove the mapping of external TCP ${f.port}, or choose another port for the address`,
        },
      ],
    };
  // Protocols know of forwards only what they made themselves: one that lets people in was made on the router's pages.
  if (connectsBy(f, 4)) return { mark: 'ok', value: `${f.port} → ${f.server.port}`, note: 'set by hand' };
  if (!m || m.outcome === 'no-protocol')
    return {
      mark: 'fail',
      value: 'no mapping',
      note: m ? 'no protocol' : 'not asked',
      reason: m
        ? 'The router speaks none of the protocols for mappings (PCP, NAT-PMP, UPnP), so the mapping must be made by hand.'
        : 'The router was not asked.',
      remedies: [byHand],
    };
  if (m.outcome === 'refused')
    return {
      mark: 'fail',
      value: 'refused',
      reason: 'The router refuses to make mappings.',
      remedies: [{ act: null, words: "Allow mappings in the router's settings" }, byHand],
    };
  return {
    mark: 'fail',
    value: 'no mapping',
    reason: `Nothing tells the router where requests for port ${f.port} go.`,
    remedies: [map, byHand],
  };
}

/** A record of the office's own leads to a port that answers there, or it is none. */
function inside(f: ReachFacts): Remedy {
  if (f.insideAnswers === false)
    return {
      act: null,
      words: `Let the server also listen on TCP ${f.port} inside (the file's "tls"); then the name can lead to ${f.server.address} on this network`,
    };
  return {
    act: 'office-record',
    words: `On the name server of this network answer ${f.host} with ${f.server.address}`,
  };
}

/** The router does not send a request for its own public address back in. */
function noLoopback(f: ReachFacts): Judged {
  return {
    mark: 'fail',
    value: 'no loopback',
    note: f.connect ? seconds(f.connect.elapsedMs) : '',
    reason: `The router does not send a request for its own public address (${f.connect?.address ?? f.lookup?.addresses[0]}) back into the office.`,
    remedies: [
      inside(f),
      { act: null, words: 'Or switch on loopback for port mappings on the router' },
      { act: null, words: 'Or give these people links on an address that goes through the relay' },
    ],
  };
}

export function judgeRouter(f: ReachFacts): Judged {
  if (f.wayIn !== 'mapping' || staysInside(f)) return { mark: 'skipped', value: '–' };
  const bySix = connectsBy(f, 6);
  if (bySix && !connectsBy(f, 4) && f.line && isSharedLine(f.line))
    return { mark: 'ok', value: `IPv6 ${f.port} open`, note: f.six?.opened ? '' : 'set by hand' };
  const judged = judgeForward(f);
  if (!bySix) return judged;
  if (judged.mark === 'fail')
    return { ...judged, mark: 'warn', reason: `${judged.reason} Whoever has IPv6 gets in all the same.` };
  return { ...judged, note: [judged.note, 'IPv6 open'].filter(Boolean).join(', ') };
}

/** How the router leads requests over IPv4 here. */
function judgeForward(f: ReachFacts): Judged {
  const wanted = `external TCP ${f.port} → ${f.server.address} port ${f.server.port}`;
  const byHand: Remedy = { act: null, words: `On the router: ${wanted}` };
  const map: Remedy = { act: 'map-port', words: `Open it: ${wanted}` };
  const m = f.mapping;
  const connected = connectsBy(f, 4);
  if (m?.outcome !== 'present') {
    // What lets people in from outside is forwarded, whatever the router says of it.
    const isForwarded = f.vantage !== 'outside' && !connected && f.outsideConnects === true && m?.outcome !== 'taken';
    return isForwarded ? noLoopback(f) : judgeUnmapped(f, map, byHand);
  }
  const to = m.internal;
  if (to && (to.address !== f.server.address || to.port !== f.server.port))
    return {
      mark: 'fail',
      value: `${m.externalPort} → ${to.port}`,
      reason: `Port ${m.externalPort} leads to ${to.address} port ${to.port}; the server is ${f.server.address} port ${f.server.port}.`,
      remedies: [map, byHand],
    };
  const lease = m.leaseSecondsLeft === null ? '' : `lease ${leaseWords(m.leaseSecondsLeft)}`;
  const value = `${m.externalPort ?? f.port} → ${f.server.port}`;
  if (f.vantage !== 'outside' && !connected) return noLoopback(f);
  // Some routers give short leases only, which are renewed as soon as half of them is over.
  if (m.leaseSecondsLeft !== null && m.leaseSecondsLeft < Math.min(LAPSES_SECONDS, (m.leaseSeconds ?? Infinity) / 4))
    return {
      mark: 'warn',
      value,
      note: lease,
      reason: 'The mapping is about to lapse and has not been renewed.',
      remedies: [map],
    };
  return { mark: 'ok', value, note: lease };
}

function judgePort(f: ReachFacts): Judged {
  const c = f.connect;
  if (!c) return { mark: 'fail', value: 'not tried', reason: 'No connection was tried.' };
  const where = `${c.address} port ${staysInside(f) ? f.server.port : f.port}`;
  switch (c.outcome) {
    case 'connected':
      return { mark: 'ok', value: 'listening', note: `${Math.round(c.elapsedMs)} ms` };
    case 'refused':
      return {
        mark: 'fail',
        value: 'refused',
        reason: `${where} answers that nothing listens there.`,
        remedies: [{ act: null, words: `Let the server listen on port ${f.server.port}, and the mapping lead to it` }],
      };
    case 'timeout':
      return {
        mark: 'fail',
        value: 'no answer',
        note: seconds(c.elapsedMs),
        reason: `${where} did not answer within ${seconds(c.elapsedMs)}: a firewall drops the request, or the address is wrong.`,
        remedies: [{ act: null, words: `In the firewalls of router and server: let TCP ${f.server.port} in` }],
      };
    case 'unreachable':
      return { mark: 'fail', value: 'unreachable', reason: `There is no way to ${c.address} from here.` };
  }
}

export function judgeCertificate(f: ReachFacts): Judged {
  const t = f.tls;
  const obtain: Remedy = { act: 'get-certificate', words: `Get a certificate for ${f.host}` };
  if (!t) return { mark: 'skipped', value: 'plain HTTP' };
  if (t.outcome === 'no-tls')
    return {
      mark: 'fail',
      value: 'no encryption',
      reason: 'The server answers without encryption on this port.',
      remedies: [obtain],
    };
  if (t.outcome === 'stalls')
    return {
      mark: 'fail',
      value: 'stalls',
      reason:
        'Short answers come and long ones do not: packets beyond a size are lost on the way, and nobody says so (a hole in the path MTU, RFC 4821).',
      remedies: [
        {
          act: null,
          words: "On the router: let ICMP of the type 'too big' through, or limit the size of segments (MSS) to 1360",
        },
      ],
    };
  if (t.outcome === 'old-protocol')
    return {
      mark: 'fail',
      value: t.protocol ?? 'old',
      reason: 'Only an outdated version of TLS is offered (RFC 8996 forbids 1.0 and 1.1).',
    };
  if (t.outcome === 'failed')
    return { mark: 'fail', value: 'no agreement', reason: 'Client and server could not agree on encryption.' };
  if (!coversName(t.names, f.host))
    return {
      mark: 'fail',
      value: t.names[0] ?? 'no name',
      reason: `The certificate is for ${t.names.join(', ') || 'nobody'}, not for ${f.host} (RFC 9525 §6).`,
      remedies: [obtain],
    };
  if (f.at < t.notBefore)
    return {
      mark: 'fail',
      value: 'not yet valid',
      reason: 'The certificate begins later: the clock of one of the two machines is wrong.',
    };
  if (f.at >= t.notAfter)
    return {
      mark: 'fail',
      value: 'expired',
      reason: `The certificate ended ${countOf(Math.floor((f.at - t.notAfter) / DAY_MS), 'day')} ago.`,
      remedies: [obtain],
    };
  if (!t.trusted)
    return {
      mark: 'fail',
      value: 'not trusted',
      reason: CHAIN_WORDS[t.chainFault ?? 'untrusted'](t.issuer),
      remedies: [obtain],
    };
  const left = countOf(Math.floor((t.notAfter - f.at) / DAY_MS), 'day');
  if (t.notAfter - f.at < certificateWarnMs(t.notAfter - t.notBefore))
    return {
      mark: 'warn',
      value: `${left} left`,
      reason: `The certificate ends in ${left} and has not been renewed.`,
      remedies: [obtain],
    };
  return { mark: 'ok', value: `${left} left`, note: t.protocol ?? '' };
}

const CHAIN_WORDS: Record<'expired' | 'untrusted' | 'incomplete', (issuer: string) => string> = {
  expired: (issuer) => `A certificate above it in the chain has ended, so nobody trusts what ${issuer} signed with it.`,
  incomplete: (issuer) => `The server does not send the chain that leads from ${issuer} to a root that browsers know.`,
  untrusted: (issuer) => `Browsers do not trust ${issuer}, who issued the certificate.`,
};

function judgeRedirect(f: ReachFacts): Judged {
  const r = f.redirect;
  const on: Remedy = {
    act: 'redirect-on',
    words: `Answer http://${f.host} with a redirect to https (301), and HSTS for half a year`,
  };
  if (!r || !f.tls) return { mark: 'skipped', value: '–' };
  if (r.outcome === 'closed')
    return {
      mark: 'warn',
      value: 'port 80 closed',
      reason: 'Whoever types the address without https gets no answer.',
      remedies: [on],
    };
  if (r.outcome === 'silent')
    return {
      mark: 'warn',
      value: 'port 80 silent',
      reason: 'Whoever types the address without https is taken in on port 80, and gets no answer.',
      remedies: [on],
    };
  if (r.outcome === 'no-redirect')
    return {
      mark: 'warn',
      value: `status ${r.status}`,
      reason: `Port 80 answers with the status ${r.status} and sends nobody on: another program or the router answers there.`,
      remedies: [on],
    };
  if (r.outcome === 'serves-plain')
    return {
      mark: 'fail',
      value: 'plain HTTP',
      reason: 'Pages are served without encryption on port 80, passwords included.',
      remedies: [on],
    };
  if (r.outcome === 'elsewhere')
    return { mark: 'fail', value: 'elsewhere', reason: `Plain HTTP leads to ${r.location}.`, remedies: [on] };
  if ((r.hstsSeconds ?? 0) < HSTS_LEAST_SECONDS)
    return {
      mark: 'warn',
      value: 'http → https',
      note: 'no HSTS',
      reason: 'Browsers are not told to keep to https (RFC 6797).',
      remedies: [on],
    };
  return { mark: 'ok', value: 'http → https', note: String(r.status ?? '') };
}

function judgePage(f: ReachFacts): Judged {
  const p = f.page;
  if (!p) return { mark: 'fail', value: 'not asked', reason: 'The page was not asked for.' };
  switch (p.outcome) {
    case 'right':
      if (p.elapsedMs >= SLOW_MS)
        return {
          mark: 'warn',
          value: 'slow',
          note: seconds(p.elapsedMs),
          reason: `The page came, and only after ${seconds(p.elapsedMs)}.`,
        };
      return { mark: 'ok', value: 'share page', note: `${Math.round(p.elapsedMs)} ms` };
    case 'wrong-server':
      return {
        mark: 'fail',
        value: 'another server',
        reason: 'Something else answers at this address: the proof that was asked for did not come back.',
      };
    case 'timeout':
      return {
        mark: 'fail',
        value: 'no answer',
        note: seconds(p.elapsedMs),
        reason: `The connection stood, and no page came within ${seconds(p.elapsedMs)}.`,
      };
    case 'error':
      return { mark: 'fail', value: `status ${p.status}`, reason: `The server answered with the status ${p.status}.` };
  }
}

/**
 * Whether a certificate's names cover a host (RFC 9525 §6.3): compared without case, a wildcard stands for exactly one
 * label, the leftmost, and for the whole of it.
 */
export function coversName(names: readonly string[], host: string): boolean {
  const wanted = host.toLowerCase().replace(/\.$/, '');
  return names.some((name) => {
    const pattern = name.toLowerCase();
    if (!pattern.startsWith('*.')) return pattern === wanted;
    const rest = pattern.slice(1);
    const label = wanted.slice(0, Math.max(0, wanted.length - rest.length));
    return wanted.endsWith(rest) && label !== '' && !label.includes('.');
  });
}

/** "2 h 41 min", "4 min": what is left of a lease. */
export function leaseWords(secondsLeft: number): string {
  const minutes = Math.floor(secondsLeft / 60);
  if (minutes < 1) return `${Math.max(0, Math.floor(secondsLeft))} s`;
  return minutes < 60 ? `${minutes} min` : `${Math.floor(minutes / 60)} h ${minutes % 60} min`;
}

const seconds = (ms: number): string => `${(ms / 1000).toFixed(1)} s`;

function parentOf(host: string): string {
  return host.split('.').slice(1).join('.') || host;
}
