import {
  actBits,
  ARCHIVE_PATH_MOST_BYTES,
  distinctNames,
  keepBothName,
  nameKey,
  type Act,
  type PathExtent,
} from '@quay/core';
import type { FolderQuery, ItemTotal, NodeInfo, NodeItem, SortKey, StoreSummary, TrashItem } from '@quay/contract';
import type { EntityManager } from 'typeorm';
import {
  ANCESTORS,
  bitsIn,
  bitsOn,
  countSeen,
  entrancesOf,
  isOwn,
  isSeen,
  isSeenThere,
  storesSeenWhole,
  walkDown,
} from '../access/access.queries.js';
import { LIVE, NOT_PURGED, SHOWN, stepDown, stepUp } from '../access/tree.queries.js';
import { momentText } from '../platform/cursor.js';
import { weightsOf } from './weights.queries.js';

/** True when `ancestorId` lies on the way up from the node (or is the node). */
export async function isWithin(m: EntityManager, nodeId: string, ancestorIds: string[]): Promise<boolean> {
  const rows = await m.query<unknown[]>(`${ANCESTORS} SELECT 1 FROM up WHERE id = ANY($2) LIMIT 1`, [
    [nodeId],
    ancestorIds,
  ]);
  return rows.length > 0;
}

/** Where a page of a listing ends: folders (0) or files (1), and the values that it is sorted by. */
export interface ListingCursor {
  group: 0 | 1;
  keys: string[];
  id: string;
}

const SEEN_HERE = isSeenThere('n', '$2', '$1');

const OF_BOTH_KINDS = `n.id, n.name, (extract(epoch FROM n.changed_at) * 1000)::float8 AS "changedAt",
  (SELECT p.name FROM actor p WHERE p.id = n.changed_by) AS "changedBy", n.litter,
  EXISTS (SELECT 1 FROM pin WHERE pin.node_id = n.id AND pin.person_id = $1) AS pinned,
    ${isOwn('n', '$1')} IS TRUE AS mine,
  ARRAY(SELECT t.tag_id FROM node_tag t WHERE t.node_id = n.id) AS tags`;
const OF_FILES = `n.size_bytes::float8 AS "sizeBytes", n.media_type AS "mediaType",
  coalesce((SELECT v.number FROM file_version v WHERE v.id = n.version_id), 0) AS "versionCount"`;
const COUNTED = countSeen('n.id', '$1', 'NOT c.litter');

/**
 * The columns of {@link ItemRow} for a node `n`; $1 is who asks. Each is looked up by itself: a page is never a join.
 */
export const ITEM_COLUMNS = `${OF_BOTH_KINDS}, ${OF_FILES}, n.parent_id AS "parentId", n.kind,
  CASE WHEN n.kind = 'folder' THEN ${COUNTED} END AS "itemCount"`;

/** What only files have, and only folders. */
type OfOneKind = 'sizeBytes' | 'mediaType' | 'versionCount' | 'itemCount';
type RowOfOneKind = Omit<ItemRow, 'parentId' | 'kind' | OfOneKind> & Partial<Pick<ItemRow, OfOneKind>>;

/** What differs among the folders, or the files, of one folder; what is the same for all is not asked for 500 times. */
const COLUMNS_OF = {
  folders: `${OF_BOTH_KINDS}, ${COUNTED} AS "itemCount"`,
  files: `${OF_BOTH_KINDS}, ${OF_FILES}`,
};
/** An item as the database gives it: its time is a number of milliseconds, which is much quicker than a text. */
export type ItemRow<Item extends NodeItem = NodeItem> = Omit<Item, 'changedAt'> & { changedAt: number };

export function itemFrom<Item extends NodeItem>(row: ItemRow<Item>): Item {
  return Object.assign(row, { changedAt: new Date(row.changedAt).toISOString() }) as unknown as Item;
}

