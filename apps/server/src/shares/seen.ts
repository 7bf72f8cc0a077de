import type { EntityManager } from 'typeorm';
import type { Who } from '../people/who.js';
import { managedAmong } from './managed.queries.js';
import { isClosedTo, type Seen } from './rows.js';
import type { ShareRecord } from './shares.queries.js';

/**
 * Of these shares, those that somebody sees, as they stand to them: their own; all, where they run the server; and
 * those that hold something which they manage.
 */
export async function seenAmong(m: EntityManager, who: Who, shares: readonly ShareRecord[], at: Date): Promise<Seen[]> {
  const isTheirs = (share: ShareRecord) => who.role === 'admin' || share.createdBy === who.personId;
  const others = shares.filter((share) => !isTheirs(share)).map((share) => share.id);
  const managed = await managedAmong(m, who, others, at);
  return shares.flatMap((share): Seen[] => {
    if (!isTheirs(share) && !managed.has(share.id)) return [];
    if (isClosedTo(who, share)) return [{ ...share, closed: 'home' }];
    return [{ ...share, closed: isTheirs(share) || managed.get(share.id)?.whole ? null : 'beyond' }];
  });
}
