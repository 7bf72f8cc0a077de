import { actBits, chainOf, effectiveAccess } from '@quay/core';
import type { EntityManager } from 'typeorm';
import { loadAskers, loadRoots } from './access-facts.js';
import { reachStands } from './access.queries.js';

/**
 * Sees to it that what these people reach stands in `access_reach`, as of the present state of the facts and of this
 * moment. It is worked out anew only when something has changed, or when a date has come at which it changes by itself.
 * @returns whether it stood already, so that what was asked beside this question holds
 */
export async function ensureReach(m: EntityManager, personIds: readonly string[], at: Date): Promise<boolean> {
  const stale = await staleOf(m, personIds, at);
  if (stale.length === 0) return true;
  await m.transaction(async (tx) => {
    await tx.query(
      `INSERT INTO access_reach_state (person_id, generation, since) SELECT unnest($1::uuid[]), 0, $2
        ON CONFLICT DO NOTHING`,
      [stale, at],
    );
    // One after the other for each person, in one order; whoever waited finds it done.
    await tx.query('SELECT 1 FROM access_reach_state WHERE person_id = ANY($1) ORDER BY person_id FOR UPDATE', [stale]);
    const left = await staleOf(tx, stale, at);
    if (left.length > 0) await workOut(tx, left, at);
  });
  return false;
}

/**
 * Holds what somebody reaches until the transaction ends: whoever works it out anew for a later moment waits, and then
 * finds what this transaction made of it.
 */
export async function lockReach(tx: EntityManager, personId: string, at: Date): Promise<void> {
  await ensureReach(tx, [personId], at);
  await tx.query('SELECT 1 FROM access_reach_state WHERE person_id = $1 FOR UPDATE', [personId]);
}

async function staleOf(m: EntityManager, personIds: readonly string[], at: Date): Promise<string[]> {
  const rows = await m.query<{ id: string }[]>(
    `SELECT p.id FROM person p WHERE p.id = ANY($1) AND NOT ${reachStands('p.id', '$2')}`,
    [personIds, at],
  );
  return rows.map((r) => r.id);
}

async function workOut(tx: EntityManager, personIds: string[], at: Date): Promise<void> {
  // Read before the facts: what changes between the two is worked out once more the next time.
  const [state] = await tx.query<{ generation: string }[]>('SELECT generation FROM access_state');
  const [roots, askers, numbers] = [
    await loadRoots(tx),
    await loadAskers(tx, personIds),
    await tx.query<{ id: number; folderId: string }[]>('SELECT id, folder_id AS "folderId" FROM access_root'),
  ];
  await tx.query('DELETE FROM access_reach WHERE person_id = ANY($1)', [personIds]);
  for (const asker of askers) {
    const rows: { root: number; acts: number; own: number }[] = [];
    let validUntil: number | null = null;
    for (const { id, folderId } of numbers) {
      const root = roots.get(folderId);
      // A root that came between the two questions is worked out the next time.
      if (!root) continue;
      const access = effectiveAccess(chainOf(roots, folderId), root.store, asker, at.getTime());
      if (access.own.length > 0) rows.push({ root: id, acts: actBits(access.acts), own: actBits(access.own) });
      if (access.validUntil !== null) validUntil = Math.min(validUntil ?? Infinity, access.validUntil);
    }
    await tx.query(
      `INSERT INTO access_reach (person_id, root, acts, own) SELECT $1, *
        FROM unnest($2::int[], $3::smallint[], $4::smallint[])`,
      [asker.personId, rows.map((r) => r.root), rows.map((r) => r.acts), rows.map((r) => r.own)],
    );
    const publishable = rows.filter((r) => (r.acts & actBits(['publish'])) !== 0).map((r) => r.root);
    await tx.query(
      `UPDATE access_reach_state SET generation = $2, since = $3, valid_until = $4, publishable = $5
        WHERE person_id = $1`,
      [
        asker.personId,
        state?.generation,
        at,
        validUntil === null ? null : new Date(validUntil),
        publishable.sort((a, b) => a - b),
      ],
    );
  }
}
