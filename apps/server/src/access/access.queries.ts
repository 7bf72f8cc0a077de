import { actBits, type OthersRule, type StoreKind } from '@quay/core';
import type { PathPart } from '@quay/contract';
import type { EntityManager } from 'typeorm';
import { NOT_PURGED, stepDown, stepUp } from './tree.queries.js';

/** A node with what deciding about access needs. */
export interface NodePlace {
  id: string;
  storeId: string;
  storeKind: StoreKind;
  ownerId: string | null;
  parentId: string | null;
  kind: 'folder' | 'file';
  name: string;
  trashedAt: Date | null;
  /** Removed for good: only its name is left. */
  purged: boolean;
  /** Since when the store is archived; null: it is not. */
  archivedAt: Date | null;
  /** True when the node and all folders above it are out of the trash. */
  live: boolean;
}

/** From each node of $1 up to its root; the deepest folder that was ever asked for is far below the limit. */
export const ANCESTORS = `WITH RECURSIVE up AS (
  SELECT id AS origin, id, parent_id, name, trashed_at, 0 AS height FROM node WHERE id = ANY($1)
  UNION ALL
  SELECT up.origin, n.id, n.parent_id, n.name, n.trashed_at, up.height + 1 FROM ${stepUp()}
)`;

/**
 * Holds nodes and all folders above them: while that lasts, none of them goes to the trash. Asked with the access lock.
 */
export async function lockWayUp(tx: EntityManager, nodeIds: string[]): Promise<void> {
  const way = await tx.query<{ id: string }[]>(`${ANCESTORS} SELECT DISTINCT id FROM up`, [nodeIds]);
  await tx.query('SELECT 1 FROM node WHERE id = ANY($1) ORDER BY id FOR SHARE', [way.map((n) => n.id)]);
}

const PLACES = `${ANCESTORS}, state AS (SELECT origin, bool_and(trashed_at IS NULL) AS live FROM up GROUP BY origin)
  SELECT n.id, n.store_id AS "storeId", s.kind AS "storeKind", s.owner_id AS "ownerId", n.parent_id AS "parentId",
         n.kind, n.name, n.trashed_at AS "trashedAt", n.purged_at IS NOT NULL AS purged, s.archived_at AS "archivedAt", state.live`;
const PLACES_FROM = 'FROM node n JOIN store s ON s.id = n.store_id JOIN state ON state.origin = n.id';

export async function placesOf(m: EntityManager, nodeIds: string[]): Promise<NodePlace[]> {
  return m.query<NodePlace[]>(`${PLACES} ${PLACES_FROM}`, [nodeIds]);
}

/**
 * A node with what somebody may do with it, and in it with what they brought themselves, as bits (actBits in core);
 * and when that changes by itself, if it does.
 */
export type ReachedPlace = NodePlace & { bits: number; ownBits: number; until: Date | null };

/** The folder whose access a node has: a folder's own, a file's the one it lies in. */
export const folderOf = (node: string): string =>
  `CASE ${node}.kind WHEN 'folder' THEN ${node}.id ELSE ${node}.parent_id END`;

/** What stands in `access_reach` for a person in a folder. */
const reachIn = (folder: string, person: string): string =>
  `folder_access f JOIN access_reach a ON a.root = f.root AND a.person_id = ${person} WHERE f.folder_id = ${folder}`;

/** Whether a person brought a node and nobody has accepted it since: they may do more with it. */
export const isOwn = (node: string, person: string): string =>
  `(${node}.brought_by = ${person} AND ${node}.accepted_at IS NULL)`;

/** Whether what a person reaches stands in `access_reach` as of the present state of the facts and of a moment. */
export const reachStands = (person: string, at: string): string => `(
  SELECT coalesce(bool_and(worked_out.generation = present.generation AND worked_out.since <= ${at}
           AND (worked_out.valid_until IS NULL OR worked_out.valid_until > ${at})), false)
    FROM access_state present LEFT JOIN access_reach_state worked_out ON worked_out.person_id = ${person})`;

