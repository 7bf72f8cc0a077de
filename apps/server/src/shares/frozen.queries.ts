import { actBits } from '@quay/core';
import type { EntityManager } from 'typeorm';
import { bitsIn, folderOf } from '../access/access.queries.js';
import { itemOf, stepUp } from '../access/tree.queries.js';
import {
  contentBytes,
  contentColumns,
  contentRows,
  MOST_CONTENTS,
  shownBelow,
  withOwnTops,
  type ContentRow,
  type FileBytes,
} from '../stores/branch.queries.js';
import { liveIdsOf, type ShareRecord } from './shares.queries.js';

// Frozen items: what was in them when they were frozen is kept as a list of versions, and served as far as it is not
// in the trash and its publisher may publish it still.

const PUBLISH = actBits(['publish']);

/**
 * Keeps what is in items now. Files in them are neither replaced nor lose versions meanwhile.
 * @returns how many entries there were; more than {@link MOST_CONTENTS} are not kept
 */
export async function freeze(
  tx: EntityManager,
  { shareId, itemIds, personId, at }: { shareId: string; itemIds: string[]; personId: string; at: Date },
): Promise<number> {
  const shown = shownBelow();
  const within = [itemIds, personId, PUBLISH] as const;
  await tx.query(
    `${shown.begin} SELECT 1 FROM node WHERE id IN (SELECT id FROM down WHERE kind = 'file' LIMIT ${MOST_CONTENTS})
      ORDER BY id FOR SHARE`,
    [...within],
  );
  const [, count] = (await tx.query(
    `${shown.begin} INSERT INTO share_frozen (share_id, item_id, node_id, version_id, kind, path, sort, media_type, changed_at)
     SELECT $4, origin, id, version_id, kind, path, sort, media_type, changed_at FROM down WHERE ${shown.allowed}
      LIMIT ${MOST_CONTENTS + 1} RETURNING 1`,
    [...within, shareId],
  )) as unknown as [unknown, number];
  await tx.query(
    `UPDATE share_item i SET frozen_at = $3, frozen_bytes = (
       SELECT coalesce(sum(v.size_bytes), 0) FROM share_frozen x JOIN file_version v ON v.id = x.version_id
        WHERE x.share_id = i.share_id AND x.item_id = i.node_id)
      WHERE i.share_id = $1 AND i.node_id = ANY($2)`,
    [shareId, itemIds, at],
  );
  return count;
}

/** A frozen item of a share that lies in another item of it, or has one in it: they would be two of the same. */
export async function frozenWithin(
  m: EntityManager,
  shareId: string,
): Promise<{ inner: string; outer: string } | null> {
  const [pair] = await m.query<{ inner: string; outer: string }[]>(
    `SELECT inside.name AS inner, outside.name AS outer
       FROM share_path p
       JOIN share_item o ON o.share_id = p.share_id AND o.node_id = p.above_id
       JOIN share_item i ON i.share_id = p.share_id AND i.node_id = p.node_id
       ${itemOf('i.node_id', 'inside')} ${itemOf('o.node_id', 'outside')}
      WHERE p.share_id = $1 AND p.node_id <> p.above_id AND (o.frozen_at IS NOT NULL OR i.frozen_at IS NOT NULL)
      LIMIT 1`,
    [shareId],
  );
  return pair ?? null;
}

/** Everything that a share serves: of its items and all below them, what its publisher may publish. */
export async function contentsOfShare(m: EntityManager, share: ShareRecord): Promise<ContentRow[]> {
  const live = await contentRows(m, liveIdsOf(share), { personId: share.createdBy, act: 'publish' });
  if (share.frozenIds.length === 0) return withOwnTops(live, share.itemIds);
  const there = new Set(live.map((row) => row.id));
  const frozen = (await frozenRows(m, share)).filter((row) => !there.has(row.id));
  return withOwnTops(merged(live, frozen).slice(0, MOST_CONTENTS + 1), share.itemIds);
}

