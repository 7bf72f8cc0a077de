import {
  shareState,
  type Address,
  type AudienceKind,
  type Instant,
  type ReachMark,
  type ShareFacts,
  type ShareLevel,
  type ShareMay,
  type ShareState,
  type Watermark,
} from '@quay/core';
import type { ShareSheet } from '@quay/contract';
import type { EntityManager } from 'typeorm';
import { isSeen, reachStands, reachEnds } from '../access/access.queries.js';
import { ensureReach } from '../access/access-reach.js';
import { itemOf, stepUp } from '../access/tree.queries.js';
import { grouped } from '../platform/grouped.js';
import { weightsOfEach } from '../stores/weights.queries.js';

/** A share with everything its state, its link and its rows depend on. */
export interface ShareRecord {
  kind: 'share';
  id: string;
  title: string;
  message: string;
  tokenSealed: Buffer;
  address: Address & { id: string };
  /** How its address was last found from outside. */
  reach: ReachMark;
  audience: AudienceKind;
  /** What visitors may do, and how many bytes they have brought. */
  may: ShareMay;
  broughtBytes: number;
  passwordHash: string | null;
  opensAt: Date | null;
  closesAt: Date | null;
  visitLimit: number | null;
  visitsUsed: number;
  withdrawnAt: Date | null;
  /** Its files go to the trash when it closes. */
  removesFiles: boolean;
  createdAt: Date;
  createdBy: string;
  creatorName: string;
  itemIds: string[];
  /** Of these, those that are served as they were when they were frozen; and what they held then. */
  frozenIds: string[];
  frozenBytes: number;
  /** Since when a guardrail keeps it closed, and which; null: none does. */
  barredAt: Date | null;
  barredBy: string | null;
  /** Whether it has been looked at by the guardrails as they stand. */
  judged: boolean;
  /** An item is gone, or its publisher may not publish it any more. */
  broken: boolean;
  /** When what its publisher reaches changes by itself; null: not by itself. */
  publisherUntil: Date | null;
  /** The homes that items lie in, by their owners: closed to everybody else. */
  homeOwners: string[];
  lastVisitAt: Date | null;
}

/** A share's row `s` joined with who made it, `p`, and the address of its link, `a`. */
export const SHARE_FROM = 'JOIN person p ON p.id = s.created_by JOIN address a ON a.id = s.address_id';

/**
 * Whether a share `s` is broken: an item is gone, or its publisher may not publish it any more. A share serves what its
 * publisher may publish now. What stands against it is kept (schema-0011), as of what its publisher was last found to
 * reach: asked after `ensureReach`.
 */
export const IS_BROKEN = `(EXISTS (SELECT 1 FROM share_fault f WHERE f.share_id = s.id)
  OR s.created_by = ANY(ARRAY(SELECT id FROM person WHERE NOT 'publish-outside' = ANY(duties))))`;

/** What {@link shareRecord} is made of. Each is looked up by itself for the rows that are shown. */
export const SHARE_COLUMNS = `'share' AS kind, s.id, s.title, s.message, s.token_sealed AS "tokenSealed", s.audience, s.password_hash AS "passwordHash",
  s.opens_at AS "opensAt", s.closes_at AS "closesAt", s.visit_limit AS "visitLimit", s.visits_used AS "visitsUsed",
  s.withdrawn_at AS "withdrawnAt", s.removes_files AS "removesFiles", s.created_at AS "createdAt", s.created_by AS "createdBy", s.last_visit_at AS "lastVisitAt",
  s.barred_at AS "barredAt", s.barred_by AS "barredBy", s.judged, s.level, s.sees_others AS "seesOthers", s.takes_bytes::float8 AS "takesBytes", s.watermark, s.file_limit AS "fileLimit", s.brought_bytes::float8 AS "broughtBytes",
  p.name AS "creatorName", a.scheme, a.host, a.port, a.path_prefix AS "pathPrefix", a.id AS "addressId",
  coalesce((SELECT r.outside FROM reach_check r WHERE r.address_id = a.id ORDER BY r.at DESC, r.id DESC LIMIT 1),
    'unknown') AS reach,
  ARRAY(SELECT i.node_id::text FROM share_item i WHERE i.share_id = s.id ORDER BY i.position) AS "itemIds",
  ARRAY(SELECT i.node_id::text FROM share_item i WHERE i.share_id = s.id AND i.frozen_at IS NOT NULL) AS "frozenIds",
  coalesce((SELECT sum(i.frozen_bytes) FROM share_item i WHERE i.share_id = s.id), 0)::float8 AS "frozenBytes",
  ARRAY(SELECT h.owner_id::text FROM share_home h WHERE h.share_id = s.id) AS "homeOwners",
  ${reachEnds('s.created_by')} AS "publisherUntil", ${IS_BROKEN} AS broken`;