/** When what a person reaches changes by itself, as it was last worked out; null: not by itself. */
export const reachEnds = (person: string): string =>
  `(SELECT r.valid_until FROM access_reach_state r WHERE r.person_id = ${person})`;

/** Whether a person may do all of these with anything but what lies in their own home. Asked after `ensureReach`. */
export async function mayBeyondHome(m: EntityManager, personId: string, acts: number): Promise<boolean> {
  const rows = await m.query<unknown[]>(
    `SELECT 1 FROM access_reach a JOIN access_root r ON r.id = a.root JOIN node n ON n.id = r.folder_id
       JOIN store st ON st.id = n.store_id
      WHERE a.person_id = $1 AND (a.acts & $2) = $2 AND st.owner_id IS DISTINCT FROM $1 LIMIT 1`,
    [personId, acts],
  );
  return rows.length > 0;
}

/**
 * Nodes with what a person may do with each, and whether that stood as of the present state of the facts; where it did
 * not, it is asked again after `ensureReach`. What they have brought themselves, until somebody accepts it, they may
 * do more with; a folder is their own only if everything in it is.
 */
export async function reachedPlaces(
  m: EntityManager,
  personId: string,
  nodeIds: string[],
  at: Date,
): Promise<{ places: ReachedPlace[]; stood: boolean }> {
  const rows = await m.query<(ReachedPlace & { stood: boolean })[]>(
    `${PLACES}, ${reachStands('$2', '$3')} AS stood, coalesce(CASE WHEN own.it AND NOT EXISTS (
         WITH RECURSIVE down AS (
           SELECT c.id, c.brought_by, c.accepted_at FROM node c WHERE c.parent_id = n.id AND c.purged_at IS NULL
           UNION ALL
           SELECT c.id, c.brought_by, c.accepted_at FROM ${stepDown(NOT_PURGED, { to: 'c' })}
         ) SELECT 1 FROM down WHERE down.brought_by IS DISTINCT FROM $2 OR down.accepted_at IS NOT NULL
       ) THEN a.own ELSE a.acts END, 0) AS bits, coalesce(a.own, 0) AS "ownBits",
         (SELECT valid_until FROM access_reach_state WHERE person_id = $2) AS until
       ${PLACES_FROM}
       LEFT JOIN folder_access f ON f.folder_id = ${folderOf('n')}
       LEFT JOIN access_reach a ON a.root = f.root AND a.person_id = $2
       CROSS JOIN LATERAL (SELECT ${isOwn('n', '$2')} AND a.own <> a.acts AS it) own`,
    [nodeIds, personId, at],
  );
  return { places: rows, stood: rows.every((r) => r.stood) };
}

/** A folder that somebody may add to is one they see, whatever they see in it. */
export const FOLDER_SEEN = actBits(['see', 'add']);
const SEEN = actBits(['see']);

/** What a person may do with a node, as bits, asked after `ensureReach`; `folder` is the one whose access it has. */
export const bitsOn = (node: string, person: string, folder = folderOf(node)): string => `coalesce((
  SELECT CASE WHEN ${isOwn(node, person)} THEN a.own ELSE a.acts END FROM ${reachIn(folder, person)}), 0)`;

/** What a person may do with everything in a folder, as bits, asked after `ensureReach`. */
export const bitsIn = (folder: string, person: string): string =>
  `coalesce((SELECT a.acts FROM ${reachIn(folder, person)}), 0)`;

/**
 * Whether a person sees a node, asked after `ensureReach`. A value and not EXISTS: the planner would make a join of
 * that and walk a whole folder for one page (180 ms instead of 5).
 */
export const isSeen = (node: string, person: string, folder = folderOf(node)): string =>
  `(${bitsOn(node, person, folder)} & CASE ${node}.kind WHEN 'folder' THEN ${FOLDER_SEEN} ELSE ${SEEN} END) <> 0`;

