import {
  actBits,
  shareState,
  type Address,
  type Instant,
  type ReachMark,
  type ShareFacts,
  type ShareState,
} from '@quay/core';
import type { ShareSheet } from '@quay/contract';
import type { EntityManager } from 'typeorm';
import { bitsIn, folderOf, isSeen, walkDown } from '../access/access.queries.js';
import { ensureReach } from '../access/access-reach.js';
import { itemOf, stepDown, stepUp } from '../access/tree.queries.js';
import { weightsOf } from '../stores/weights.queries.js';

/** A share with everything its state, its link and its rows depend on. */
export interface ShareRecord {
  id: string;
  title: string;
  message: string;
  tokenSealed: Buffer;
  address: Address & { id: string };
  /** How its address was last found from outside. */
  reach: ReachMark;
  passwordHash: string | null;
  opensAt: Date | null;
  closesAt: Date | null;
  visitLimit: number | null;
  visitsUsed: number;
  withdrawnAt: Date | null;
  createdAt: Date;
  createdBy: string;
  creatorName: string;
  itemIds: string[];
  /** An item is gone, or its publisher may not publish it any more. */
  broken: boolean;
  /** The homes that items lie in, by their owners: closed to everybody else. */
  homeOwners: string[];
  lastVisitAt: Date | null;
  visitTimes: Date[];
}

export interface ShareFilter {
  ids?: string[];
  createdBy?: string;
  tokenHash?: Buffer;
  /** Visits before this are not listed in `visitTimes`. */
  visitsSince?: Date;
}

/**
 * Shares with the state of their items at a moment, newest first. An item is gone when it or a folder above it is in the
 * trash. A share serves what its publisher may publish now: whoever has left, or may not publish there any more, publishes
 * nothing there any more either, and nothing else is weighed.
 */
export async function loadShares(m: EntityManager, at: Date, filter: ShareFilter): Promise<ShareRecord[]> {
  const wanted = [filter.ids ?? null, filter.createdBy ?? null, filter.tokenHash ?? null];
  const publishers = await m.query<{ id: string }[]>(
    `SELECT DISTINCT s.created_by AS id FROM share s ${WANTED}`,
    wanted,
  );
  if (publishers.length === 0) return [];
  const personIds = publishers.map((p) => p.id);
  await ensureReach(m, personIds, at);
  const rows = await m.query<
    (Omit<ShareRecord, 'address'> & {
      scheme: Address['scheme'];
      host: string;
      port: number | null;
      pathPrefix: string;
      addressId: string;
    })[]
  >(
    `WITH RECURSIVE chosen AS (SELECT s.* FROM share s ${WANTED})
     , item AS (
       SELECT i.share_id, c.created_by AS person, i.node_id, i.position FROM share_item i JOIN chosen c ON c.id = i.share_id
     ), up AS (
       SELECT i.share_id, n.parent_id, n.trashed_at FROM item i ${itemOf('i.node_id')}
       UNION ALL
       SELECT up.share_id, n.parent_id, n.trashed_at FROM ${stepUp()}
     ), rights AS (
       SELECT i.share_id, bool_and((${bitsIn(folderOf('n'), 'i.person')} & ${MAY_PUBLISH}) <> 0) AS it,
              array_remove(array_agg(DISTINCT s.owner_id::text), NULL) AS owners
         FROM item i ${itemOf('i.node_id')} JOIN store s ON s.id = n.store_id GROUP BY i.share_id
     )
     SELECT c.id, c.title, c.message, c.token_sealed AS "tokenSealed", c.password_hash AS "passwordHash",
            c.opens_at AS "opensAt", c.closes_at AS "closesAt", c.visit_limit AS "visitLimit", c.visits_used AS "visitsUsed",
            c.withdrawn_at AS "withdrawnAt", c.created_at AS "createdAt", c.created_by AS "createdBy",
            p.name AS "creatorName", a.scheme, a.host, a.port, a.path_prefix AS "pathPrefix", a.id AS "addressId",
            coalesce((SELECT r.outside FROM reach_check r WHERE r.address_id = a.id ORDER BY r.at DESC, r.id DESC LIMIT 1),
                     'unknown') AS reach,
            ARRAY(SELECT i.node_id::text FROM item i WHERE i.share_id = c.id ORDER BY i.position) AS "itemIds",
            coalesce((SELECT bool_or(u.trashed_at IS NOT NULL) FROM up u WHERE u.share_id = c.id), true)
              OR NOT (coalesce(rights.it, false) AND 'publish-outside' = ANY(p.duties)) AS broken,
            coalesce(rights.owners, '{}') AS "homeOwners",
            (SELECT max(v.began_at) FROM visit v WHERE v.share_id = c.id) AS "lastVisitAt",
            ARRAY(SELECT v.began_at FROM visit v WHERE $4::timestamptz IS NOT NULL AND v.share_id = c.id AND v.began_at >= $4
                   ORDER BY v.began_at LIMIT 500) AS "visitTimes"
       FROM chosen c JOIN person p ON p.id = c.created_by JOIN address a ON a.id = c.address_id
       LEFT JOIN rights ON rights.share_id = c.id
      ORDER BY c.created_at DESC, c.id DESC`,
    [...wanted, filter.visitsSince ?? null],
  );
  return rows.map(({ scheme, host, port, pathPrefix, addressId, ...row }) => ({
    ...row,
    address: { id: addressId, scheme, host, port, pathPrefix },
  }));
}

