import { actBits } from '@quay/core';
import type { EntityManager } from 'typeorm';
import { ensureReach } from '../access/access-reach.js';
import { bitsOn, mayBeyondHome } from '../access/access.queries.js';
import type { Who } from '../people/who.js';

/** Whoever manages a folder sees what is shared from it; past a stop an admin manages without seeing. */
const MANAGES = actBits(['see', 'read', 'manage']);

const holdsItem = (person: string, managed: boolean): string =>
  `EXISTS (SELECT 1 FROM share_item i JOIN node n ON n.id = i.node_id WHERE i.share_id = s.id
     AND ((${bitsOn('n', person)} & ${MANAGES}) = ${MANAGES}) = ${managed})`;

/** Whether a share `s` holds an item that a person manages where it lies. Asked after `ensureReach`. */
export const holdsManaged = (person: string): string => holdsItem(person, true);

/** Whether it holds one that they do not. */
export const holdsForeign = (person: string): string => holdsItem(person, false);

/** Whether somebody manages anything but their own home: only then are there shares of others that are theirs to see. */
export async function managesSomething(m: EntityManager, who: Who, at: Date): Promise<boolean> {
  // Guests are told nothing of who else gets what.
  if (who.role === 'guest') return false;
  await ensureReach(m, [who.personId], at);
  return mayBeyondHome(m, who.personId, MANAGES);
}

/**
 * Of these shares, those with an item that somebody manages where it lies; and whether they manage all of its items.
 */
export async function managedAmong(
  m: EntityManager,
  who: Who,
  shareIds: readonly string[],
  at: Date,
): Promise<Map<string, { whole: boolean }>> {
  if (shareIds.length === 0 || !(await managesSomething(m, who, at))) return new Map();
  const rows = await m.query<{ id: string; whole: boolean }[]>(
    `SELECT s.id, NOT ${holdsForeign('$2')} AS whole FROM share s WHERE s.id = ANY($1) AND ${holdsManaged('$2')}`,
    [shareIds, who.personId],
  );
  return new Map(rows.map(({ id, whole }) => [id, { whole }]));
}