/** Roots that lie in a folder and are closed to a person. */
const closedIn = (folder: string, person: string): string =>
  `access_root r LEFT JOIN access_reach a ON a.root = r.id AND a.person_id = ${person}
    WHERE r.lies_in = ${folder} AND (coalesce(a.acts, 0) & ${FOLDER_SEEN}) = 0`;

/**
 * Whether a person sees a node in a folder that they see: what {@link isSeen} says, for little. What depends on the
 * folder alone is asked once for all of a page. A folder has the access of the one it lies in, unless it is a root
 * itself; files always have.
 */
export const isSeenThere = (node: string, folder: string, person: string): { folders: string; files: string } => ({
  folders: `${node}.id <> ALL (ARRAY(SELECT r.folder_id FROM ${closedIn(folder, person)}))`,
  files: `((SELECT (a.acts & ${SEEN}) <> 0 FROM ${reachIn(folder, person)})
    OR (${isOwn(node, person)} AND (SELECT (a.own & ${SEEN}) <> 0 FROM ${reachIn(folder, person)})))`,
});

/**
 * How many live items of a folder that somebody sees they see in it. What depends on the folder alone is asked once,
 * and only when something lies in it: that makes it cheap enough for each row of a page.
 * @param which a condition on the items, called `c`
 */
export const countSeen = (folder: string, person: string, which: string): string => {
  const seen = isSeenThere('c', folder, person);
  return `(SELECT count(*) FROM node c WHERE c.parent_id = ${folder} AND c.trashed_at IS NULL AND ${which}
    AND CASE c.kind WHEN 'folder' THEN ${seen.folders} ELSE ${seen.files} END)::int`;
};

/**
 * A walk down from nodes, only through what a person may: the parts of a recursive query whose rows are called `down`.
 * It carries along what they have where they are (`held`: the acts on everything, and seven bits higher those on their
 * own), because only folders can have another access than what they lie in.
 */
export function walkDown(person: string, act: string | number) {
  const held = (folder: string) => `coalesce((SELECT a.acts | (a.own::int << 7) FROM ${reachIn(folder, person)}), 0)`;
  const bits = (node: string, of: string) => `CASE WHEN ${isOwn(node, person)} THEN ${of} >> 7 ELSE ${of} & 127 END`;
  const begin = held(folderOf('n'));
  return {
    /** Columns of the nodes it begins with, called `n`. */
    begin: `${begin} AS held, ${bits('n', begin)} AS bits`,
    /** Columns of those below, called `n` too. */
    below: `step.held, ${bits('n', 'step.held')}`,
    /** Goes on from `down` to `n`; with the condition that {@link goesOn} is. */
    step: `CROSS JOIN LATERAL (SELECT CASE n.kind WHEN 'folder' THEN ${held('n.id')} ELSE down.held END AS held) step`,
    goesOn: `((down.held >> 7) & ${act}) <> 0`,
    /** Whether a row of `down` is one that they may. A folder is one of the way where they may with their own. */
    allowed: `(CASE down.kind WHEN 'folder' THEN down.held >> 7 ELSE down.bits END & ${act}) <> 0`,
  };
}

/** The folders from the topmost that the person sees down to the node itself. The root bears the store's name. */
export async function pathOf(m: EntityManager, personId: string, nodeId: string): Promise<PathPart[]> {
  return m.query<PathPart[]>(
    `${ANCESTORS}, seen AS (SELECT up.id, up.name, up.height, ${isSeen('n', '$2')} AS it FROM up
      JOIN node n ON n.id = up.id)
     SELECT id, name FROM seen WHERE height < ALL (SELECT height FROM seen WHERE NOT it) ORDER BY height DESC`,
    [[nodeId], personId],
  );
}

