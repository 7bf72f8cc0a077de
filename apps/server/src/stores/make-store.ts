import { nameKey, type StoreKind } from '@quay/core';
import type { StoreSettings } from '@quay/contract';
import type { EntityManager } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';

/**
 * Makes a store with its own folder. Asked with the access lock held alone.
 * @param store `ownerId` of a home; whoever may only add files to a common store sees and reads what others brought
 */
export async function makeStore(
  tx: EntityManager,
  { kind, name, ownerId }: { kind: StoreKind; name: string; ownerId: string | null },
  at: Date,
): Promise<{ storeId: string; rootId: string }> {
  const [storeId, rootId] = [uuidv7(), uuidv7()];
  await tx.query('INSERT INTO store (id, kind, name, owner_id, created_at) VALUES ($1, $2, $3, $4, $5)', [
    storeId,
    kind,
    name,
    ownerId,
    at,
  ]);
  await tx.query(
    `INSERT INTO node (id, store_id, kind, name, name_key, created_at, changed_at, others_rule)
      VALUES ($1, $2, 'folder', $3, $4, $5, $5, $6)`,
    [rootId, storeId, name, nameKey(name), at, kind === 'common' ? 'read' : null],
  );
  return { storeId, rootId };
}

/** A common store as whoever runs the server sees it, but for who manages in it. */
export interface CommonStore extends Omit<StoreSettings, 'managers' | 'policyWords' | 'archivedAt'> {
  archivedAt: Date | null;
  versionsKept: number;
  thinAfterDays: number | null;
}

/** All common stores, in the order in which people see them. */
export function commonStores(m: EntityManager): Promise<CommonStore[]> {
  return m.query(
    `SELECT s.id, root.id AS "rootId", s.name, s.used_bytes::float8 AS "usedBytes", s.archived_at AS "archivedAt",
            s.quota_bytes::float8 AS "quotaBytes", s.versions_kept AS "versionsKept",
            s.thin_after_days AS "thinAfterDays"
       FROM store s JOIN node root ON root.store_id = s.id AND root.parent_id IS NULL
      WHERE s.kind = 'common' ORDER BY ${STORE_ORDER}, s.name COLLATE natural_order`,
  );
}

/** Archived stores come last; those that nobody put in an order come after those that somebody did, by name. */
export const STORE_ORDER = 's.archived_at IS NOT NULL, s.position NULLS LAST';

/** Puts common stores in an order; those that are not named come after them. */
export async function orderStores(tx: EntityManager, storeIds: string[]): Promise<void> {
  await tx.query(
    `UPDATE store s SET position = (SELECT o.n FROM unnest($1::uuid[]) WITH ORDINALITY o (id, n) WHERE o.id = s.id)
      WHERE s.kind = 'common'`,
    [storeIds],
  );
}

/** @param at null: it is not archived any more. Asked with the access lock held alone. */
export async function archiveStore(tx: EntityManager, storeId: string, at: Date | null): Promise<void> {
  await tx.query('UPDATE store SET archived_at = $2 WHERE id = $1', [storeId, at]);
}

/** How many uploads into a store have not ended. */
export async function uploadsInto(m: EntityManager, storeId: string): Promise<number> {
  const [row] = await m.query<{ count: number }[]>(
    `SELECT count(*)::int AS count FROM upload u JOIN node n ON n.id = u.folder_id
      WHERE n.store_id = $1 AND u.answer IS NULL`,
    [storeId],
  );
  return row?.count ?? 0;
}

/** The store's own folder bears its name. Asked with the access lock held alone. */
export async function renameStore(
  tx: EntityManager,
  { id, rootId }: Pick<StoreSettings, 'id' | 'rootId'>,
  name: string,
): Promise<void> {
  await tx.query('UPDATE store SET name = $2 WHERE id = $1', [id, name]);
  await tx.query('UPDATE node SET name = $2, name_key = $3 WHERE id = $1', [rootId, name, nameKey(name)]);
}
