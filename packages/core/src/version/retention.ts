import { countOf } from '../text/size.js';
import type { Instant } from '../text/when.js';

/** Common practice, no source: enough for a drawing's revisions, little enough to be kept by everybody. */
export const VERSIONS_KEPT_DEFAULT = 32;
/** What rules of a store may say. */
export const VERSIONS_KEPT_RANGE = { min: 1, max: 1000, whole: true } as const;
export const DAYS_RANGE = { min: 1, max: 3650, whole: true } as const;
const DAY_MS = 86_400_000;
const WEEK_MS = 7 * DAY_MS;

export interface VersionFacts {
  id: string;
  /** Counts up from 1; the highest is the present one. */
  number: number;
  createdAt: Instant;
  /** Kept for ever, by somebody's wish. */
  kept: boolean;
}

export interface VersionPolicy {
  /** The newest that stay, the present one included. */
  versionsKept: number;
  /** Older than this, one a week is enough; null: no thinning. */
  thinAfterDays: number | null;
}

export type RemovalReason = 'over-count' | 'thinned';

/**
 * Exactly which versions of one file a policy removes. The present version and those kept for ever always stay; kept
 * ones do not count towards the number. Of versions older than `thinAfterDays` the newest of each week stays (weeks
 * counted from the epoch, so that the answer does not change from one day to the next). Pure: the same rule tells what
 * would go and what goes.
 */
export function versionsToRemove(
  versions: readonly VersionFacts[],
  policy: VersionPolicy,
  now: Instant,
): { id: string; reason: RemovalReason }[] {
  const newestFirst = [...versions].sort((a, b) => b.number - a.number);
  const weeks = new Set<number>();
  const removed: { id: string; reason: RemovalReason }[] = [];
  let counted = 0;
  for (const [index, version] of newestFirst.entries()) {
    if (version.kept) continue;
    const old = policy.thinAfterDays !== null && now - version.createdAt > policy.thinAfterDays * DAY_MS;
    const week = Math.floor(version.createdAt / WEEK_MS);
    if (index > 0 && old && weeks.has(week)) {
      removed.push({ id: version.id, reason: 'thinned' });
      continue;
    }
    if (old) weeks.add(week);
    counted += 1;
    if (index > 0 && counted > policy.versionsKept) removed.push({ id: version.id, reason: 'over-count' });
  }
  return removed;
}

/** The policy as one sentence. */
export function policyWords(policy: VersionPolicy): string {
  const kept =
    policy.versionsKept === 1
      ? 'Only the present version is kept'
      : `The newest ${policy.versionsKept} versions of a file are kept`;
  return policy.thinAfterDays === null
    ? `${kept}.`
    : `${kept}; of those older than ${countOf(policy.thinAfterDays, 'day')}, one a week.`;
}