/** Two lists that are in order as one; each keeps its own. */
function merged(some: ContentRow[], others: ContentRow[]): ContentRow[] {
  const rows: ContentRow[] = [];
  let at = 0;
  for (const row of some) {
    for (let other = others[at]; other && other.sort < row.sort; other = others[++at]) rows.push(other);
    rows.push(row);
  }
  return rows.concat(others.slice(at));
}

/** Whoever is asked about a folder is asked once, however much of what is frozen lies in it. */
function frozenRows(m: EntityManager, { id, createdBy }: ShareRecord): Promise<ContentRow[]> {
  return m.query(
    `WITH RECURSIVE frozen AS MATERIALIZED (
       SELECT x.item_id AS origin, x.node_id AS id, x.kind, x.path, x.sort, x.version_id, x.media_type, x.changed_at,
              ${folderOf('n')} AS folder
         FROM share_frozen x ${itemOf('x.node_id')}
        WHERE x.share_id = $1 AND n.trashed_at IS NULL AND n.purged_at IS NULL AND NOT n.litter
     ), place AS (SELECT DISTINCT folder FROM frozen), up AS (
       SELECT place.folder AS origin, n.id, n.parent_id, n.trashed_at IS NOT NULL AS gone FROM place ${itemOf('place.folder')}
       UNION ALL
       SELECT up.origin, n.id, n.parent_id, n.trashed_at IS NOT NULL FROM ${stepUp()} WHERE NOT up.gone
     ), served AS (
       SELECT folder FROM place WHERE (${bitsIn('place.folder', '$2')} & ${PUBLISH}) <> 0
       EXCEPT SELECT origin FROM up WHERE gone
     )
     SELECT ${contentColumns('frozen')} FROM frozen JOIN served USING (folder) ${contentBytes('frozen')}
      WHERE frozen.kind = 'folder' OR v.id IS NOT NULL
      ORDER BY frozen.sort, frozen.origin, frozen.id LIMIT ${MOST_CONTENTS + 1}`,
    [id, createdBy],
  );
}

/** A file of a frozen item of the share, as it was then; null: none, or not served any more. */
export async function frozenFile(m: EntityManager, shareId: string, nodeId: string): Promise<FileBytes | null> {
  const [row] = await m.query<(Omit<FileBytes, 'sizeBytes'> & { sizeBytes: string })[]>(
    `WITH RECURSIVE up AS (
       SELECT id, parent_id, trashed_at, litter FROM node WHERE id = $2
       UNION ALL
       SELECT n.id, n.parent_id, n.trashed_at, false FROM ${stepUp()} WHERE up.trashed_at IS NULL AND NOT up.litter
     )
     SELECT n.id, regexp_replace(x.path, '^.*/', '') AS name, v.size_bytes AS "sizeBytes",
            coalesce(x.media_type, 'application/octet-stream') AS "mediaType", v.sha256, v.modified_at AS "modifiedAt"
       FROM share_frozen x JOIN node n ON n.id = x.node_id JOIN file_version v ON v.id = x.version_id
       JOIN share s ON s.id = x.share_id
      WHERE x.share_id = $1 AND x.node_id = $2 AND n.purged_at IS NULL
        AND (${bitsIn('n.parent_id', 's.created_by')} & ${PUBLISH}) <> 0
        AND NOT EXISTS (SELECT 1 FROM up WHERE trashed_at IS NOT NULL OR litter) LIMIT 1`,
    [shareId, nodeId],
  );
  return row ? { ...row, sizeBytes: Number(row.sizeBytes) } : null;
}

/** Of these versions, those that a share that is not over serves. */
export async function versionsFrozen(m: EntityManager, versionIds: string[], at: Date): Promise<Set<string>> {
  const rows = await m.query<{ id: string }[]>(
    `SELECT DISTINCT x.version_id AS id FROM share_frozen x JOIN share s ON s.id = x.share_id
      WHERE x.version_id = ANY($1) AND s.withdrawn_at IS NULL AND (s.closes_at IS NULL OR s.closes_at > $2)`,
    [versionIds, at],
  );
  return new Set(rows.map((r) => r.id));
}
