import type { ShareRow } from '@quay/contract';
import { portabilityWords } from '../platform/office.js';
import { Problem } from '../platform/problems/problem.js';
import type { Who } from '../people/who.js';
import { stateOf, type ShareRecord } from './shares.queries.js';

/** A share as it stands to whoever asks: closed to them, they only see that it is there, and may withdraw it. */
export type Seen = ShareRecord & { closed: 'home' | 'beyond' | null };

/** Homes are closed to everybody but their owner, and so is what is shared from them. */
export const isClosedTo = (who: Who, r: Pick<ShareRecord, 'homeOwners'>): boolean =>
  r.homeOwners.some((owner) => owner !== who.personId);

/** @throws Problem home.closed, share.beyond */
export function requireOpen(share: Seen): void {
  if (share.closed === 'home') throw homeClosed();
  if (share.closed === 'beyond')
    throw new Problem(
      'forbidden',
      'share.beyond',
      'That share also holds what lies where you manage nothing. You can withdraw it.',
    );
}

function homeClosed(): Problem {
  return new Problem(
    'forbidden',
    'home.closed',
    "That share is from somebody's home, which is closed to others. You can withdraw it.",
  );
}

/** That it exists, whose it is and how it stands; nothing of what it holds. */
export function closedRow(r: Seen, now: number): ShareRow {
  return {
    ...rowOf(r, now, 0),
    closed: true,
    title:
      r.closed === 'home' ? `From the home of ${r.creatorName}` : `A share of ${r.creatorName}, from elsewhere too`,
    itemCount: 0,
    audience: 'anyone',
    visitLimit: null,
    visitsUsed: 0,
    lastVisitAt: null,
  };
}

export function rowOf(r: ShareRecord, now: number, totalBytes: number): ShareRow {
  return {
    id: r.id,
    closed: false,
    title: r.title,
    state: stateOf(r, now),
    opensAt: r.opensAt?.toISOString() ?? null,
    closesAt: r.closesAt?.toISOString() ?? null,
    itemCount: r.itemIds.length,
    totalBytes,
    audience: r.audience,
    hasPassword: r.passwordHash !== null,
    visitLimit: r.visitLimit,
    visitsUsed: r.visitsUsed,
    lastVisitAt: r.lastVisitAt?.toISOString() ?? null,
    createdAt: r.createdAt.toISOString(),
    createdBy: r.creatorName,
    withdrawnAt: r.withdrawnAt?.toISOString() ?? null,
    reach: r.reach,
    portability: portabilityWords(r.address.host),
  };
}
