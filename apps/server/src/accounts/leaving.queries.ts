import type { AccessLevel } from '@quay/core';
import type { EntityManager } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';

/** What was done when somebody left, as far as it can be taken back. */
export interface LeavingDone {
  groupIds: string[];
  managedIds: string[];
  grants: { folderId: string; level: AccessLevel; until: string | null }[];
  guestIds: string[];
  shares: { id: string; toPersonId: string | null }[];
  /** To whom the home went; null: it stayed. */
  home: { storeId: string; toPersonId: string } | null;
}

export interface LeavingRecord {
  id: string;
  personId: string;
  leftAt: Date;
  leftBy: string;
  done: LeavingDone;
  homeUntil: Date | null;
  homePurgedAt: Date | null;
}

/** That somebody has left; null: they have not, or are back. */
export async function leavingOf(m: EntityManager, personId: string): Promise<LeavingRecord | null> {
  const [row] = await m.query<LeavingRecord[]>(`${LEAVINGS} WHERE l.person_id = $1 AND l.undone_at IS NULL`, [
    personId,
  ]);
  return row ?? null;
}

/** Whose home goes by now. */
export function homesDue(m: EntityManager, now: Date): Promise<LeavingRecord[]> {
  return m.query(`${LEAVINGS} WHERE l.undone_at IS NULL AND l.home_until <= $1 ORDER BY l.home_until`, [now]);
}

const LEAVINGS = `SELECT l.id, l.person_id AS "personId", l.left_at AS "leftAt", l.left_by AS "leftBy", l.done,
  l.home_until AS "homeUntil", l.home_purged_at AS "homePurgedAt" FROM leaving l`;

export async function insertLeaving(
  tx: EntityManager,
  l: { personId: string; by: string; at: Date; done: LeavingDone; homeUntil: Date | null },
): Promise<void> {
  await tx.query(
    'INSERT INTO leaving (id, person_id, left_at, left_by, done, home_until) VALUES ($1, $2, $3, $4, $5, $6)',
    [uuidv7(), l.personId, l.at, l.by, JSON.stringify(l.done), l.homeUntil],
  );
}

export async function leavingUndone(tx: EntityManager, id: string, at: Date): Promise<void> {
  await tx.query('UPDATE leaving SET undone_at = $2 WHERE id = $1', [id, at]);
}

/**
 * From here on there is no way back to the home. @returns false: they were brought back meanwhile
 */
export async function homeGoing(tx: EntityManager, id: string, at: Date): Promise<boolean> {
  const [, changed] = (await tx.query(
    'UPDATE leaving SET home_purged_at = coalesce(home_purged_at, $2) WHERE id = $1 AND undone_at IS NULL',
    [id, at],
  )) as [unknown, number];
  return changed > 0;
}

/** Nothing of it is left. */
export async function homeGone(tx: EntityManager, id: string): Promise<void> {
  await tx.query('UPDATE leaving SET home_until = NULL WHERE id = $1', [id]);
}
