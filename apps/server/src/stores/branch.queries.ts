import { actBits, ARCHIVE_PATH_MOST_BYTES, distinctNames, type Act, type PathExtent } from '@quay/core';
import type { ItemTotal } from '@quay/contract';
import type { EntityManager } from 'typeorm';
import { ANCESTORS, bitsOn, walkDown } from '../access/access.queries.js';
import { LIVE, NOT_PURGED, SHOWN, stepDown } from '../access/tree.queries.js';
import { weightsOf } from './weights.queries.js';

/** True when `ancestorId` lies on the way up from the node (or is the node). */
export async function isWithin(m: EntityManager, nodeId: string, ancestorIds: string[]): Promise<boolean> {
  const rows = await m.query<unknown[]>(`${ANCESTORS} SELECT 1 FROM up WHERE id = ANY($2) LIMIT 1`, [
    [nodeId],
    ancestorIds,
  ]);
  return rows.length > 0;
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

/** An entry of what is below several nodes: below which, and by what it is put in order. */
export type ContentRow = ContentFile & { origin: string; sort: string };

/**
 * All that is shown below the nodes $1, litter left out, as rows `down` of a query that begins with it; those that
 * somebody ($2) may do the acts ($3, as bits) with are `allowed`.
 */
export function shownBelow(): { begin: string; allowed: string } {
  const walk = walkDown('$2', '$3::int');
  const begin = `WITH RECURSIVE down AS (
       SELECT n.id AS origin, n.id, n.kind, n.name::text AS path, n.name_key::text COLLATE "C" AS sort,
              n.version_id, n.media_type, n.changed_at, ${walk.begin} FROM node n WHERE n.id = ANY($1)
       UNION ALL
       SELECT down.origin, n.id, n.kind, down.path || '/' || n.name, (down.sort || '/' || n.name_key) COLLATE "C",
              n.version_id, n.media_type, n.changed_at, ${walk.below}
         FROM ${stepDown(SHOWN)} ${walk.step}
        -- Deeper than this nothing is opened by any desktop; what lies there is told of where the path ends.
        WHERE length(down.path) <= ${ARCHIVE_PATH_MOST_BYTES} AND ${walk.goesOn}
     )`;
  return { begin, allowed: walk.allowed };
}

/** {@link ContentRow} of rows that have a kind, a path, a version and a media type. */
export const contentColumns = (of: string): string =>
  `${of}.origin, ${of}.id, ${of}.sort, CASE ${of}.kind WHEN 'folder' THEN ${of}.path || '/' ELSE ${of}.path END AS path,
   ${of}.kind, coalesce(b.size_bytes, 0)::float8 AS "sizeBytes",
   coalesce(${of}.media_type, 'application/octet-stream') AS "mediaType",
   coalesce(encode(v.sha256, 'hex'), '') AS sha256, coalesce(b.crc32, 0)::float8 AS crc32,
   round(extract(epoch FROM coalesce(v.modified_at, ${of}.changed_at)) * 1000)::float8 AS "modifiedAt"`;
export const contentBytes = (of: string): string =>
  `LEFT JOIN file_version v ON v.id = ${of}.version_id LEFT JOIN blob b ON b.sha256 = v.sha256`;

/**
 * Everything live below the given nodes, litter left out, with paths that begin with each node's own name: files with
 * the bytes' names, folders with a slash at the end. Ordered so that a folder comes before what is in it. At most one
 * more than {@link MOST_CONTENTS}, so that more is noticed.
 * @param allowed whose access counts, and what they must be allowed to do with each: the rest is left out
 */
export function contentRows(
  m: EntityManager,
  nodeIds: string[],
  allowed: { personId: string; act: Act },
): Promise<ContentRow[]> {
  const shown = shownBelow();
  return m.query(
    `${shown.begin} SELECT ${contentColumns('down')} FROM down ${contentBytes('down')}
      WHERE ${shown.allowed} ORDER BY down.sort, array_position($1, down.origin), down.id LIMIT ${MOST_CONTENTS + 1}`,
    [nodeIds, allowed.personId, actBits([allowed.act])],
  );
}

/**
 * As {@link contentRows}. Nodes of the same name come under names of their own, and what lies in one of them is not
 * mixed with what lies in the other.
 */
export async function contents(
  m: EntityManager,
  nodeIds: string[],
  allowed: { personId: string; act: Act },
): Promise<ContentFile[]> {
  return withOwnTops(await contentRows(m, nodeIds, allowed), nodeIds);
}

/** Puts everything of a node under a name that no other node has. */
export function withOwnTops(rows: ContentRow[], nodeIds: readonly string[]): ContentRow[] {
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