/** What each share holds in bytes: of its items and all below them, what its publisher may publish. */
export async function bytesOf(m: EntityManager, shares: readonly ShareRecord[]): Promise<Map<string, number>> {
  const bytes = new Map<string, number>();
  for (const personId of new Set(shares.map((s) => s.createdBy))) {
    const theirs = shares.filter((s) => s.createdBy === personId);
    const itemIds = [...new Set(theirs.flatMap((s) => s.itemIds))];
    const weights = await weightsOf(m, personId, itemIds, { act: 'publish' });
    for (const { id, itemIds: items } of theirs)
      bytes.set(
        id,
        items.reduce((sum, item) => sum + (weights.get(item)?.bytes ?? 0), 0),
      );
  }
  return bytes;
}

const MAY_PUBLISH = actBits(['publish']);
const WANTED = `WHERE ($1::uuid[] IS NULL OR s.id = ANY($1)) AND ($2::uuid IS NULL OR s.created_by = $2)
  AND ($3::bytea IS NULL OR s.token_hash = $3)`;

/** The facts that the core's rule decides the state by. */
export function factsOf(share: ShareRecord): ShareFacts {
  return {
    window: { opensAt: share.opensAt?.getTime() ?? null, closesAt: share.closesAt?.getTime() ?? null },
    withdrawnAt: share.withdrawnAt?.getTime() ?? null,
    broken: share.broken,
    visitLimit: share.visitLimit,
    visitsUsed: share.visitsUsed,
  };
}

export const stateOf = (share: ShareRecord, at: Instant): ShareState => shareState(factsOf(share), at);

/** The items of a share, with the folders that each lies in as far as somebody sees them. Asked after `ensureReach`. */
export async function itemsOf(m: EntityManager, personId: string, shareId: string): Promise<ShareSheet['items']> {
  return m.query<ShareSheet['items']>(
    `WITH RECURSIVE up AS (
       SELECT i.node_id AS origin, n.parent_id, n.trashed_at, 0 AS height, ''::text AS name, true AS seen
         FROM share_item i JOIN node n ON n.id = i.node_id WHERE i.share_id = $1
       UNION ALL
       SELECT up.origin, n.parent_id, n.trashed_at, up.height + 1, n.name, up.seen AND ${isSeen('n', '$2')}
         FROM ${stepUp()}
     )
     SELECT n.id, n.name, n.kind, n.size_bytes::float8 AS "sizeBytes",
            (SELECT bool_or(u.trashed_at IS NOT NULL) FROM up u WHERE u.origin = n.id) AS gone,
            (SELECT string_agg(u.name, ' / ' ORDER BY u.height DESC) FROM up u
              WHERE u.origin = n.id AND u.height > 0 AND u.seen) AS place
       FROM share_item i JOIN node n ON n.id = i.node_id WHERE i.share_id = $1 ORDER BY i.position`,
    [shareId, personId],
  );
}

