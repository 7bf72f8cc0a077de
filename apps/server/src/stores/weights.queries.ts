import { actBits, weightsSeen, type Act, type Weight, type WeightPart } from '@quay/core';
import type { EntityManager } from 'typeorm';
import { bitsOn } from '../access/access.queries.js';
import { itemOf, stepUp } from '../access/tree.queries.js';

interface PartRow extends WeightPart {
  root: number;
}

/** What is counted: litter too, and that with which somebody may do this; by default what they see, without litter. */
export interface Counted {
  litter?: boolean;
  act?: Act;
}

/**
 * Files and bytes that somebody sees in each of these nodes and in all below it that is live. What folders weigh is kept
 * (schema-0010): nothing is walked through but the way up from what has changed just now, and from the folders at which
 * access changes. Asked after `ensureReach`.
 */
export async function weightsOf(
  m: EntityManager,
  personId: string,
  nodeIds: string[],
  { litter = false, act = 'see' }: Counted = {},
): Promise<Map<string, Weight>> {
  const may = actBits([act]);
  const nodes = await m.query<{ id: string; kind: 'folder' | 'file'; bytes: number; seen: boolean }[]>(
    `SELECT n.id, n.kind, n.size_bytes::float8 AS bytes, (${bitsOn('n', '$2')} & $3) <> 0 AS seen
       FROM node n WHERE n.id = ANY($1)`,
    [nodeIds, personId, may],
  );
  const folders = nodes.filter((n) => n.kind === 'folder').map((n) => n.id);
  const parts = folders.length === 0 ? [] : await partsWithin(m, personId, folders, may, litter);
  const weights = weightsSeen(parts, await ownWithin(m, personId, parts, litter));
  for (const { id, kind, bytes, seen } of nodes)
    if (kind === 'file') weights.set(id, seen ? { files: 1, bytes } : { files: 0, bytes: 0 });
  return weights;
}

/**
 * The parts of these folders in which somebody's access is the same: the folders themselves, and those below them that are
 * roots of access and counted. All in one statement, so that no change is counted twice or not at all.
 */
async function partsWithin(
  m: EntityManager,
  personId: string,
  folderIds: string[],
  may: number,
  litter: boolean,
): Promise<PartRow[]> {
  const rows = await m.query<
    { id: string; within: string | null; files: number; bytes: number; acts: number; own: number; root: number }[]
  >(
    `WITH RECURSIVE asked AS (
       SELECT id, store_id FROM node WHERE id = ANY($1)
     ), beginning AS (
       SELECT id FROM asked
       UNION
       SELECT r.folder_id FROM access_root r ${itemOf('r.folder_id')}
        WHERE n.parent_id IS NOT NULL AND n.store_id IN (SELECT store_id FROM asked)
     ), changed AS (
       SELECT folder_id AS id, sum(files) AS files, sum(bytes) AS bytes, sum(litter_files) AS litter_files, sum(litter_bytes) AS litter_bytes
         FROM weight_change GROUP BY folder_id
     ), up AS (
       SELECT id AS origin, id, false AS part, false AS litter, 0 AS height FROM changed
       UNION ALL
       SELECT id, id, true, false, 0 FROM beginning
       UNION ALL
       SELECT up.origin, f.parent_id, up.part, up.litter OR f.litter, up.height + 1
         FROM up CROSS JOIN LATERAL (SELECT * FROM node c WHERE c.id = up.id OFFSET 0) f
        WHERE f.trashed_at IS NULL AND f.parent_id IS NOT NULL
     ), part AS (
       SELECT DISTINCT origin AS id FROM up WHERE part AND ($3 OR NOT litter) AND id IN (SELECT id FROM asked)
     ), above AS (
       SELECT DISTINCT ON (up.origin) up.origin AS id, part.id AS within
         FROM up JOIN part ON part.id = up.id WHERE up.part AND up.height > 0 AND ($3 OR NOT up.litter)
        ORDER BY up.origin, up.height
     ), changes AS (
       SELECT up.id, sum(CASE WHEN up.litter THEN 0 ELSE c.files END) AS files, sum(CASE WHEN up.litter THEN 0 ELSE c.bytes END) AS bytes,
              sum(c.files + c.litter_files) AS all_files, sum(c.bytes + c.litter_bytes) AS all_bytes
         FROM up JOIN changed c ON c.id = up.origin WHERE NOT up.part GROUP BY up.id
     )
     SELECT part.id, above.within, f.root, coalesce(a.acts, 0) AS acts, coalesce(a.own, 0) AS own,
            (CASE WHEN $3 THEN coalesce(w.files + w.litter_files, 0) + coalesce(c.all_files, 0)
                  ELSE coalesce(w.files, 0) + coalesce(c.files, 0) END)::float8 AS files,
            (CASE WHEN $3 THEN coalesce(w.bytes + w.litter_bytes, 0) + coalesce(c.all_bytes, 0)
                  ELSE coalesce(w.bytes, 0) + coalesce(c.bytes, 0) END)::float8 AS bytes
       FROM part CROSS JOIN LATERAL (SELECT * FROM folder_access WHERE folder_id = part.id OFFSET 0) f
       LEFT JOIN above ON above.id = part.id
       LEFT JOIN access_reach a ON a.root = f.root AND a.person_id = $2
       LEFT JOIN LATERAL (SELECT * FROM folder_weight WHERE folder_id = part.id OFFSET 0) w ON true
       LEFT JOIN changes c ON c.id = part.id`,
    [folderIds, personId, litter],
  );
  return rows.map(({ id, within, root, files, bytes, acts, own }) => {
    const sees = (acts & may) !== 0 ? 'all' : (own & may) !== 0 ? 'own' : 'nothing';
    return { id, within, root, whole: { files, bytes }, sees };
  });
}

/** What somebody brought to the parts in which they see that alone, by part. */
async function ownWithin(
  m: EntityManager,
  personId: string,
  parts: readonly PartRow[],
  litter: boolean,
): Promise<Map<string, Weight>> {
  const some = parts.filter((p) => p.sees === 'own');
  if (some.length === 0) return new Map();
  const rows = await m.query<{ id: string; files: number; bytes: number }[]>(
    `WITH RECURSIVE up AS (
       SELECT n.parent_id, n.size_bytes AS bytes, n.parent_id = ANY($2) AS there
         FROM node n JOIN folder_access f ON f.folder_id = n.parent_id AND f.root = ANY($3)
        WHERE n.brought_by = $1 AND n.accepted_at IS NULL AND n.kind = 'file' AND n.trashed_at IS NULL AND ($4 OR NOT n.litter)
       UNION ALL
       SELECT n.parent_id, up.bytes, n.parent_id = ANY($2)
         FROM ${stepUp()} WHERE NOT up.there AND n.trashed_at IS NULL AND ($4 OR NOT n.litter)
     ) SELECT parent_id AS id, count(*)::float8 AS files, sum(bytes)::float8 AS bytes FROM up WHERE there GROUP BY parent_id`,
    [personId, some.map((p) => p.id), some.map((p) => p.root), litter],
  );
  return new Map(rows.map(({ id, files, bytes }) => [id, { files, bytes }]));
}
