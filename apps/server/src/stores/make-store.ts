import { nameKey, type StoreKind } from '@quay/core';
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
