import { nameKey } from '@quay/core';
import type { DataSource } from 'typeorm';

export interface FoundPart {
  id: string;
  name: string;
  parentId: string | null;
  storeId: string;
}

/** What a path leads to, store first, in a database of any office; null: nothing that is live. */
export async function partAt(db: DataSource, path: string): Promise<FoundPart | null> {
  const [store = '', ...names] = path.split('/').filter(Boolean);
  const stores = await db.query<(FoundPart & { storeName: string })[]>(
    `SELECT n.id, s.name, n.parent_id AS "parentId", n.store_id AS "storeId" FROM store s
       JOIN node n ON n.store_id = s.id AND n.parent_id IS NULL`,
  );
  let at: FoundPart | undefined = stores.find((s) => nameKey(s.name) === nameKey(store));
  for (const name of names) {
    if (!at) return null;
    [at] = await db.query<FoundPart[]>(
      `SELECT id, name, parent_id AS "parentId", store_id AS "storeId" FROM node
        WHERE parent_id = $1 AND name_key = $2 AND trashed_at IS NULL AND purged_at IS NULL`,
      [at.id, nameKey(name)],
    );
  }
  return at ?? null;
}

/** A file below a folder: the names of the folders down to it, its own, and its bytes. */
export interface PartFile {
  below: string[];
  name: string;
  sha256: string;
  sizeBytes: number;
  modifiedAt: Date;
}

/** Every live file at or below a node, in the order of paths; of a file, itself. */
export function filesBelow(db: DataSource, nodeId: string): Promise<PartFile[]> {
  return db.query(
    `WITH RECURSIVE down AS (
       SELECT id, kind, version_id, ARRAY[]::text[] AS below, name FROM node WHERE id = $1
       UNION ALL
       SELECT n.id, n.kind, n.version_id, CASE WHEN d.id = $1 THEN d.below ELSE d.below || d.name END, n.name
         FROM down d CROSS JOIN LATERAL (SELECT * FROM node c WHERE c.parent_id = d.id AND c.trashed_at IS NULL
           AND c.purged_at IS NULL OFFSET 0) n
     )
     SELECT d.below, d.name, encode(v.sha256, 'hex') AS sha256, v.size_bytes::float8 AS "sizeBytes",
            v.modified_at AS "modifiedAt"
       FROM down d JOIN file_version v ON v.id = d.version_id WHERE d.kind = 'file' ORDER BY d.below, d.name`,
    [nodeId],
  );
}

/** Who brings something back into a store: whoever's home it is, or somebody who runs the server. */
export async function bringerOf(
  db: DataSource,
  storeId: string,
): Promise<{ personId: string; name: string; role: 'admin' | 'staff'; duties: never[] } | null> {
  const [row] = await db.query<{ personId: string; name: string; role: 'admin' | 'staff'; duties: never[] }[]>(
    `SELECT p.id AS "personId", p.name, p.role, p.duties FROM person p
      WHERE p.disabled_at IS NULL AND (p.id = (SELECT owner_id FROM store WHERE id = $1)
        OR ((SELECT owner_id FROM store WHERE id = $1) IS NULL AND 'run-server' = ANY(p.duties)))
      ORDER BY p.sign_in_name LIMIT 1`,
    [storeId],
  );
  return row ?? null;
}