/** Written out, because objects that are put together from two take ten times as long, and a page is 500 of them. */
const itemIn = (parentId: string, kind: NodeItem['kind'], row: RowOfOneKind): NodeItem => ({
  id: row.id,
  parentId,
  kind,
  name: row.name,
  sizeBytes: row.sizeBytes ?? 0,
  mediaType: row.mediaType ?? null,
  changedAt: new Date(row.changedAt).toISOString(),
  changedBy: row.changedBy,
  versionCount: row.versionCount ?? 0,
  litter: row.litter,
  pinned: row.pinned,
  mine: row.mine,
  tags: row.tags,
  itemCount: row.itemCount ?? null,
});

/** One thing that a listing is sorted by. */
interface OrderKey {
  by: string;
  type: 'text' | 'bigint' | 'timestamptz';
  /** What a cursor says of an item: told by the item itself, or else a column of its own. */
  cursorValue: ((item: NodeItem) => string) | { column: string };
}

const NAME: OrderKey = { by: 'n.name COLLATE natural_order', type: 'text', cursorValue: (item) => item.name };
const SIZE: OrderKey = { by: 'n.size_bytes', type: 'bigint', cursorValue: (item) => String(item.sizeBytes) };
const TYPE: OrderKey = { by: 'n.type_key', type: 'text', cursorValue: { column: 'n.type_key' } };
const CHANGED: OrderKey = {
  by: 'n.changed_at',
  type: 'timestamptz',
  cursorValue: { column: momentText('n.changed_at') },
};

/** One index for each order that is offered (schema-0002); folders have neither a size nor a type of their own. */
const ORDERS: Record<SortKey, { folders: OrderKey[]; files: OrderKey[] }> = {
  name: { folders: [NAME], files: [NAME] },
  size: { folders: [NAME], files: [SIZE] },
  changed: { folders: [CHANGED], files: [CHANGED] },
  type: { folders: [NAME], files: [TYPE, NAME] },
};

/**
 * One page of a folder by keyset, folders first. Each group is one walk along an index, in either direction, so a page
 * of a folder of 100,000 costs what any page costs.
 */
export async function listing(
  m: EntityManager,
  personId: string,
  folderId: string,
  query: FolderQuery,
  after: ListingCursor | null,
  limit: number,
): Promise<{ items: NodeItem[]; next: ListingCursor | null }> {
  const items: NodeItem[] = [];
  let last: ListingCursor | null = after;
  for (const group of [0, 1] as const) {
    if ((after && after.group > group) || items.length === limit) continue;
    const from = after?.group === group ? after : null;
    const page = await groupPage(m, personId, folderId, query, group, from, limit - items.length);
    items.push(...page.items);
    last = page.last ?? last;
  }
  return { items, next: items.length === limit ? last : null };
}

async function groupPage(
  m: EntityManager,
  personId: string,
  folderId: string,
  query: FolderQuery,
  group: 0 | 1,
  after: ListingCursor | null,
  limit: number,
): Promise<{ items: NodeItem[]; last: ListingCursor | null }> {
  const kind = group === 0 ? 'folders' : 'files';
  const keys = ORDERS[query.sort][kind];
  const [direction, beyond] = query.descending ? ['DESC', '<'] : ['ASC', '>'];
  const columns = keys.map((k) => k.by).join(', ');
  const places = keys.map((k, i) => `$${i + 5}::${k.type}`).join(', ');
  const bound = after ? `AND (${columns}, n.id) ${beyond} (${places}, $${keys.length + 5}::uuid)` : '';
  const own = keys.flatMap((k) => (typeof k.cursorValue === 'function' ? [] : [k.cursorValue.column]));
  const rows = await m.query<(RowOfOneKind & { told?: string[] })[]>(
    `SELECT ${COLUMNS_OF[kind]}${own.length ? `, ARRAY[${own.join(', ')}] AS told` : ''} FROM node n
      WHERE n.parent_id = $2 AND n.sort_kind = ${group} AND n.trashed_at IS NULL AND ($3 OR NOT n.litter) ${bound}
        AND ${SEEN_HERE[kind]}
      ORDER BY ${[...keys.map((k) => k.by), 'n.id'].map((by) => `${by} ${direction}`).join(', ')} LIMIT $4`,
    [personId, folderId, query.litter, limit, ...(after ? [...after.keys, after.id] : [])],
  );
  const told = rows.at(-1)?.told ?? [];
  const items = rows.map((row) => itemIn(folderId, group === 0 ? 'folder' : 'file', row));
  const end = items.at(-1);
  if (!end) return { items, last: null };
  const place = keys.map((k) => (typeof k.cursorValue === 'function' ? k.cursorValue(end) : (told.shift() as string)));
  return { items, last: { group, keys: place, id: end.id } };
}

