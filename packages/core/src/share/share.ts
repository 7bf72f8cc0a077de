import type { Instant } from '../text/when.js';
import { windowPhase, type Window } from '../window/window.js';

export const SHARE_STATES = ['open', 'scheduled', 'closed', 'usedUp', 'withdrawn', 'broken'] as const;
export type ShareState = (typeof SHARE_STATES)[number];

export const STATE_WORDS: Record<ShareState, string> = {
  open: 'open',
  scheduled: 'scheduled',
  closed: 'closed',
  usedUp: 'used up',
  withdrawn: 'withdrawn',
  broken: 'broken',
};

/** What the state of a share depends on. */
export interface ShareFacts {
  window: Window;
  withdrawnAt: Instant | null;
  /** True while an item, or the address the link is built on, is gone. */
  broken: boolean;
  /** Visits that may be served; null for no limit. */
  visitLimit: number | null;
  visitsUsed: number;
  /** Since when a guardrail keeps it closed; null: none does. */
  barredAt: Instant | null;
}

/** The smallest and largest visit limit that can be asked for. */
export const VISIT_LIMIT_RANGE = { min: 1, max: 100_000, whole: true } as const;

/** A visit by one browser lasts this long; opening again after it is a new visit (common practice, no source). */
export const VISIT_LIFETIME_SECONDS = 12 * 3600;

/** Why files cannot go when a share closes. */
export const NO_END_WORDS = 'The files go when the share closes: give it an end.';

/** The state at an instant, the first that applies: withdrawn > broken > usedUp > closed > scheduled > open. */
export function shareState(facts: ShareFacts, at: Instant): ShareState {
  if (facts.withdrawnAt !== null && at >= facts.withdrawnAt) return 'withdrawn';
  if (facts.broken) return 'broken';
  if (facts.visitLimit !== null && facts.visitsUsed >= facts.visitLimit) return 'usedUp';
  if (facts.barredAt !== null && at >= facts.barredAt) return 'closed';
  return windowPhase(facts.window, at);
}

/** The next change that time alone brings, and when; null when nothing will change by itself. */
export function nextChange(facts: ShareFacts, at: Instant): { at: Instant; state: ShareState } | null {
  const { opensAt, closesAt } = facts.window;
  switch (shareState(facts, at)) {
    case 'scheduled':
      return opensAt === null ? null : { at: opensAt, state: 'open' };
    case 'open':
      return closesAt === null ? null : { at: closesAt, state: 'closed' };
    case 'usedUp':
    case 'closed':
    case 'withdrawn':
    case 'broken':
      return null;
  }
}

/**
 * Whether a visit that began earlier may still read files. A limit that has been reached refuses new visits, not the
 * visits that were already served; everything else that shuts a share shuts it for them too.
 */
export function visitMayContinue(facts: ShareFacts, visitBegan: Instant, at: Instant): boolean {
  if (at >= visitBegan + VISIT_LIFETIME_SECONDS * 1000) return false;
  return shareState({ ...facts, visitLimit: null }, at) === 'open';
}
