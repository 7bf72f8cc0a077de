import type { Instant } from '../text/when.js';
import { STAGES, type ReachFacts, type StageResult } from './facts.js';
import { judgeCertificate } from './judge-page.js';
import { judgeLine, judgeRouter, leaseWords } from './judge-way.js';

/** That somebody came all the way in from outside, as the server itself saw. */
export interface SeenFromOutside {
  at: Instant;
  by: 'telephone' | 'visitor';
  /** Where they came from. */
  from: string;
  /** Whether their browser had taken the certificate. */
  encrypted: boolean;
}

/** For so long it says something of now; then somebody is to look again. */
export const SEEN_HOLDS_MS = 86_400_000;

export const SEEN_WORDS: Record<SeenFromOutside['by'], string> = {
  telephone: 'by telephone',
  visitor: 'by a visitor',
};

/** What is known from inside, and that somebody came in. */
export interface SeenFacts extends Pick<ReachFacts, 'wayIn' | 'host' | 'port' | 'at' | 'server' | 'line' | 'mapping'> {
  seen: SeenFromOutside;
  /** Who opened the port on the router: what the program opened and the router has forgotten lets nobody in by now. */
  openedBy: 'program' | 'hand';
  /** The certificate that is served; null: none. */
  certificate: { notBefore: Instant; notAfter: Instant; issuer: string; names: string[] } | null;
}

/**
 * Follows the way in where nobody stands outside who could look: what router and certificate say now, and that somebody
 * came through all of it a while ago. @returns null where that was too long ago
 */
export function traceSeen(facts: SeenFacts): StageResult[] | null {
  const { seen, certificate, at } = facts;
  const agoMs = Math.max(0, at - seen.at);
  if (agoMs > SEEN_HOLDS_MS) return null;
  const note = `${leaseWords(agoMs / 1000)} ago`;
  const known: ReachFacts = {
    ...facts,
    vantage: 'outside',
    lookup: null,
    connect: { outcome: 'connected', address: facts.line?.seenAddress ?? facts.host, elapsedMs: 0 },
    tls: certificate && seen.encrypted ? { ...certificate, outcome: 'agreed', protocol: null, trusted: true } : null,
    redirect: null,
    page: null,
  };
  const passed = { mark: 'ok', value: 'passed', note } as const;
  const judged: Record<(typeof STAGES)[number], Partial<StageResult>> = {
    name: passed,
    line: judgeLine(known),
    router: judgeRouter(facts.openedBy === 'program' ? { ...known, connect: null } : known),
    port: passed,
    certificate: judgeCertificate(known),
    redirect: { mark: 'skipped', value: 'not looked at' },
    page: { mark: 'ok', value: 'opened', note },
  };
  let failed = false;
  return STAGES.map((stage): StageResult => {
    const empty = { stage, mark: 'not-reached', value: '', note: '', reason: '', remedies: [] } as const;
    if (failed) return { ...empty, remedies: [] };
    const result = { ...empty, remedies: [], ...judged[stage] } as StageResult;
    failed = result.mark === 'fail';
    return result;
  });
}
