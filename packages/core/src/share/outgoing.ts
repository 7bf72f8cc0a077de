import type { Instant } from '../text/when.js';

/** Where files go that are dropped on the slip: a folder in the home of whoever drops them. */
export const OUTGOING = { name: 'Outgoing', limitBytes: 20e9, clearAfterDays: 30 } as const;

const DAY_MS = 86_400_000;

/** Something that lies in there, with the shares that it is in. */
export interface OutgoingFacts {
  /** When it came, or was changed last. */
  changedAt: Instant;
  /** When each of these shares ended, by its window or because it was withdrawn; null: it could be opened still. */
  sharesEnd: readonly (Instant | null)[];
}

/** Whether nobody needs it any more: it is in no share that could be opened, and that has been so for some days. */
export function isOutgoingDue({ changedAt, sharesEnd }: OutgoingFacts, clearAfterDays: number, at: Instant): boolean {
  if (sharesEnd.includes(null)) return false;
  const since = Math.max(changedAt, ...sharesEnd.filter((end) => end !== null));
  return at - since >= clearAfterDays * DAY_MS;
}
