import { STAGES, type Judged, type ReachFacts, type Remedy, type Stage, type StageResult } from './facts.js';
import { judgeCertificate, judgePage, judgeRedirect } from './judge-page.js';
import { firewallByHand, judgeLine, judgeName, judgePort, judgeRouter, openSix, updateOf } from './judge-way.js';
import { isLine, isSix, parentOf, reached, staysInside } from './read-facts.js';

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

/** What a whole trace comes to: the worst mark, and the stage that decided it. */
export function traceVerdict(stages: readonly StageResult[]): { mark: 'ok' | 'warn' | 'fail'; stage: Stage | null } {
  const worst = stages.find((s) => s.mark === 'fail') ?? stages.find((s) => s.mark === 'warn');
  return worst ? { mark: worst.mark as 'warn' | 'fail', stage: worst.stage } : { mark: 'ok', stage: null };
}