/** How many items a folder shows to somebody who sees it, and how many of them it hides as litter. */
export async function countItems(
  m: EntityManager,
  personId: string,
  folderId: string,
): Promise<{ shown: number; litter: number }> {
  const [row] = await m.query<{ shown: number; litter: number }[]>(
    `SELECT ${countSeen('$2', '$1', 'NOT c.litter')} AS shown, ${countSeen('$2', '$1', 'c.litter')} AS litter`,
    [personId, folderId],
  );
  return row ?? { shown: 0, litter: 0 };
}

/** Every node below these (themselves included), in the trash or not: for what happens to a whole branch. */
export async function branchOf(
  m: EntityManager,
  nodeIds: string[],
): Promise<{ id: string; parentId: string; kind: 'folder' | 'file'; name: string }[]> {
  return m.query(
    `WITH RECURSIVE down AS (
       SELECT id, parent_id, kind, name FROM node WHERE id = ANY($1) AND purged_at IS NULL
       UNION ALL SELECT n.id, n.parent_id, n.kind, n.name FROM ${stepDown(NOT_PURGED)}
     ) SELECT DISTINCT id, parent_id AS "parentId", kind, name FROM down`,
    [nodeIds],
  );
}

/**
 * As {@link branchOf}, with every row held until the transaction ends. What joined or left the branch while the locks
 * were waited for is seen, because it is looked at again until nothing has changed.
 */
export async function lockBranch(m: EntityManager, nodeIds: string[]): ReturnType<typeof branchOf> {
  let held = new Set<string>();
  for (;;) {
    const branch = await branchOf(m, nodeIds);
    if (branch.every((b) => held.has(b.id))) return branch;
    held = new Set(branch.map((b) => b.id));
    await lockNodes(m, [...held]);
  }
}

/**
 * Holds rows until the transaction ends, in one order, so that two that hold the same ones cannot wait for each other.
 */
export async function lockNodes(m: EntityManager, nodeIds: string[]): Promise<void> {
  await m.query('SELECT 1 FROM node WHERE id = ANY($1) ORDER BY id FOR UPDATE', [nodeIds]);
}

/** Holds a node together with others who do: it is neither moved, trashed nor renamed meanwhile. */
export async function lockNodeShared(m: EntityManager, nodeId: string): Promise<void> {
  await m.query('SELECT 1 FROM node WHERE id = $1 FOR SHARE', [nodeId]);
}

/** Of these, those that do not lie within another of them. */
export async function topmost(m: EntityManager, nodeIds: string[]): Promise<string[]> {
  const rows = await m.query<{ origin: string }[]>(
    `${ANCESTORS} SELECT DISTINCT origin FROM up WHERE height > 0 AND id = ANY($1)`,
    [nodeIds],
  );
  const nested = new Set(rows.map((r) => r.origin));
  return nodeIds.filter((id) => !nested.has(id));
}

/** How deep a folder lies below its store; the store's own folder is at 0. */
export async function extentTo(m: EntityManager, folderId: string): Promise<PathExtent> {
  const [row] = await m.query<{ levels: string; bytes: string | null }[]>(
    `${ANCESTORS} SELECT count(*) AS levels, sum(octet_length(name) + 1) AS bytes FROM up WHERE parent_id IS NOT NULL`,
    [[folderId]],
  );
  return { levels: Number(row?.levels ?? 0), bytes: Number(row?.bytes ?? 0) };
}

