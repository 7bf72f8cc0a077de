import type { BroughtFile } from '@quay/contract';
import type { EntityManager } from 'typeorm';
import { isSeen } from '../access/access.queries.js';
import { knowVisitor } from '../people/people.queries.js';
import { takeIn } from '../shares/shares.queries.js';
import { itemOf, stepUp } from '../access/tree.queries.js';

// What visitors bring into shares.

/** What lies at or below an item of a share that is served as it is, with nothing in the trash and no litter on the way. */
export async function liveInShare(
  m: EntityManager,
  shareId: string,
  nodeId: string,
): Promise<{ kind: 'folder' | 'file'; broughtBy: string | null } | null> {
  const [row] = await m.query<{ kind: 'folder' | 'file'; broughtBy: string | null }[]>(
    `WITH RECURSIVE up AS (
       SELECT id, parent_id, trashed_at IS NOT NULL OR litter AS gone FROM node WHERE id = $2
       UNION ALL
       SELECT n.id, n.parent_id, n.trashed_at IS NOT NULL OR n.litter FROM ${stepUp()} WHERE NOT up.gone
     )
     SELECT n.kind, CASE WHEN n.accepted_at IS NULL THEN n.brought_by END AS "broughtBy" FROM node n
      WHERE n.id = $2 AND n.purged_at IS NULL
        -- As far up as the item that it belongs to; what is in the trash above that is for nobody.
        AND EXISTS (SELECT 1 FROM up JOIN share_item i ON i.node_id = up.id
                     WHERE i.share_id = $1 AND i.frozen_at IS NULL)
        AND NOT EXISTS (SELECT 1 FROM up WHERE gone)`,
    [shareId, nodeId],
  );
  return row ?? null;
}

/** Has a share stay as it is until the transaction ends. */
export async function holdShare(tx: EntityManager, tokenHash: Buffer): Promise<string | null> {
  const [row] = await tx.query<{ id: string }[]>('SELECT id FROM share WHERE token_hash = $1 FOR NO KEY UPDATE', [
    tokenHash,
  ]);
  return row?.id ?? null;
}

/**
 * As whom a visit brings something: whoever is signed in as themselves; who proved an address as one and the same in all
 * their visits of a share; anyone else as this visit.
 */
export async function actorOfVisit(
  m: EntityManager,
  visit: { id: string; shareId: string; recipient: string | null; personId: string | null; name: string },
): Promise<string> {
  if (visit.personId !== null) {
    await m.query('UPDATE visit SET actor_id = $2 WHERE id = $1 AND actor_id IS NULL', [visit.id, visit.personId]);
    return visit.personId;
  }
  await knowVisitor(m, visit.id, visit.name);
  const [[row]] = (await m.query(
    `UPDATE visit SET actor_id = coalesce(actor_id,
        (SELECT actor_id FROM visit WHERE share_id = $2 AND recipient = $3 AND actor_id IS NOT NULL
          ORDER BY began_at LIMIT 1), id) WHERE id = $1 RETURNING actor_id AS id`,
    [visit.id, visit.shareId, visit.recipient],
  )) as [[{ id: string } | undefined], number];
  return row?.id ?? visit.id;
}

/** Files that an actor brought and that nobody has put another version on. */
export async function ownFiles(m: EntityManager, actorId: string): Promise<Set<string>> {
  const rows = await m.query<{ id: string }[]>(
    `SELECT id FROM node WHERE brought_by = $1 AND accepted_at IS NULL AND kind = 'file' AND trashed_at IS NULL`,
    [actorId],
  );
  return new Set(rows.map((r) => r.id));
}

/** What is on its way into a share: how many bytes in all, and how many uploads of one actor. */
export async function onTheirWay(
  m: EntityManager,
  shareId: string,
  actorId: string,
): Promise<{ bytes: number; uploads: number }> {
  const [row] = await m.query<{ bytes: number; uploads: number }[]>(
    `SELECT coalesce(sum(size_bytes), 0)::float8 AS bytes, count(*) FILTER (WHERE actor_id = $2)::int AS uploads
       FROM upload WHERE share_id = $1 AND answer IS NULL`,
    [shareId, actorId],
  );
  return row ?? { bytes: 0, uploads: 0 };
}

/** Writes down what came through a share. @returns false where it takes in no more */
export async function noteBrought(
  tx: EntityManager,
  {
    shareId,
    nodeId,
    visitId,
    sizeBytes,
    at,
  }: { shareId: string; nodeId: string; visitId: string; sizeBytes: number; at: Date },
): Promise<boolean> {
  if (!(await takeIn(tx, shareId, sizeBytes))) return false;
  await tx.query(
    `INSERT INTO share_brought (version_id, share_id, node_id, visit_id, at)
     SELECT version_id, $1, id, $3, $4 FROM node WHERE id = $2`,
    [shareId, nodeId, visitId, at],
  );
  return true;
}

/** @returns true the first time that a visit brings something */
export async function beginBringing(tx: EntityManager, visitId: string, at: Date): Promise<boolean> {
  const [, count] = (await tx.query('UPDATE visit SET brought_at = $2 WHERE id = $1 AND brought_at IS NULL', [
    visitId,
    at,
  ])) as [unknown, number];
  return count > 0;
}

/** What visitors brought into a share and is still there as they brought it, as far as somebody sees it, the last first. */
export async function broughtInto(
  m: EntityManager,
  shareId: string,
  personId: string,
  limit: number,
): Promise<BroughtFile[]> {
  const rows = await m.query<(Omit<BroughtFile, 'at'> & { at: Date })[]>(
    `SELECT n.id, n.name, n.parent_id AS "folderId", v.size_bytes::float8 AS "sizeBytes", a.name AS who, b.at,
            v.number > 1 AS replaced
       FROM share_brought b ${itemOf('b.node_id')} JOIN file_version v ON v.id = b.version_id
       JOIN actor a ON a.id = v.created_by
      WHERE b.share_id = $1 AND n.version_id = b.version_id AND n.trashed_at IS NULL AND n.purged_at IS NULL
        AND ${isSeen('n', '$2')} ORDER BY b.at DESC, b.version_id LIMIT $3`,
    [shareId, personId, limit],
  );
  return rows.map((row) => ({ ...row, at: row.at.toISOString() }));
}
