import { actBits, weightsSeen, type Act, type Weight, type WeightPart } from '@quay/core';
import type { EntityManager } from 'typeorm';
import { folderOf } from '../access/access.queries.js';
import { itemOf, stepUp } from '../access/tree.queries.js';
import { grouped } from '../platform/grouped.js';

/** A part of the tree, with what of it everybody has in common. */
type Part = Omit<WeightPart, 'sees'> & { root: number };

/** What is counted: litter too, and that with which somebody may do this; by default what they see, without litter. */
export interface Counted {
  litter?: boolean;
  act?: Act;
}

/** Who asks, and about which nodes. */
export interface Weighing {
  personId: string;
  nodeIds: string[];
}

/**
 * Files and bytes that somebody sees in each of these nodes and in all below it that is live. What folders weigh is
 * kept (schema-0010): nothing is walked through but the way up from what has changed just now, and from the folders at
 * which access changes. Asked after `ensureReach`.
 */
export async function weightsOf(
  m: EntityManager,
  personId: string,
  nodeIds: string[],
  counted: Counted = {},
): Promise<Map<string, Weight>> {
  return (await weightsOfEach(m, [{ personId, nodeIds }], counted)).get(personId) as Map<string, Weight>;
}

/** The same for several people, in as many questions as for one. */
export async function weightsOfEach(
  m: EntityManager,
  asked: readonly Weighing[],
  { litter = false, act = 'see' }: Counted = {},
): Promise<Map<string, Map<string, Weight>>> {
  const nodes = await nodesOf(m, [...new Set(asked.flatMap((a) => a.nodeIds))]);
  const folders = [...nodes.values()].filter((n) => n.kind === 'folder').map((n) => n.id);
  const parts = folders.length === 0 ? [] : await partsWithin(m, folders, litter);
  const roots = [...new Set([...parts, ...nodes.values()].map((p) => p.root))];
  const reach = await reachOn(
    m,
    asked.map((a) => a.personId),
    roots,
  );
  const found = new Map<string, Map<string, Weight>>();
  for (const { personId, nodeIds } of asked) {
    const held = reach.get(personId) ?? new Map<number, Held>();
    const seen = parts.map((part) => ({ ...part, sees: seesOf(held.get(part.root), actBits([act])) }));
    const weights = weightsSeen(seen, await ownWithin(m, personId, seen, litter));
    const theirs = new Map<string, Weight>();
    for (const id of nodeIds) {
      const node = nodes.get(id);
      if (node?.kind === 'folder') theirs.set(id, weights.get(id) ?? NOTHING);
      else if (node) theirs.set(id, mayWith(node, held, personId, act) ? { files: 1, bytes: node.bytes } : NOTHING);
    }
    found.set(personId, theirs);
  }
  return found;
}

/** All that is in folders, litter too, whoever asks: for those to whom all of a store is told. */
export async function wholeWeights(m: EntityManager, folderIds: string[]): Promise<Map<string, Weight>> {
  const parts = folderIds.length === 0 ? [] : await partsWithin(m, folderIds, true);
  return new Map(parts.map((part) => [part.id, part.whole]));
}

const NOTHING: Weight = { files: 0, bytes: 0 };

interface WeighedNode {
  id: string;
  kind: 'folder' | 'file';
  bytes: number;
  root: number;
  /** Who brought it, until somebody accepts it. */
  ownOf: string | null;
}

async function nodesOf(m: EntityManager, nodeIds: string[]): Promise<Map<string, WeighedNode>> {
  const rows = await m.query<WeighedNode[]>(
    `SELECT n.id, n.kind, n.size_bytes::float8 AS bytes, f.root,
      CASE WHEN n.accepted_at IS NULL THEN n.brought_by END AS "ownOf"
       FROM node n CROSS JOIN LATERAL (SELECT * FROM folder_access WHERE folder_id = ${folderOf('n')} OFFSET 0) f
      WHERE n.id = ANY($1)`,
    [nodeIds],
  );
  return new Map(rows.map((row) => [row.id, row]));
}

/** What somebody may do on a root, as bits: with everything, and with what they brought. */
interface Held {
  acts: number;
  own: number;
}

async function reachOn(
  m: EntityManager,
  personIds: string[],
  roots: number[],
): Promise<Map<string, Map<number, Held>>> {
  const rows = await m.query<(Held & { personId: string; root: number })[]>(
    `SELECT a.person_id AS "personId", a.root, a.acts, a.own FROM access_reach a
      WHERE a.person_id = ANY($1) AND a.root = ANY($2)`,
    [personIds, roots],
  );
  const byPerson = grouped(rows, (r) => r.personId);
  return new Map([...byPerson].map(([personId, held]) => [personId, new Map(held.map((h) => [h.root, h]))]));
}

