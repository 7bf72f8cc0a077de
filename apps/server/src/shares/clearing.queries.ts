import type { EntityManager } from 'typeorm';
import { itemOf, stepUp } from '../access/tree.queries.js';

/** An item of a share that has closed, and whose files are to go then. */
export interface ItemToClear {
  shareId: string;
  title: string;
  publisherId: string;
  nodeId: string;
  name: string;
  parentId: string | null;
  trashed: boolean;
}

type ItemKey = Pick<ItemToClear, 'shareId' | 'nodeId'>;

/**
 * Items that are to go now, unless another share needs them.
 * @param only one of them
 * @param after all, some at a time: those after this one
 */
export function itemsToClear(
  m: EntityManager,
  at: Date,
  { only, after, limit }: { only?: ItemKey; after?: ItemKey | null; limit: number },
): Promise<ItemToClear[]> {
  return m.query(
    `SELECT s.id AS "shareId", s.title, s.created_by AS "publisherId", n.id AS "nodeId", n.name, n.parent_id AS "parentId",
            n.trashed_at IS NOT NULL AS trashed
       FROM share s JOIN share_item i ON i.share_id = s.id ${itemOf('i.node_id')}
      WHERE s.removes_files AND s.withdrawn_at IS NULL AND s.closes_at <= $1 AND i.cleared_at IS NULL
        AND ($2::uuid IS NULL OR (s.id = $2 AND n.id = $3))
        AND ($5::uuid IS NULL OR (s.id, n.id) > ($5, $6::uuid))
      ORDER BY s.id, n.id LIMIT $4`,
    [at, only?.shareId ?? null, only?.nodeId ?? null, limit, after?.shareId ?? null, after?.nodeId ?? null],
  );
}

/** What was to be done about an item is done, or cannot be. */
export async function markCleared(tx: EntityManager, { shareId, nodeId }: ItemToClear, at: Date): Promise<void> {
  await tx.query('UPDATE share_item SET cleared_at = $3 WHERE share_id = $1 AND node_id = $2', [shareId, nodeId, at]);
}

/** A share closes at another time: what was done when it closed before is to be done again. */
export async function clearAgain(tx: EntityManager, shareId: string): Promise<void> {
  await tx.query('UPDATE share_item SET cleared_at = NULL WHERE share_id = $1', [shareId]);
}

/** That a share holds something, by one of its items. */
export interface Holding {
  nodeId: string;
  shareId: string;
  itemId: string;
}

/** Shares that hold these items: themselves, frozen in another, something in them, or a folder that they lie in. */
export function sharesHolding(m: EntityManager, nodeIds: string[]): Promise<Holding[]> {
  return m.query(
    `WITH RECURSIVE up AS (
       SELECT c.id AS origin, c.id, c.parent_id FROM node c WHERE c.id = ANY($1)
       UNION ALL SELECT up.origin, n.id, n.parent_id FROM ${stepUp()}
     )
     SELECT up.origin AS "nodeId", i.share_id AS "shareId", i.node_id AS "itemId" FROM up JOIN share_item i ON i.node_id = up.id
     UNION SELECT p.above_id, p.share_id, p.node_id FROM share_path p WHERE p.above_id = ANY($1)
     UNION SELECT x.node_id, x.share_id, x.item_id FROM share_frozen x WHERE x.node_id = ANY($1)`,
    [nodeIds],
  );
}
