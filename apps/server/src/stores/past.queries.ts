import type { EntityManager } from 'typeorm';
import { bitsOn, folderOf, isSeen } from '../access/access.queries.js';

/** Moments that a scale can show. */
const MOST_MOMENTS = 400;

/** An item as it was at a moment, and as it is now. */
export interface PastRow {
  id: string;
  kind: 'folder' | 'file';
  name: string;
  version_id: string | null;
  number: number | null;
  sha256: Buffer | null;
  size_bytes: string | null;
  modified_at: Date | null;
  /** What who asks may do with it where it lies now, as bits. */
  now_bits: number;
  now_parent: string;
  now_name: string;
  now_version: string | null;
  now_trashed: boolean;
  now_purged: boolean;
}

/**
 * Where a node `n` lies now. What was removed for good lies where it last lay: in the store that it was in, when the
 * folder around it has moved to another since.
 */
const WHERE_IT_LIES = `CASE WHEN n.purged_at IS NULL THEN ${folderOf('n')} ELSE (
  SELECT CASE WHEN around.store_id = n.store_id THEN around.id ELSE top.id END
    FROM node around JOIN node top ON top.store_id = n.store_id AND top.parent_id IS NULL
      WHERE around.id = n.parent_id) END`;

/**
 * A page of what was in a folder at a moment and is seen where it lies now, in the order of ids. After `ensureReach`.
 */
export async function childrenAt(
  m: EntityManager,
  personId: string,
  folderId: string,
  at: Date,
  after: string | null,
  limit: number,
  only: string[] | null = null,
): Promise<PastRow[]> {
  return m.query(
    `SELECT t.node_id AS id, t.kind, t.name, t.version_id, v.number, v.sha256, v.size_bytes, v.modified_at,
            ${bitsOn('n', '$3', WHERE_IT_LIES)} AS now_bits, n.parent_id AS now_parent, n.name AS now_name, n.version_id AS now_version,
            n.trashed_at IS NOT NULL AS now_trashed, n.purged_at IS NOT NULL AS now_purged
       FROM node_past t JOIN node n ON n.id = t.node_id LEFT JOIN file_version v ON v.id = t.version_id
      WHERE t.parent_id = $1 AND t.since <= $2 AND (t.until IS NULL OR t.until > $2) AND NOT t.trashed
        AND ${isSeen('n', '$3', WHERE_IT_LIES)}
        AND ($4::uuid IS NULL OR t.node_id > $4) AND ($6::uuid[] IS NULL OR t.node_id = ANY($6))
      ORDER BY t.node_id LIMIT $5`,
    [folderId, at, personId, after, limit, only],
  );
}

/** Of these folders, those that had something in them at the moment. */
export async function withChildrenAt(m: EntityManager, folderIds: string[], at: Date): Promise<Set<string>> {
  const rows = await m.query<{ id: string }[]>(
    `SELECT DISTINCT parent_id AS id FROM node_past WHERE parent_id = ANY($1) AND since <= $2
      AND (until IS NULL OR until > $2) AND NOT trashed`,
    [folderIds, at],
  );
  return new Set(rows.map((r) => r.id));
}

/** Folders first, names as people order them. */
export function sorted(rows: PastRow[]): PastRow[] {
  return rows.sort((a, b) => Number(a.kind === 'file') - Number(b.kind === 'file') || COLLATOR.compare(a.name, b.name));
}

const COLLATOR = new Intl.Collator('und', { numeric: true, sensitivity: 'accent' });

/** When something changed in a folder that may be seen; of many moments an even selection. */
export async function momentsOf(m: EntityManager, personId: string, folderId: string): Promise<string[]> {
  const rows = await m.query<{ at: Date }[]>(
    `WITH seen AS (
       SELECT t.since, t.until FROM node_past t JOIN node n ON n.id = t.node_id
         WHERE t.parent_id = $1 AND ${isSeen('n', '$2', WHERE_IT_LIES)}
     ), changes AS (SELECT since AS at FROM seen UNION ALL SELECT until FROM seen WHERE until IS NOT NULL)
     SELECT DISTINCT date_trunc('second', at) + interval '1 second' AS at FROM changes ORDER BY at`,
    [folderId, personId],
  );
  const step = Math.max(1, Math.ceil(rows.length / MOST_MOMENTS));
  return rows.filter((_, i) => i % step === 0 || i === rows.length - 1).map((r) => r.at.toISOString());
}