const seesOf = (held: Held | undefined, may: number): WeightPart['sees'] => {
  if (!held) return 'nothing';
  return (held.acts & may) !== 0 ? 'all' : (held.own & may) !== 0 ? 'own' : 'nothing';
};

function mayWith(node: WeighedNode, held: ReadonlyMap<number, Held>, personId: string, act: Act): boolean {
  const { acts, own } = held.get(node.root) ?? { acts: 0, own: 0 };
  return ((node.ownOf === personId ? own : acts) & actBits([act])) !== 0;
}

/**
 * The parts of these folders in which access is the same: the folders themselves, and those below them that are roots
 * of access and counted. All in one statement, so that no change is counted twice or not at all.
 */
async function partsWithin(m: EntityManager, folderIds: string[], litter: boolean): Promise<Part[]> {
  const rows = await m.query<{ id: string; within: string | null; files: number; bytes: number; root: number }[]>(
    `WITH RECURSIVE asked AS (
       SELECT id, store_id FROM node WHERE id = ANY($1)
     ), beginning AS (
       SELECT id FROM asked
       UNION
       SELECT r.folder_id FROM access_root r ${itemOf('r.folder_id')}
        WHERE n.parent_id IS NOT NULL AND n.store_id IN (SELECT store_id FROM asked)
     ), changed AS (
       SELECT folder_id AS id, sum(files) AS files, sum(bytes) AS bytes, sum(litter_files) AS litter_files,
         sum(litter_bytes) AS litter_bytes
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
       SELECT DISTINCT origin AS id FROM up WHERE part AND ($2 OR NOT litter) AND id IN (SELECT id FROM asked)
     ), above AS (
       SELECT DISTINCT ON (up.origin) up.origin AS id, part.id AS within
         FROM up JOIN part ON part.id = up.id WHERE up.part AND up.height > 0 AND ($2 OR NOT up.litter)
        ORDER BY up.origin, up.height
     ), changes AS (
       SELECT up.id, sum(CASE WHEN up.litter THEN 0 ELSE c.files END) AS files,
         sum(CASE WHEN up.litter THEN 0 ELSE c.bytes END) AS bytes,
              sum(c.files + c.litter_files) AS all_files, sum(c.bytes + c.litter_bytes) AS all_bytes
         FROM up JOIN changed c ON c.id = up.origin WHERE NOT up.part GROUP BY up.id
     )
     SELECT part.id, above.within, f.root,
            (CASE WHEN $2 THEN coalesce(w.files + w.litter_files, 0) + coalesce(c.all_files, 0)
                  ELSE coalesce(w.files, 0) + coalesce(c.files, 0) END)::float8 AS files,
            (CASE WHEN $2 THEN coalesce(w.bytes + w.litter_bytes, 0) + coalesce(c.all_bytes, 0)
                  ELSE coalesce(w.bytes, 0) + coalesce(c.bytes, 0) END)::float8 AS bytes
       FROM part CROSS JOIN LATERAL (SELECT * FROM folder_access WHERE folder_id = part.id OFFSET 0) f
       LEFT JOIN above ON above.id = part.id
       LEFT JOIN LATERAL (SELECT * FROM folder_weight WHERE folder_id = part.id OFFSET 0) w ON true
       LEFT JOIN changes c ON c.id = part.id`,
    [folderIds, litter],
  );
  return rows.map(({ files, bytes, ...part }) => ({ ...part, whole: { files, bytes } }));
}

/** What somebody brought to the parts in which they see that alone, by part. */
async function ownWithin(
  m: EntityManager,
  personId: string,
  parts: readonly (Part & WeightPart)[],
  litter: boolean,
): Promise<Map<string, Weight>> {
  const some = parts.filter((p) => p.sees === 'own');
  if (some.length === 0) return new Map();
  const rows = await m.query<{ id: string; files: number; bytes: number }[]>(
    `WITH RECURSIVE up AS (
       SELECT n.parent_id, n.size_bytes AS bytes, n.parent_id = ANY($2) AS there
         FROM node n JOIN folder_access f ON f.folder_id = n.parent_id AND f.root = ANY($3)
        WHERE n.brought_by = $1 AND n.accepted_at IS NULL AND n.kind = 'file' AND n.trashed_at IS NULL
          AND ($4 OR NOT n.litter)
       UNION ALL
       SELECT n.parent_id, up.bytes, n.parent_id = ANY($2)
         FROM ${stepUp()} WHERE NOT up.there AND n.trashed_at IS NULL AND ($4 OR NOT n.litter)
     ) SELECT parent_id AS id, count(*)::float8 AS files, sum(bytes)::float8 AS bytes FROM up WHERE there
       GROUP BY parent_id`,
    [personId, some.map((p) => p.id), some.map((p) => p.root), litter],
  );
  return new Map(rows.map(({ id, files, bytes }) => [id, { files, bytes }]));
}