export async function visitsOf(m: EntityManager, shareId: string): Promise<ShareSheet['visits']> {
  const rows = await m.query<{ id: string; beganAt: Date; from: string; files: string; archive: boolean }[]>(
    `SELECT v.id, v.began_at AS "beganAt", v.from_address AS "from", (SELECT count(*) FROM visit_file f WHERE f.visit_id = v.id) AS files, v.archive_at IS NOT NULL AS archive
       FROM visit v WHERE v.share_id = $1 ORDER BY v.began_at DESC LIMIT 200`,
    [shareId],
  );
  return rows.map((r) => ({ ...r, beganAt: r.beganAt.toISOString(), files: Number(r.files) }));
}

/** Shares that publish any of these nodes themselves, or anything inside them, with the nodes by share. */
export async function sharesOfNodes(
  m: EntityManager,
  nodeIds: string[],
): Promise<{ nodeId: string; shareId: string }[]> {
  return m.query('SELECT node_id AS "nodeId", share_id AS "shareId" FROM share_item WHERE node_id = ANY($1)', [
    nodeIds,
  ]);
}

/** Shares that lose an item that somebody sees when these nodes go to the trash. Asked after `ensureReach`. */
export async function sharesLosing(m: EntityManager, personId: string, nodeIds: string[]): Promise<string[]> {
  const walk = walkDown('$2', actBits(['see']));
  const rows = await m.query<{ share_id: string }[]>(
    `WITH RECURSIVE down AS (
       SELECT n.id, n.kind, ${walk.begin} FROM node n WHERE n.id = ANY($1)
       UNION ALL
       SELECT n.id, n.kind, ${walk.below} FROM ${stepDown(null)} ${walk.step} WHERE ${walk.goesOn}
     ) SELECT DISTINCT share_id FROM share_item WHERE node_id IN (SELECT id FROM down WHERE ${walk.allowed})`,
    [nodeIds, personId],
  );
  return rows.map((r) => r.share_id);
}

/**
 * Shares that publish a node itself or a folder above it that somebody sees, with the time this node was last taken through
 * each. Asked after `ensureReach`.
 */
export async function sharesAround(
  m: EntityManager,
  personId: string,
  nodeId: string,
): Promise<{ shareId: string; through: string | null; lastTakenAt: Date | null }[]> {
  return m.query(
    `WITH RECURSIVE up AS (
       SELECT n.id, n.parent_id, n.name, 0 AS height, true AS seen FROM node n WHERE n.id = $1
       UNION ALL
       SELECT n.id, n.parent_id, n.name, up.height + 1, up.seen AND ${isSeen('n', '$2')}
         FROM ${stepUp()}
     ) SELECT i.share_id AS "shareId", CASE WHEN up.height > 0 THEN up.name END AS through,
              (SELECT max(at) FROM (
                SELECT f.first_at AS at FROM visit_file f JOIN visit v ON v.id = f.visit_id
                 WHERE f.node_id = $1 AND v.share_id = i.share_id
                -- An archive is everything that was there by then.
                UNION ALL
                SELECT v.archive_at FROM visit v JOIN node n ON n.id = $1
                 WHERE v.share_id = i.share_id AND v.archive_at >= n.created_at
              ) t) AS "lastTakenAt"
         FROM up JOIN share_item i ON i.node_id = up.id WHERE up.seen`,
    [nodeId, personId],
  );
}
