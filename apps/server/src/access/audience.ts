import { levelOfActs, whoCanReach, type AccessLevel, type RootFolder, type StoreFact } from '@quay/core';
import type { EntityManager } from 'typeorm';
import { loadAskers, loadChain } from './access-facts.js';
import { folderOf } from './access.queries.js';
import { peopleByIds } from './grants.queries.js';
import { stepUp } from './tree.queries.js';

/** Somebody who could do more with what is moved than before. */
export interface Gain {
  name: string;
  level: AccessLevel;
}

/**
 * Who, but for whoever moves them, could do more with these items in another folder than where they are. A folder's
 * own grants travel along, and one that takes nothing over takes nothing over there either.
 */
export async function widenedBy(
  m: EntityManager,
  moverId: string,
  nodeIds: string[],
  targetId: string,
  at: number,
): Promise<Gain[]> {
  const different = await byRoots(m, nodeIds, targetId);
  if (different.length === 0) return [];
  const target = await loadChain(m, targetId);
  const askers = await loadAskers(m, null);
  const gains = new Map<string, AccessLevel>();
  for (const { folderId, isRoot } of different) {
    const before = await loadChain(m, folderId);
    const after = isRoot ? [before[0] as RootFolder, ...target] : target;
    const had = new Map(whoCanReach(before, storeOf(before), askers, at).map((r) => [r.personId, r.access.acts]));
    for (const { personId, access } of whoCanReach(after, storeOf(target), askers, at)) {
      const more = access.acts.some((act) => !had.get(personId)?.includes(act));
      const level = levelOfActs(access.acts);
      if (more && level) gains.set(personId, level);
    }
  }
  gains.delete(moverId);
  const people = await peopleByIds(m, [...gains.keys()]);
  return people
    .map((p) => ({ name: p.name, level: gains.get(p.id) as AccessLevel }))
    .sort((a, b) => a.name.localeCompare(b.name, 'en'));
}

/** Of these items, one for each root that they have and the target has not: the others of that root fare alike. */
function byRoots(
  m: EntityManager,
  nodeIds: string[],
  targetId: string,
): Promise<{ folderId: string; isRoot: boolean }[]> {
  return m.query(
    `SELECT DISTINCT ON (f.root, it.is_root) f.folder_id AS "folderId", it.is_root AS "isRoot"
       FROM node n JOIN folder_access f ON f.folder_id = ${folderOf('n')} JOIN access_root r ON r.id = f.root
      CROSS JOIN LATERAL (SELECT r.folder_id = n.id AS is_root) it
      WHERE n.id = ANY($1) AND f.root <> (SELECT root FROM folder_access WHERE folder_id = $2)`,
    [nodeIds, targetId],
  );
}

const storeOf = (chain: readonly RootFolder[]): StoreFact => (chain.at(-1) as RootFolder).store;

/** Whether something was granted on one of these folders or below, and has not ended. */
export async function hasGrantsWithin(
  m: EntityManager,
  nodes: readonly { id: string; storeId: string }[],
): Promise<boolean> {
  const rows = await m.query<unknown[]>(
    `WITH RECURSIVE up AS (
       SELECT n.id, n.parent_id FROM access_root r JOIN node n ON n.id = r.folder_id
        WHERE n.store_id = ANY($2) AND n.parent_id IS NOT NULL AND n.purged_at IS NULL
          AND EXISTS (SELECT 1 FROM access_grant g WHERE g.node_id = n.id AND g.ended_at IS NULL)
       UNION
       SELECT n.id, n.parent_id FROM ${stepUp()}
     ) SELECT 1 FROM up WHERE id = ANY($1) LIMIT 1`,
    [nodes.map((n) => n.id), [...new Set(nodes.map((n) => n.storeId))]],
  );
  return rows.length > 0;
}