/** The stores in which a person may do one of these acts (as bits) somewhere, if only with what they brought. */
export async function storesReached(m: EntityManager, personId: string, acts: number): Promise<string[]> {
  const rows = await m.query<{ id: string }[]>(
    `SELECT DISTINCT n.store_id AS id FROM access_reach a JOIN access_root r ON r.id = a.root
      JOIN node n ON n.id = r.folder_id
      WHERE a.person_id = $1 AND (a.own & $2) <> 0`,
    [personId, acts],
  );
  return rows.map((r) => r.id);
}

/** A folder at which somebody's access begins: they do not see the one that it lies in. */
export interface Entrance {
  folderId: string;
  storeId: string;
  /** The store's own folder: most of what is below is seen. */
  whole: boolean;
}

/** Where somebody comes in: the topmost folders that they see, out of the trash. Asked after `ensureReach`. */
export async function entrancesOf(m: EntityManager, personId: string): Promise<Entrance[]> {
  return m.query<Entrance[]>(
    `SELECT n.id AS "folderId", n.store_id AS "storeId", n.parent_id IS NULL AS whole
       FROM access_reach a JOIN access_root r ON r.id = a.root JOIN node n ON n.id = r.folder_id
      WHERE a.person_id = $1 AND (a.acts & ${FOLDER_SEEN}) <> 0 AND n.purged_at IS NULL
        AND (n.parent_id IS NULL OR (${bitsIn('n.parent_id', '$1')} & ${FOLDER_SEEN}) = 0)
        AND NOT EXISTS (
          WITH RECURSIVE up AS (
            SELECT n.parent_id, n.trashed_at
            UNION ALL SELECT above.parent_id, above.trashed_at FROM ${stepUp({ to: 'above' })}
          ) SELECT 1 FROM up WHERE trashed_at IS NOT NULL)
      ORDER BY n.store_id, n.id`,
    [personId],
  );
}

/**
 * Of these stores, those of which all may be told to somebody: they see everything in it, or run it. Whoever runs a
 * store must know what it holds, if not what is in a folder that is closed to them.
 */
export async function storesSeenWhole(m: EntityManager, personId: string, storeIds: string[]): Promise<Set<string>> {
  const rows = await m.query<{ id: string }[]>(
    `SELECT n.store_id AS id FROM access_root r JOIN node n ON n.id = r.folder_id
       LEFT JOIN access_reach a ON a.root = r.id AND a.person_id = $1
      WHERE n.store_id = ANY($2) GROUP BY n.store_id
     HAVING bool_and((coalesce(a.acts, 0) & ${SEEN}) <> 0)
         OR bool_or(n.parent_id IS NULL AND (coalesce(a.acts, 0) & ${actBits(['manage'])}) <> 0)`,
    [personId, storeIds],
  );
  return new Set(rows.map((r) => r.id));
}

/** What a node's access goes by. */
export interface AccessPlace {
  kind: 'folder' | 'file';
  root: number;
  /** Who brought it, until somebody accepts it. */
  ownOf: string | null;
}

export async function accessPlaceOf(m: EntityManager, nodeId: string): Promise<AccessPlace | null> {
  const [row] = await m.query<AccessPlace[]>(
    `SELECT n.kind, f.root, CASE WHEN n.accepted_at IS NULL THEN n.brought_by END AS "ownOf"
       FROM node n JOIN folder_access f ON f.folder_id = ${folderOf('n')} WHERE n.id = $1`,
    [nodeId],
  );
  return row ?? null;
}

/** All that somebody reaches at a moment: the acts on each root as bits, and the stores in which they see anything. */
export interface ReachOfRoots {
  roots: Map<number, { acts: number; own: number }>;
  stores: Set<string>;
}

