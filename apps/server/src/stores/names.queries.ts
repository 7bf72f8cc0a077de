import { keepBothName, nameKey } from '@quay/core';
import type { EntityManager } from 'typeorm';
import { isSeen } from '../access/access.queries.js';

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
