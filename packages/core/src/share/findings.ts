import type { Instant } from '../text/when.js';
import type { ShareState } from './share.js';

export type FindingKind = 'broken' | 'barred' | 'open-for-ever' | 'used-up-early' | 'closes-soon';

export interface Finding {
  kind: FindingKind;
  shareId: string;
}

/** What a finding depends on. */
export interface FindingFacts {
  id: string;
  state: ShareState;
  opensAt: Instant | null;
  closesAt: Instant | null;
  createdAt: Instant;
  lastVisitAt: Instant | null;
  /** Since when a guardrail keeps it closed. */
  barredAt: Instant | null;
}

const DAY_MS = 86_400_000;
/** An open share without an end is worth a look after a month (common practice, no source). */
export const OPEN_LONG_MS = 28 * DAY_MS;
/** One that closes within a day is, too. */
export const CLOSES_SOON_MS = DAY_MS;

const HARM: Record<FindingKind, number> = {
  ...{ broken: 0, barred: 1, 'open-for-ever': 2, 'used-up-early': 3, 'closes-soon': 4 },
};

/** What needs a hand, in order of harm: each kind has one remedy. */
export function shareFindings(shares: readonly FindingFacts[], now: Instant): Finding[] {
  return shares
    .flatMap((share): Finding[] => {
      const kind = findingOf(share, now);
      return kind ? [{ kind, shareId: share.id }] : [];
    })
    .sort((a, b) => HARM[a.kind] - HARM[b.kind]);
}

function findingOf(share: FindingFacts, now: Instant): FindingKind | null {
  const lasts = share.closesAt === null || share.closesAt > now;
  if (share.state === 'broken' && lasts) return 'broken';
  if (share.state === 'closed' && lasts && share.barredAt !== null) return 'barred';
  if (share.state === 'open' && share.closesAt === null && now - (share.opensAt ?? share.createdAt) >= OPEN_LONG_MS)
    return 'open-for-ever';
  if (share.state === 'usedUp' && lasts) return 'used-up-early';
  if (share.state === 'open' && share.closesAt !== null && share.closesAt - now <= CLOSES_SOON_MS) return 'closes-soon';
  return null;
}