/** A row of {@link SHARE_COLUMNS}. */
export type ShareColumns = Omit<ShareRecord, 'address' | 'may'> & {
  level: ShareLevel;
  seesOthers: boolean;
  takesBytes: number;
  watermark: Watermark;
  fileLimit: number | null;
  scheme: Address['scheme'];
  host: string;
  port: number | null;
  pathPrefix: string;
  addressId: string;
};

export function shareRecord(row: ShareColumns): ShareRecord {
  const { scheme, host, port, pathPrefix, addressId, level, seesOthers, takesBytes, watermark, fileLimit, ...rest } =
    row;
  return {
    ...rest,
    may: { level, seesOthers, takesBytes, watermark, fileLimit },
    address: { id: addressId, scheme, host, port, pathPrefix },
  };
}

/** These shares, newest first; what there is no share for is left out. */
export const sharesById = (m: EntityManager, at: Date, ids: readonly string[]): Promise<ShareRecord[]> =>
  ids.length === 0 ? Promise.resolve([]) : loadShares(m, at, 's.id = ANY($1)', ids);

/** The share that a link leads to, in one question. */
export async function shareByToken(m: EntityManager, at: Date, tokenHash: Buffer): Promise<ShareRecord | null> {
  const [share] = await loadShares(m, at, 's.token_hash = $1', tokenHash);
  return share ?? null;
}

async function loadShares(m: EntityManager, at: Date, where: string, value: unknown): Promise<ShareRecord[]> {
  const rows = await asReached(m, at, () =>
    m.query<(ShareColumns & { stood: boolean })[]>(
      `SELECT ${SHARE_COLUMNS}, ${reachStands('s.created_by', '$2')} AS stood
         FROM share s ${SHARE_FROM} WHERE ${where} ORDER BY s.created_at DESC, s.id DESC`,
      [value, at],
    ),
  );
  return rows.map(({ stood: _, ...row }) => shareRecord(row));
}

/** Rows about shares; asked once more where it was not known yet what a publisher reaches. */
export async function asReached<Row extends { createdBy: string; stood: boolean }>(
  m: EntityManager,
  at: Date,
  ask: () => Promise<Row[]>,
): Promise<Row[]> {
  const rows = await ask();
  const stale = rows.filter((r) => !r.stood).map((r) => r.createdBy);
  if (stale.length === 0) return rows;
  await ensureReach(m, [...new Set(stale)], at);
  return ask();
}

/** The items of a share that are served as they are at the time. */
export const liveIdsOf = ({ itemIds, frozenIds }: Pick<ShareRecord, 'itemIds' | 'frozenIds'>): string[] =>
  itemIds.filter((id) => !frozenIds.includes(id));

/**
 * What each share holds in bytes: of its items and all below them, what its publisher may publish; of frozen ones, what
 * they held when they were frozen.
 */
export async function bytesOf(m: EntityManager, shares: readonly ShareRecord[]): Promise<Map<string, number>> {
  const byPublisher = [...grouped(shares, (s) => s.createdBy)];
  const asked = byPublisher.map(([personId, theirs]) => ({ personId, nodeIds: theirs.flatMap(liveIdsOf) }));
  const weights = await weightsOfEach(m, asked, { act: 'publish' });
  const bytes = (share: ShareRecord) =>
    liveIdsOf(share).reduce((sum, id) => sum + (weights.get(share.createdBy)?.get(id)?.bytes ?? 0), share.frozenBytes);
  return new Map(shares.map((share) => [share.id, bytes(share)]));
}