/** Asked after `ensureReach`. */
export async function reachOfRoots(m: EntityManager, personId: string): Promise<ReachOfRoots> {
  const rows = await m.query<{ root: number; acts: number; own: number; storeId: string }[]>(
    `SELECT a.root, a.acts, a.own, n.store_id AS "storeId"
       FROM access_reach a JOIN access_root r ON r.id = a.root JOIN node n ON n.id = r.folder_id
         WHERE a.person_id = $1`,
    [personId],
  );
  const seen = rows.filter(({ acts, own }) => ((acts | own) & FOLDER_SEEN) !== 0);
  return { roots: new Map(rows.map((r) => [r.root, r])), stores: new Set(seen.map((r) => r.storeId)) };
}

/** What {@link isSeen} says, of what has been asked already. */
export const seenIn = (reach: ReachOfRoots, place: AccessPlace, personId: string): boolean =>
  (bitsReached(reach, place, personId) & (place.kind === 'folder' ? FOLDER_SEEN : SEEN)) !== 0;

/** What {@link bitsOn} says, of what has been asked already. */
export function bitsReached(reach: ReachOfRoots, { root, ownOf }: AccessPlace, personId: string): number {
  const { acts, own } = reach.roots.get(root) ?? { acts: 0, own: 0 };
  return ownOf === personId ? own : acts;
}

export async function seesNode(m: EntityManager, personId: string, nodeId: string): Promise<boolean> {
  const rows = await m.query<unknown[]>(`SELECT 1 FROM node n WHERE n.id = $1 AND ${isSeen('n', '$2')}`, [
    nodeId,
    personId,
  ]);
  return rows.length > 0;
}

/**
 * Whether a folder below these is one in which a person may not do one of these acts (as bits). Only roots can differ
 * from what they lie in, and there are few of them: each is followed upwards.
 */
export async function closedBelow(
  m: EntityManager,
  personId: string,
  nodes: readonly { id: string; storeId: string }[],
  acts: number,
): Promise<boolean> {
  const rows = await m.query<unknown[]>(
    `WITH RECURSIVE up AS (
       SELECT n.parent_id FROM access_root r JOIN node n ON n.id = r.folder_id
         LEFT JOIN access_reach a ON a.root = r.id AND a.person_id = $2
        WHERE n.store_id = ANY($3) AND n.parent_id IS NOT NULL AND n.purged_at IS NULL
          AND (coalesce(a.acts, 0) & $4) = 0
       UNION
       SELECT n.parent_id FROM ${stepUp()}
     ) SELECT 1 FROM up WHERE parent_id = ANY($1) LIMIT 1`,
    [nodes.map((n) => n.id), personId, [...new Set(nodes.map((n) => n.storeId))], acts],
  );
  return rows.length > 0;
}

/** When what somebody reaches changes by itself; null: not by itself. Asked after `ensureReach`. */
export async function reachUntil(m: EntityManager, personId: string): Promise<Date | null> {
  const [row] = await m.query<{ until: Date | null }[]>(
    'SELECT valid_until AS until FROM access_reach_state WHERE person_id = $1',
    [personId],
  );
  return row?.until ?? null;
}

/** What access depends on in a folder that stands on it itself. */
export async function rulesOf(
  m: EntityManager,
  folderId: string,
): Promise<{ inherits: boolean; othersRule: OthersRule | null }> {
  const [row] = await m.query<{ inherits: boolean; othersRule: OthersRule | null }[]>(
    'SELECT inherits, others_rule AS "othersRule" FROM node WHERE id = $1',
    [folderId],
  );
  return row ?? { inherits: true, othersRule: null };
}

/** Of these folders, those that somebody sees. Asked after `ensureReach`. */
export async function seenFolders(m: EntityManager, personId: string, folderIds: string[]): Promise<Set<string>> {
  const rows = await m.query<{ id: string }[]>(
    `SELECT n.id FROM node n WHERE n.id = ANY($2) AND ${isSeen('n', '$1')}`,
    [personId, folderIds],
  );
  return new Set(rows.map((r) => r.id));
}
