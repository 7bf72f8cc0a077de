import type { EntityManager } from 'typeorm';
import { LIVE, stepDown, stepUp } from '../access/tree.queries.js';

export interface OutgoingFolder {
  folderId: string;
  limitBytes: number;
  clearAfterDays: number;
}

/** Somebody's folder for what goes out, in a home that is theirs, out of the trash; null: there is none. */
export async function outgoingOf(m: EntityManager, personId: string): Promise<OutgoingFolder | null> {
  const [row] = await m.query<OutgoingFolder[]>(
    `SELECT o.folder_id AS "folderId", o.limit_bytes::float8 AS "limitBytes", o.clear_after_days AS "clearAfterDays"
       FROM outgoing o JOIN node n ON n.id = o.folder_id JOIN store s ON s.id = n.store_id
      WHERE o.person_id = $1 AND s.owner_id = $1 AND NOT EXISTS (
        WITH RECURSIVE up AS (
          SELECT c.parent_id, c.trashed_at FROM node c WHERE c.id = o.folder_id
          UNION ALL SELECT p.parent_id, p.trashed_at FROM ${stepUp({ to: 'p' })}
        ) SELECT 1 FROM up WHERE trashed_at IS NOT NULL)
      ORDER BY n.created_at LIMIT 1`,
    [personId],
  );
  return row ?? null;
}

export async function keepOutgoing(tx: EntityManager, personId: string, outgoing: OutgoingFolder): Promise<void> {
  await tx.query(
    `INSERT INTO outgoing (folder_id, person_id, limit_bytes, clear_after_days) VALUES ($1, $2, $3, $4)
      ON CONFLICT DO NOTHING`,
    [outgoing.folderId, personId, outgoing.limitBytes, outgoing.clearAfterDays],
  );
}

export interface OutgoingItem {
  id: string;
  name: string;
  parentId: string;
  clearAfterDays: number;
  changedAt: Date;
}

/**
 * What lies in folders for what goes out and has not changed since.
 * @param only one of it; null: all, some at a time, those after `after` in the order of ids
 */
export function lyingInOutgoing(
  m: EntityManager,
  { before, only, after, limit }: { before: Date; only: string | null; after: string | null; limit: number },
): Promise<OutgoingItem[]> {
  return m.query(
    `WITH RECURSIVE top AS (
       SELECT n.id, n.name, n.parent_id, o.clear_after_days
         FROM outgoing o JOIN node n ON n.parent_id = o.folder_id
        WHERE n.trashed_at IS NULL AND n.changed_at < $1 AND ($3::uuid IS NULL OR n.id = $3) AND ($4::uuid IS NULL OR n.id > $4)
        ORDER BY n.id LIMIT $2
     ), down AS (
       SELECT top.id AS origin, n.id, n.changed_at FROM top JOIN node n ON n.id = top.id
       UNION ALL SELECT down.origin, n.id, n.changed_at FROM ${stepDown(LIVE)}
     )
     SELECT top.id, top.name, top.parent_id AS "parentId", top.clear_after_days AS "clearAfterDays",
            (SELECT max(changed_at) FROM down WHERE down.origin = top.id) AS "changedAt"
       FROM top ORDER BY top.id`,
    [before, limit, only, after],
  );
}
