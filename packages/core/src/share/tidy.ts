import type { Instant } from '../text/when.js';
import { shareState, VISIT_LIFETIME_SECONDS, type ShareFacts } from './share.js';

/** Why a share may be taken off the list for good. */
export const TIDY_KINDS = ['closed', 'withdrawn', 'usedUp', 'broken'] as const;
export type TidyKind = (typeof TIDY_KINDS)[number];

const DAY_MS = 86_400_000;
/** What has been over for so long is hardly opened again (common practice, no source). */
export const TIDY_AFTER_MS = 90 * DAY_MS;

export const TIDY_WORDS: Record<TidyKind, string> = {
  closed: 'closed over 90 days ago',
  withdrawn: 'withdrawn over 90 days ago',
  usedUp: 'used up',
  broken: 'broken',
};

/** What has been over for long; the rest might still be wanted, once more visits are allowed or an item is put back. */
export const isOverForLong = (kind: TidyKind): boolean => kind === 'closed' || kind === 'withdrawn';

export interface TidyFacts extends ShareFacts {
  lastVisitAt: Instant | null;
  /** Its files go to the trash when it closes: that would be forgotten with it. */
  removesFiles: boolean;
}

/** As what a share may be taken off the list; null: it may not. */
export function tidyKind(facts: TidyFacts, at: Instant): TidyKind | null {
  const { window, withdrawnAt, lastVisitAt, removesFiles } = facts;
  const long = at - TIDY_AFTER_MS;
  if (withdrawnAt !== null) return withdrawnAt <= long ? 'withdrawn' : null;
  if (window.closesAt !== null && window.closesAt <= long) return 'closed';
  if (removesFiles && (window.closesAt === null || window.closesAt > at)) return null;
  const state = shareState(facts, at);
  if (state === 'broken') return 'broken';
  // Those who used the last visits may be inside still.
  const isQuiet = lastVisitAt === null || lastVisitAt + VISIT_LIFETIME_SECONDS * 1000 <= at;
  return state === 'usedUp' && isQuiet ? 'usedUp' : null;
}
