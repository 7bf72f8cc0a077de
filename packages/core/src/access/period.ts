import type { Instant } from '../text/when.js';

/** A time during which something holds, half open: from `since` until just before `until`; null: without an end. */
export interface Period {
  since: Instant;
  until: Instant | null;
}

export const holdsAt = ({ since, until }: Period, at: Instant): boolean =>
  since <= at && (until === null || at < until);

/** The time during which both hold; null when there is none. */
export function overlap(a: Period, b: Period): Period | null {
  const since = Math.max(a.since, b.since);
  const until = a.until === null ? b.until : b.until === null ? a.until : Math.min(a.until, b.until);
  return until !== null && until <= since ? null : { since, until };
}

/** The moments after `at` at which one of these begins or ends, in order. */
export function boundariesAfter(spans: Iterable<Period>, at: Instant): Instant[] {
  const moments = new Set<Instant>();
  for (const { since, until } of spans)
    for (const moment of [since, until]) if (moment !== null && moment > at) moments.add(moment);
  return [...moments].sort((a, b) => a - b);
}
