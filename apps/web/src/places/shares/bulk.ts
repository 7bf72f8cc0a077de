import type { ChangeShare, ShareRow } from '@quay/contract';
import { countOf, extendedBy, type Instant } from '@quay/core';

/** What is done to several shares at once. */
export type BulkAct = 'extend' | 'withdraw' | 'reopen';

/** One of them, what is asked of it, and what it was before. */
export interface BulkStep {
  id: string;
  title: string;
  change: ChangeShare;
  before: ChangeShare;
}

const EXTEND_DAYS = 7;

/** Whether something can be done to a share; from somebody's home it can only be withdrawn. */
export function canBe(act: BulkAct, { closesAt, withdrawnAt, closed }: ShareRow): boolean {
  switch (act) {
    case 'extend':
      return withdrawnAt === null && closesAt !== null && !closed;
    case 'withdraw':
      return withdrawnAt === null;
    case 'reopen':
      return withdrawnAt !== null && !closed;
  }
}

/** What is asked of those to which it can be done. */
export function stepsOf(act: BulkAct, shares: readonly ShareRow[], now: Instant, zone: string): BulkStep[] {
  return shares
    .filter((share) => canBe(act, share))
    .map(({ id, title, opensAt, closesAt }) => {
      if (act !== 'extend')
        return { id, title, change: { withdrawn: act === 'withdraw' }, before: { withdrawn: act !== 'withdraw' } };
      // One that has closed is open for a week from now.
      const from = Math.max(now, Date.parse(closesAt ?? ''));
      const extended = new Date(extendedBy(from, EXTEND_DAYS, zone)).toISOString();
      return {
        id,
        title,
        change: { window: { opensAt, closesAt: extended } },
        before: { window: { opensAt, closesAt } },
      };
    });
}

const DONE: Record<BulkAct, string> = {
  extend: 'extended by a week',
  withdraw: 'withdrawn',
  reopen: 'open again, as their windows say',
};

/** What is said when it is done. */
export const doneWords = (act: BulkAct, done: number): string => `${countOf(done, 'share')} ${DONE[act]}.`;

/** What is said of those that it could not be done to. */
export const failedWords = (failed: readonly { title: string; why: string }[]): string =>
  `${failed[0]?.title}: ${failed[0]?.why}${failed.length > 1 ? ` And ${failed.length - 1} more could not be changed.` : ''}`;