/** How deep the deepest and longest path goes that is live within these nodes, themselves counted. */
export async function extentOf(m: EntityManager, nodeIds: string[]): Promise<PathExtent> {
  const [row] = await m.query<{ levels: number | null; bytes: number | null }[]>(
    `WITH RECURSIVE down AS (
       SELECT id, 1 AS levels, octet_length(name) AS bytes FROM node WHERE id = ANY($1)
       UNION ALL
       SELECT n.id, down.levels + 1, down.bytes + 1 + octet_length(n.name) FROM ${stepDown(LIVE)}
     ) SELECT max(levels) AS levels, max(bytes) AS bytes FROM down`,
    [nodeIds],
  );
  return { levels: row?.levels ?? 0, bytes: row?.bytes ?? 0 };
}

/** The files within these nodes that are not gone for good, by name and size. */
export async function filesWithin(m: EntityManager, nodeIds: string[]): Promise<{ name: string; sizeBytes: number }[]> {
  const rows = await m.query<{ name: string; sizeBytes: string }[]>(
    `WITH RECURSIVE down AS (
       SELECT id, kind, name, size_bytes FROM node WHERE id = ANY($1) AND purged_at IS NULL
       UNION ALL SELECT n.id, n.kind, n.name, n.size_bytes FROM ${stepDown(NOT_PURGED)}
     ) SELECT name, size_bytes AS "sizeBytes" FROM down WHERE kind = 'file'`,
    [nodeIds],
  );
  return rows.map((r) => ({ name: r.name, sizeBytes: Number(r.sizeBytes) }));
}

export interface ContentFile {
  id: string;
  path: string;
  kind: 'folder' | 'file';
  sizeBytes: number;
  mediaType: string;
  sha256: string;
  crc32: number;
  modifiedAt: number;
}

/** Files and bytes of each node and of all below it that is live, without litter, and that the person sees. */
export async function totalsEach(m: EntityManager, personId: string, nodeIds: string[]): Promise<ItemTotal[]> {
  const weights = await weightsOf(m, personId, nodeIds);
  return nodeIds.map((id) => {
    const { files, bytes } = weights.get(id) ?? { files: 0, bytes: 0 };
    return { id, files, sizeBytes: bytes };
  });
}

/** The most entries that a share shows or an archive holds. */
export const MOST_CONTENTS = 200_000;

/**
 * Everything live below the given nodes, litter left out, with paths that begin with each node's own name: files with
 * the bytes' names, folders with a slash at the end. Ordered so that a folder comes before what is in it. Nodes of the
 * same name come under names of their own, and what lies in one of them is not mixed with what lies in the other. At
 * most one more than {@link MOST_CONTENTS}, so that more is noticed.
 * @param allowed whose access counts, and what they must be allowed to do with each: the rest is left out
 */
export async function contents(
  m: EntityManager,
  nodeIds: string[],
  allowed: { personId: string; act: Act },
): Promise<ContentFile[]> {
  const walk = walkDown('$2', '$3::int');
  const rows = await m.query<(ContentFile & { origin: string })[]>(
    `WITH RECURSIVE down AS (
       SELECT n.id AS origin, n.id, n.kind, n.name::text AS path, n.name_key::text COLLATE "C" AS sort,
              n.version_id, n.media_type, n.changed_at, ${walk.begin} FROM node n WHERE n.id = ANY($1)
       UNION ALL
       SELECT down.origin, n.id, n.kind, down.path || '/' || n.name, (down.sort || '/' || n.name_key) COLLATE "C",
              n.version_id, n.media_type, n.changed_at, ${walk.below}
         FROM ${stepDown(SHOWN)} ${walk.step}
        -- Deeper than this nothing is opened by any desktop; what lies there is told of where the path ends.
        WHERE length(down.path) <= ${ARCHIVE_PATH_MOST_BYTES} AND ${walk.goesOn}
     )
     SELECT down.origin, down.id, CASE down.kind WHEN 'folder' THEN down.path || '/' ELSE down.path END AS path,
       down.kind, coalesce(b.size_bytes, 0)::float8 AS "sizeBytes",
            coalesce(down.media_type, 'application/octet-stream') AS "mediaType", coalesce(encode(v.sha256, 'hex'), '') AS sha256, coalesce(b.crc32, 0)::float8 AS crc32,
            round(extract(epoch FROM coalesce(v.modified_at, down.changed_at)) * 1000)::float8 AS "modifiedAt"
       FROM down LEFT JOIN file_version v ON v.id = down.version_id LEFT JOIN blob b ON b.sha256 = v.sha256
      WHERE ${walk.allowed} ORDER BY down.sort, array_position($1, down.origin), down.id LIMIT ${MOST_CONTENTS + 1}`,
    [nodeIds, allowed.personId, actBits([allowed.act])],
  );
  return withOwnTops(rows, nodeIds);
}