/** The facts that the core's rule decides the state by. */
export function factsOf(share: ShareRecord): ShareFacts {
  return {
    window: { opensAt: share.opensAt?.getTime() ?? null, closesAt: share.closesAt?.getTime() ?? null },
    withdrawnAt: share.withdrawnAt?.getTime() ?? null,
    broken: share.broken,
    visitLimit: share.visitLimit,
    visitsUsed: share.visitsUsed,
    barredAt: share.barredAt?.getTime() ?? null,
  };
}

/** Open now or later, if what stands against it is mended, or its guardrails are kept to: its items are still needed. */
export const couldBeOpened = (share: ShareRecord, at: Instant): boolean =>
  ['open', 'scheduled'].includes(shareState({ ...factsOf(share), broken: false, barredAt: null }, at));

export const stateOf = (share: ShareRecord, at: Instant): ShareState => shareState(factsOf(share), at);

/** The items of a share, with the folders that each lies in as far as somebody sees them. Asked after `ensureReach`. */
export async function itemsOf(m: EntityManager, personId: string, shareId: string): Promise<ShareSheet['items']> {
  const rows = await m.query<(Omit<ShareSheet['items'][number], 'frozenAt'> & { frozenAt: Date | null })[]>(
    `WITH RECURSIVE up AS (
       SELECT i.node_id AS origin, n.parent_id, n.trashed_at, 0 AS height, ''::text AS name, true AS seen
         FROM share_item i JOIN node n ON n.id = i.node_id WHERE i.share_id = $1
       UNION ALL
       SELECT up.origin, n.parent_id, n.trashed_at, up.height + 1, n.name, up.seen AND ${isSeen('n', '$2')}
         FROM ${stepUp()}
     )
     SELECT n.id, n.name, n.kind, coalesce(i.frozen_bytes, n.size_bytes)::float8 AS "sizeBytes", i.frozen_at AS "frozenAt",
            (SELECT bool_or(u.trashed_at IS NOT NULL) FROM up u WHERE u.origin = n.id) AS gone,
            (SELECT string_agg(u.name, ' / ' ORDER BY u.height DESC) FROM up u
              WHERE u.origin = n.id AND u.height > 0 AND u.seen) AS place
       FROM share_item i JOIN node n ON n.id = i.node_id WHERE i.share_id = $1 ORDER BY i.position`,
    [shareId, personId],
  );
  return rows.map((row) => ({ ...row, frozenAt: row.frozenAt?.toISOString() ?? null }));
}

/** Visits of a share, the newest first. */
export async function visitsOf(m: EntityManager, shareId: string, limit = 200): Promise<ShareSheet['visits']> {
  const rows = await m.query<(Omit<ShareSheet['visits'][number], 'beganAt'> & { beganAt: Date })[]>(
    `SELECT v.id, v.began_at AS "beganAt", v.from_address AS "from", coalesce(v.recipient, p.name) AS who, v.archive_at IS NOT NULL AS archive,
            (SELECT count(*) FROM visit_file f WHERE f.visit_id = v.id) AS files
       FROM visit v LEFT JOIN person p ON p.id = v.person_id WHERE v.share_id = $1 ORDER BY v.began_at DESC LIMIT $2`,
    [shareId, limit],
  );
  return rows.map((r) => ({ ...r, beganAt: r.beganAt.toISOString(), files: Number(r.files) }));
}

/** Those who were refused lately, the last first, and how many tries there were. */
export async function refusedOf(
  m: EntityManager,
  shareId: string,
): Promise<Pick<ShareSheet, 'refused' | 'refusedTotal'>> {
  const rows = await m.query<(Omit<ShareSheet['refused'][number], 'at'> & { at: Date; total: number })[]>(
    `SELECT last_at AS at, from_address AS "from", reason, count, (sum(count) OVER ())::int AS total
       FROM share_refusal WHERE share_id = $1 ORDER BY last_at DESC LIMIT 50`,
    [shareId],
  );
  const refused = rows.map(({ at, from, reason, count }) => ({ at: at.toISOString(), from, reason, count }));
  return { refused, refusedTotal: rows[0]?.total ?? 0 };
}

