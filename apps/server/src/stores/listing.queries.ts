import { actBits } from '@quay/core';
import { STORE_ORDER } from './make-store.js';
import type { FolderQuery, NodeInfo, NodeItem, SortKey, StoreSummary, TrashItem } from '@quay/contract';
import type { EntityManager } from 'typeorm';
import {
  bitsIn,
  bitsOn,
  countSeen,
  entrancesOf,
  isOwn,
  isSeen,
  isSeenThere,
  storesSeenWhole,
} from '../access/access.queries.js';
import { stepUp } from '../access/tree.queries.js';
import { momentText } from '../platform/cursor.js';
import { weightsOf } from './weights.queries.js';

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
  const rows = await m.query<(StoreRow & { changedAt: Date | null; archivedAt: Date | null })[]>(
    `SELECT s.id, s.kind, called.name, root.id AS "rootId", ${bitsIn('root.id', '$1')} AS bits,
      root.parent_id IS NOT NULL AS part,
            s.used_bytes::float8 AS "usedBytes", s.quota_bytes::float8 AS "quotaBytes",
            s.archived_at AS "archivedAt",
            CASE WHEN root.parent_id IS NULL THEN (
              SELECT n.changed_at FROM node n WHERE n.store_id = s.id AND n.kind = 'file' AND n.trashed_at IS NULL
                 AND ${isSeen('n', '$1')} ORDER BY n.changed_at DESC LIMIT 1) END AS "changedAt"
       FROM node root JOIN store s ON s.id = root.store_id
      CROSS JOIN LATERAL (SELECT CASE WHEN root.parent_id IS NULL THEN s.name ELSE root.name END AS name) called
      WHERE root.id = ANY($2) ORDER BY s.kind = 'home' DESC, ${STORE_ORDER}, called.name COLLATE natural_order`,
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
      archivedAt: row.archivedAt?.toISOString() ?? null,
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