/** Puts everything of a node under a name that no other node has. */
function withOwnTops(rows: (ContentFile & { origin: string })[], nodeIds: string[]): ContentFile[] {
  const tops = new Map<string, string>();
  for (const row of rows) if (!tops.has(row.origin)) tops.set(row.origin, topOf(row.path));
  const origins = nodeIds.filter((id) => tops.has(id));
  const names = distinctNames(origins.map((id) => tops.get(id) as string));
  const own = new Map(origins.map((id, i) => [id, names[i] as string]));
  // Changed where they are: 200,000 copies of rows take seconds.
  for (const row of rows) {
    const [top, name] = [tops.get(row.origin) as string, own.get(row.origin) as string];
    if (top !== name) row.path = name + row.path.slice(top.length);
  }
  return rows;
}

const topOf = (path: string): string => path.split('/', 1)[0] as string;

/**
 * What is live and no litter directly in a folder and may be read by somebody, some at a time, in the order of ids: for
 * walking through all of it. Asked after `ensureReach`.
 */
export async function* childrenOf(m: EntityManager, personId: string, folderId: string): AsyncGenerator<ContentFile> {
  for (let after: string | null = null; ;) {
    const rows: ContentFile[] = await m.query(
      `SELECT n.id, n.name AS path, n.kind, coalesce(b.size_bytes, 0)::float8 AS "sizeBytes",
        coalesce(n.media_type, 'application/octet-stream') AS "mediaType",
              coalesce(encode(v.sha256, 'hex'), '') AS sha256, coalesce(b.crc32, 0)::float8 AS crc32,
              round(extract(epoch FROM coalesce(v.modified_at, n.changed_at)) * 1000)::float8 AS "modifiedAt"
         FROM node n LEFT JOIN file_version v ON v.id = n.version_id LEFT JOIN blob b ON b.sha256 = v.sha256
        WHERE n.parent_id = $1 AND n.trashed_at IS NULL AND NOT n.litter AND ($2::uuid IS NULL OR n.id > $2)
          AND (${bitsOn('n', '$3')} & ${actBits(['read'])}) <> 0 ORDER BY n.id LIMIT 1000`,
      [folderId, after, personId],
    );
    yield* rows;
    if (rows.length < 1000) return;
    after = rows.at(-1)?.id ?? null;
  }
}

export interface FileBytes {
  id: string;
  name: string;
  sizeBytes: number;
  mediaType: string;
  sha256: Buffer;
  modifiedAt: Date;
}

/** The present bytes of a file; null when it is not a file. */
export async function fileBytes(m: EntityManager, nodeId: string): Promise<FileBytes | null> {
  const [row] = await m.query<(Omit<FileBytes, 'sizeBytes'> & { sizeBytes: string })[]>(
    `SELECT n.id, n.name, v.size_bytes AS "sizeBytes",
      coalesce(n.media_type, 'application/octet-stream') AS "mediaType", v.sha256, v.modified_at AS "modifiedAt"
       FROM node n JOIN file_version v ON v.id = n.version_id WHERE n.id = $1`,
    [nodeId],
  );
  return row ? { ...row, sizeBytes: Number(row.sizeBytes) } : null;
}

