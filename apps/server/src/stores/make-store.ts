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

/** All common stores, by name. */
export function commonStores(m: EntityManager): Promise<StoreSettings[]> {
  return m.query(
    `SELECT s.id, root.id AS "rootId", s.name, s.used_bytes::float8 AS "usedBytes"
       FROM store s JOIN node root ON root.store_id = s.id AND root.parent_id IS NULL
      WHERE s.kind = 'common' ORDER BY s.name COLLATE natural_order`,
  );
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
