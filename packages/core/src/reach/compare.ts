import type { ReachFacts, Remedy, WayIn } from './facts.js';
import { traceReach, traceVerdict } from './trace.js';

/** What somebody knows of a line before anything is bought or set up. */
export interface PlannedLine {
  /**
   * The provider gives the line an address of its own, one that is shared (RFC 6598), or another router stands in
   * front.
   */
  line: 'own' | 'shared' | 'behind-router';
  /** The address stays the same. */
  fixed: boolean;
  /** The router opens ports when programs ask; or a person can do it there. */
  router: 'protocol' | 'by-hand' | 'closed';
  /** A domain whose records can be changed. */
  domain: boolean;
  /** Upload speed of the line, in Mbit/s. */
  uploadMbit: number;
  relayMbit: number;
}

export interface WayCompared {
  wayIn: WayIn;
  works: boolean;
  /** Why not, or what it rests on. */
  because: string;
  remedies: Remedy[];
  /**
   * Seconds for 100 MB to an outsider: the line's upload, or through the relay whichever is slower. Null where nobody
   * outside gets anything.
   */
  secondsFor100Mb: number | null;
  dependsOn: string;
  exposes: string;
  upkeep: string;
}

const PUBLIC = '198.51.100.24';

/** Facts as they would be measured from outside, were everything set up on this line. */
function plannedFacts(planned: PlannedLine, wayIn: WayIn): ReachFacts {
  const routerAddress = planned.line === 'own' ? PUBLIC : planned.line === 'shared' ? '100.64.0.10' : '192.168.1.2';
  const reaches = wayIn === 'relay' || (planned.line === 'own' && planned.router !== 'closed');
  return {
    vantage: 'outside',
    wayIn,
    host: 'files.example.org',
    port: 443,
    at: 0,
    server: { address: '192.168.1.10', port: 8443 },
    lookup: {
      outcome: planned.domain ? 'answered' : 'no-such-name',
      addresses: planned.domain ? [PUBLIC] : [],
      ttlSeconds: 300,
      elapsedMs: 20,
    },
    line: { seenAddress: PUBLIC, routerAddress },
    mapping:
      planned.router === 'protocol'
        ? { protocol: 'pcp', outcome: 'present', externalPort: 443, internal: null, leaseSecondsLeft: 7200 }
        : { protocol: null, outcome: 'no-protocol', externalPort: null, internal: null, leaseSecondsLeft: null },
    connect: { outcome: reaches ? 'connected' : 'timeout', address: PUBLIC, elapsedMs: reaches ? 20 : 4000 },
    tls: {
      outcome: 'agreed',
      protocol: 'TLSv1.3',
      names: ['files.example.org'],
      notBefore: -1,
      notAfter: 90 * 86_400_000,
      trusted: true,
      issuer: 'an authority',
    },
    redirect: { outcome: 'redirects', status: 301, location: null, hstsSeconds: 15_552_000 },
    page: { outcome: 'right', status: 200, elapsedMs: 50 },
  };
}

/** Which ways in would work on a line, judged by the same trace that judges what is measured; the best first. */
export function compareWays(planned: PlannedLine): WayCompared[] {
  const seconds = (mbit: number): number | null => (mbit > 0 ? Math.round((800 / mbit) * 10) / 10 : null);
  const way = (wayIn: WayIn): Pick<WayCompared, 'works' | 'because' | 'remedies'> => {
    const trace = traceReach(plannedFacts(planned, wayIn));
    const { mark, stage } = traceVerdict(trace);
    const at = trace.find((s) => s.stage === stage);
    return { works: mark !== 'fail', because: mark === 'fail' ? (at?.reason ?? '') : '', remedies: at?.remedies ?? [] };
  };
  const ways: WayCompared[] = [
    {
      wayIn: 'mapping',
      ...way('mapping'),
      secondsFor100Mb: seconds(planned.uploadMbit),
      dependsOn: planned.fixed
        ? 'your line and your router'
        : 'your line, your router, and a name that follows the address',
      exposes: 'one port for pages, one for the redirect',
      upkeep:
        planned.router === 'protocol'
          ? 'none by hand: mapping, record and certificate are renewed'
          : 'the mapping by hand, once',
    },
    {
      wayIn: 'fixed',
      ...(planned.fixed && planned.line === 'own'
        ? way('fixed')
        : {
            works: false,
            because:
              planned.line === 'own' ? 'The address of the line changes.' : 'The line has no address of its own.',
            remedies: [{ act: null, words: 'Ask the provider for a fixed address.' }],
          }),
      secondsFor100Mb: seconds(planned.uploadMbit),
      dependsOn: 'your line',
      exposes: 'the server itself, as far as its firewall lets',
      upkeep: 'the firewall',
    },
    {
      wayIn: 'relay',
      ...way('relay'),
      secondsFor100Mb: seconds(Math.min(planned.uploadMbit, planned.relayMbit)),
      dependsOn: 'whoever runs the relay, who sees when and how much, never what',
      exposes: 'nothing: no port is opened',
      upkeep: 'none',
    },
    {
      wayIn: 'office',
      works: true,
      because: 'Only for people in the office or its tunnel.',
      remedies: [],
      secondsFor100Mb: null,
      dependsOn: 'nobody',
      exposes: 'nothing',
      upkeep: 'none',
    },
  ];
  const rank = (w: WayCompared): number =>
    (w.works ? 0 : 10) + (w.wayIn === 'office' ? 5 : w.wayIn === 'relay' ? 2 : w.wayIn === 'fixed' ? 1 : 0);
  return ways.sort((a, b) => rank(a) - rank(b));
}