export interface StoreRow extends Omit<StoreSummary, 'level' | 'acts'> {
  /** What whoever asked may do in the folder where they come in, as bits. */
  bits: number;
}

/**
 * Every place where somebody comes in: stores by their own folder, and folders deeper down where their access begins.
 * What they do not see is not counted. Asked after `ensureReach`.
 */
export async function storesOf(m: EntityManager, personId: string): Promise<StoreRow[]> {
  const entrances = await entrancesOf(m, personId);
  const ids = entrances.map((e) => e.folderId);
  const told = await storesSeenWhole(m, personId, [...new Set(entrances.map((e) => e.storeId))]);
  const weights = await weightsOf(m, personId, ids);
  const rows = await m.query<(StoreRow & { changedAt: Date | null })[]>(
    `SELECT s.id, s.kind, called.name, root.id AS "rootId", ${bitsIn('root.id', '$1')} AS bits,
      root.parent_id IS NOT NULL AS part,
            s.used_bytes::float8 AS "usedBytes", s.quota_bytes::float8 AS "quotaBytes",
            CASE WHEN root.parent_id IS NULL THEN (
              SELECT n.changed_at FROM node n WHERE n.store_id = s.id AND n.kind = 'file' AND n.trashed_at IS NULL
                 AND ${isSeen('n', '$1')} ORDER BY n.changed_at DESC LIMIT 1) END AS "changedAt"
       FROM node root JOIN store s ON s.id = root.store_id
      CROSS JOIN LATERAL (SELECT CASE WHEN root.parent_id IS NULL THEN s.name ELSE root.name END AS name) called
      WHERE root.id = ANY($2) ORDER BY s.kind = 'home' DESC, called.name COLLATE natural_order`,
    [personId, ids],
  );
  return rows.map((row) => {
    const { files, bytes } = weights.get(row.rootId) ?? { files: 0, bytes: 0 };
    const partly = row.part || !told.has(row.id);
    return {
      ...row,
      itemCount: files,
      // What a store holds in all, versions and trash too, is told to those who see all of it.
      ...(partly && { usedBytes: bytes, quotaBytes: null }),
      changedAt: row.changedAt?.toISOString() ?? null,
    };
  });
}

/** The most items that a list of the trash shows. */
export const MOST_TRASHED = 1000;

/**
 * What lies in a store's trash that somebody may take out of it: the items that were put there, not what is inside
 * them. Newest first, at most one more than {@link MOST_TRASHED}, so that more is noticed. Asked after `ensureReach`.
 */
export async function trashOf(m: EntityManager, personId: string, storeId: string): Promise<TrashItem[]> {
  const rows = await m.query<(Omit<TrashItem, 'sizeBytes'> & { trashedAt: Date; purgeAt: Date | null })[]>(
    `WITH RECURSIVE chosen AS (
       SELECT n.*, ${bitsOn('n', '$2')} AS may FROM node n
        WHERE n.store_id = $1 AND n.trashed_at IS NOT NULL AND n.purged_at IS NULL
          AND (${bitsOn('n', '$2')} & ${actBits(['remove'])}) <> 0
        ORDER BY n.trashed_at DESC LIMIT ${MOST_TRASHED + 1}
     ), up AS (
       SELECT c.id AS origin, n.id, n.parent_id, n.name, n.trashed_at, 1 AS height, ${isSeen('n', '$2')} AS seen
         FROM chosen c JOIN node n ON n.id = c.parent_id
       UNION ALL
       SELECT up.origin, n.id, n.parent_id, n.name, n.trashed_at, up.height + 1, up.seen AND ${isSeen('n', '$2')}
         FROM ${stepUp()}
     ), place AS (
       SELECT origin, string_agg(name, ' / ' ORDER BY height DESC) FILTER (WHERE seen) AS path,
              bool_and(trashed_at IS NULL) AS live FROM up GROUP BY origin
     )
     SELECT c.id, c.kind, c.name, c.trashed_at AS "trashedAt", p.name AS "trashedBy",
       coalesce(place.path, '') AS "from",
            place.live AS "placeIsThere", c.trashed_at + make_interval(days => s.trash_days) AS "purgeAt",
            (c.may & ${actBits(['manage'])}) <> 0 AS "removable"
       FROM chosen c JOIN store s ON s.id = c.store_id JOIN place ON place.origin = c.id
         LEFT JOIN actor p ON p.id = c.trashed_by
      ORDER BY c.trashed_at DESC`,
    [storeId, personId],
  );
  const ids = rows.map((r) => r.id);
  const weights = await weightsOf(m, personId, ids, { litter: true });
  return rows.map((r) => ({
    ...r,
    sizeBytes: weights.get(r.id)?.bytes ?? 0,
    trashedAt: r.trashedAt.toISOString(),
    purgeAt: r.purgeAt?.toISOString() ?? null,
  }));
}