/** Has what is done for one share wait for what is done for it already, until the transaction ends. */
export async function holdOne(tx: EntityManager, shareId: string): Promise<void> {
  await tx.query('SELECT 1 FROM share WHERE id = $1 FOR NO KEY UPDATE', [shareId]);
}

/** What items are called, the items in the trash too. */
export async function itemNames(m: EntityManager, nodeIds: readonly string[]): Promise<Map<string, string>> {
  const rows = await m.query<{ id: string; name: string }[]>('SELECT id, name FROM node WHERE id = ANY($1)', [nodeIds]);
  return new Map(rows.map((r) => [r.id, r.name]));
}

export async function takeItemsOff(tx: EntityManager, shareId: string, nodeIds: readonly string[]): Promise<void> {
  if (nodeIds.length === 0) return;
  await tx.query('DELETE FROM share_item WHERE share_id = $1 AND node_id = ANY($2)', [shareId, nodeIds]);
}

/** Shares that publish any of these nodes themselves, or as part of a frozen item, with the nodes by share. */
export async function sharesOfNodes(
  m: EntityManager,
  nodeIds: string[],
): Promise<{ nodeId: string; shareId: string; itemId: string }[]> {
  return m.query(
    `SELECT node_id AS "nodeId", share_id AS "shareId", node_id AS "itemId" FROM share_item WHERE node_id = ANY($1)
     UNION SELECT node_id, share_id, item_id FROM share_frozen WHERE node_id = ANY($1) AND kind = 'file'`,
    [nodeIds],
  );
}

/** Shares that lose an item that somebody sees when these nodes go to the trash. Asked after `ensureReach`. */
export async function sharesLosing(m: EntityManager, personId: string, nodeIds: string[]): Promise<string[]> {
  const rows = await m.query<{ id: string }[]>(
    `SELECT DISTINCT p.share_id AS id FROM share_path p ${itemOf('p.node_id')}
      WHERE p.above_id = ANY($1) AND ${isSeen('n', '$2')}`,
    [nodeIds, personId],
  );
  return rows.map((r) => r.id);
}

/**
 * Shares that publish a node itself or a folder above it that somebody sees, with the time this node was last taken
 * through each. Asked after `ensureReach`.
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

/**
 * Serves one visit if the share allows one more at this moment: a single statement, so that the limit holds however
 * many arrive together. Null when it does not, also when the password is no longer the one that was checked.
 */
export async function countVisit(
  m: EntityManager,
  shareId: string,
  passwordHash: string | null,
  at: Date,
): Promise<{ visitsUsed: number; visitLimit: number | null } | null> {
  const [rows] = await m.query<[{ visitsUsed: number; visitLimit: number | null }[], number]>(
    `UPDATE share SET visits_used = visits_used + 1
      WHERE id = $1 AND withdrawn_at IS NULL AND barred_at IS NULL AND (visit_limit IS NULL OR visits_used < visit_limit)
        AND (opens_at IS NULL OR opens_at <= $2) AND (closes_at IS NULL OR closes_at > $2)
          AND password_hash IS NOT DISTINCT FROM $3
      RETURNING visits_used AS "visitsUsed", visit_limit AS "visitLimit"`,
    [shareId, at, passwordHash],
  );
  return rows[0] ?? null;
}

/** Counts what visitors brought. @returns false where the share takes in no more */
export async function takeIn(tx: EntityManager, shareId: string, bytes: number): Promise<boolean> {
  const [, counted] = (await tx.query(
    'UPDATE share SET brought_bytes = brought_bytes + $2 WHERE id = $1 AND brought_bytes + $2 <= takes_bytes',
    [shareId, bytes],
  )) as [unknown, number];
  return counted > 0;
}