/** Of these folded names, those that live items of the folder bear. */
export async function takenKeys(m: EntityManager, folderId: string, keys: string[]): Promise<Set<string>> {
  const rows = await m.query<{ name_key: string }[]>(
    // Not = ANY: with statistics of before, an index was walked from its beginning for each of thousands of names.
    `SELECT k.name_key FROM unnest($2::text[]) AS k (name_key)
      WHERE EXISTS (SELECT 1 FROM node n WHERE n.parent_id = $1 AND n.name_key = k.name_key AND n.trashed_at IS NULL)`,
    [folderId, keys],
  );
  return new Set(rows.map((r) => r.name_key));
}

/**
 * Of these folded names, those that live items of the folder bear, each with whether somebody sees that item. Of one
 * that they do not see nothing is cursorValue: what comes under its name gets a number. Asked after `ensureReach`.
 */
export async function takenNames(
  m: EntityManager,
  personId: string,
  folderId: string,
  keys: string[],
): Promise<Map<string, boolean>> {
  const rows = await m.query<{ key: string; seen: boolean }[]>(
    `SELECT n.name_key AS key, ${isSeen('n', '$3')} AS seen FROM unnest($2::text[]) AS k (name_key) CROSS JOIN LATERAL (
       SELECT * FROM node n WHERE n.parent_id = $1 AND n.name_key = k.name_key AND n.trashed_at IS NULL OFFSET 0) n`,
    [folderId, keys, personId],
  );
  return new Map(rows.map((r) => [r.key, r.seen]));
}

/** Of the live names of a folder, a free one for each that is wished: as it is, or numbered. */
export async function freeNames(m: EntityManager, folderId: string, names: readonly string[]): Promise<string[]> {
  const keys = names.map(nameKey);
  const clashes = await takenKeys(m, folderId, keys);
  // The names of a large folder are read only where one has to be found that is free.
  const clear = clashes.size === 0 && new Set(keys).size === keys.length;
  const taken = clear ? clashes : await allKeys(m, folderId);
  return names.map((name) => {
    const free = taken.has(nameKey(name)) ? keepBothName(name, (key) => taken.has(key)) : name;
    taken.add(nameKey(free));
    return free;
  });
}

async function allKeys(m: EntityManager, folderId: string): Promise<Set<string>> {
  const rows = await m.query<{ name_key: string }[]>(
    'SELECT name_key FROM node WHERE parent_id = $1 AND trashed_at IS NULL',
    [folderId],
  );
  return new Set(rows.map((r) => r.name_key));
}

/** What the row of a node knows beyond its name: who changed it and when, its checksum, labels, pages. */
export async function factsOf(
  m: EntityManager,
  nodeId: string,
  personId: string,
): Promise<{
  item: Pick<
    NodeInfo,
    'mediaType' | 'createdAt' | 'changedAt' | 'changedBy' | 'sha256' | 'damaged' | 'tags' | 'pinned'
  >;
  pages: number | null;
}> {
  const [row] = await m.query<
    {
      mediaType: string | null;
      createdAt: Date;
      changedAt: Date;
      changedBy: string | null;
      sha256: string | null;
      damaged: boolean;
      tags: string[];
      pinned: boolean;
      pages: number | null;
    }[]
  >(
    `SELECT n.media_type AS "mediaType", n.created_at AS "createdAt", n.changed_at AS "changedAt",
      p.name AS "changedBy", encode(v.sha256, 'hex') AS sha256, b.damaged_at IS NOT NULL AS damaged, pr.pages,
            ARRAY(SELECT t.tag_id::text FROM node_tag t WHERE t.node_id = n.id) AS tags,
              EXISTS (SELECT 1 FROM pin WHERE pin.node_id = n.id AND pin.person_id = $2) AS pinned
       FROM node n LEFT JOIN actor p ON p.id = n.changed_by LEFT JOIN file_version v ON v.id = n.version_id
       LEFT JOIN blob b ON b.sha256 = v.sha256 LEFT JOIN preview pr ON pr.sha256 = v.sha256 WHERE n.id = $1`,
    [nodeId, personId],
  );
  if (!row) throw new Error(`node ${nodeId} is not there`);
  const { pages, createdAt, changedAt, ...rest } = row;
  return { item: { ...rest, createdAt: createdAt.toISOString(), changedAt: changedAt.toISOString() }, pages };
}

/** A row of the table node as it is inserted in bulk, by its columns. */
export interface NodeRow {
  id: string;
  store_id: string;
  parent_id: string;
  kind: string;
  name: string;
  name_key: string;
  litter: boolean;
  size_bytes: number | string;
  media_type: string | null;
  version_id: string | null;
  created_at: Date;
  changed_at: Date;
  changed_by: string;
}
export async function insertNodes(tx: EntityManager, rows: NodeRow[]): Promise<void> {
  if (rows.length) await tx.query(INSERT_NODES, [JSON.stringify(rows)]);
}

/** @returns false when the name is taken; waits for whoever is taking it just now */
export async function insertNodeIfFree(tx: EntityManager, row: NodeRow): Promise<boolean> {
  const made = await tx.query<unknown[]>(`${INSERT_NODES} ON CONFLICT DO NOTHING RETURNING id`, [
    JSON.stringify([row]),
  ]);
  return made.length > 0;
}

const NODE_COLUMNS =
  'id, store_id, parent_id, kind, name, name_key, litter, size_bytes, media_type, version_id, created_at, changed_at, changed_by';
const INSERT_NODES = `INSERT INTO node (${NODE_COLUMNS}) SELECT ${NODE_COLUMNS}
  FROM json_populate_recordset(NULL::node, $1)`;

/** Versions in bulk; `sha256` as "\\x" and hexadecimal. */
export async function insertVersions(
  tx: EntityManager,
  rows: {
    id: string | null;
    node_id: string;
    number: number;
    sha256: string;
    size_bytes: number | string;
    modified_at: Date;
    created_at: Date;
    created_by: string;
    charged_to: string;
  }[],
): Promise<void> {
  const columns = 'id, node_id, number, sha256, size_bytes, modified_at, created_at, created_by, charged_to';
  if (rows.length)
    await tx.query(
      `INSERT INTO file_version (${columns}) SELECT ${columns} FROM json_populate_recordset(NULL::file_version, $1)`,
      [JSON.stringify(rows)],
    );
}

/** Of these folded names in their folders, those that are taken, as "folder name". */
export async function namesIn(m: EntityManager, places: { folderId: string; key: string }[]): Promise<Set<string>> {
  const rows = await m.query<{ parent_id: string; name_key: string }[]>(
    `SELECT n.parent_id, n.name_key FROM unnest($1::uuid[], $2::text[]) AS w (folder, key)
      JOIN node n ON n.parent_id = w.folder AND n.name_key = w.key AND n.trashed_at IS NULL`,
    [places.map((p) => p.folderId), places.map((p) => p.key)],
  );
  return new Set(rows.map((r) => `${r.parent_id} ${r.name_key}`));
}
