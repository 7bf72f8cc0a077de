import type { ArrivingFile } from '@quay/contract';
import type { EntityManager } from 'typeorm';
import type { HasAudience } from '../shares/audience.queries.js';
import { actBits } from '@quay/core';
import { bitsIn } from '../access/access.queries.js';
import type { FileBytes } from '../stores/branch.queries.js';
import { stepUp } from '../access/tree.queries.js';

export interface VisitRow {
  id: string;
  beganAt: Date;
  endedAt: Date | null;
  /** Whom it was let in as, where the share is not for anyone. */
  recipient: string | null;
  personId: string | null;
  /** Who they are, in words. */
  who: string | null;
  sessionHash: Buffer | null;
  /** Who is signed in is a guest of the office. */
  isGuest: boolean;
  /** As whom it has brought something; null: nothing yet. */
  actorId: string | null;
}

export async function visitByCookie(m: EntityManager, shareId: string, cookieHash: Buffer): Promise<VisitRow | null> {
  const [row] = await m.query<VisitRow[]>(
    `SELECT v.id, v.began_at AS "beganAt", v.ended_at AS "endedAt", v.recipient, v.person_id AS "personId",
            coalesce(v.recipient, p.name) AS who, v.session_hash AS "sessionHash", v.actor_id AS "actorId",
            coalesce(p.role = 'guest', false) AS "isGuest"
       FROM visit v LEFT JOIN person p ON p.id = v.person_id WHERE v.share_id = $1 AND v.cookie_hash = $2`,
    [shareId, cookieHash],
  );
  return row ?? null;
}

/**
 * A live file at or below an item of the share that is not frozen, that its publisher may publish, with no litter on the way; null
 * otherwise.
 */
export async function fileInShare(m: EntityManager, shareId: string, nodeId: string): Promise<FileBytes | null> {
  const [row] = await m.query<(Omit<FileBytes, 'sizeBytes'> & { sizeBytes: string })[]>(
    `WITH RECURSIVE up AS (
       SELECT id, parent_id, trashed_at, litter,
         EXISTS (SELECT 1 FROM share_item i WHERE i.share_id = $1 AND i.node_id = node.id AND i.frozen_at IS NULL) AS reached FROM node
         WHERE id = $2
       UNION ALL
       SELECT n.id, n.parent_id, n.trashed_at, n.litter,
         EXISTS (SELECT 1 FROM share_item i WHERE i.share_id = $1 AND i.node_id = n.id AND i.frozen_at IS NULL)
         FROM ${stepUp()} WHERE NOT up.reached AND up.trashed_at IS NULL AND NOT up.litter
     )
     SELECT n.id, n.name, v.size_bytes AS "sizeBytes",
       coalesce(n.media_type, 'application/octet-stream') AS "mediaType", v.sha256, v.modified_at AS "modifiedAt"
       FROM node n JOIN file_version v ON v.id = n.version_id JOIN share s ON s.id = $1
      WHERE n.id = $2 AND (${bitsIn('n.parent_id', 's.created_by')} & ${actBits(['publish'])}) <> 0
        AND EXISTS (SELECT 1 FROM up WHERE reached AND trashed_at IS NULL AND NOT litter)`,
    [shareId, nodeId],
  );
  return row ? { ...row, sizeBytes: Number(row.sizeBytes) } : null;
}

/**
 * Files of a share that as many visits have taken as may, but for those that this visit has taken itself.
 * @param among of these; null: of all
 */
export async function spentFiles(
  m: EntityManager,
  { shareId, fileLimit, visitId }: { shareId: string; fileLimit: number; visitId: string | null },
  among: readonly string[] | null,
): Promise<Set<string>> {
  const rows = await m.query<{ id: string }[]>(
    `SELECT f.node_id AS id FROM visit v JOIN visit_file f ON f.visit_id = v.id
      WHERE v.share_id = $1 AND ($4::uuid[] IS NULL OR f.node_id = ANY($4))
      GROUP BY f.node_id HAVING count(*) >= $2 AND NOT coalesce(bool_or(v.id = $3::uuid), false)`,
    [shareId, fileLimit, visitId, among],
  );
  return new Set(rows.map((r) => r.id));
}

/** @returns those that a visit fetched for the first time, as "visit file" */
export async function noteFiles(
  m: EntityManager,
  taken: { visitId: string; nodeId: string }[],
  at: Date,
): Promise<Set<string>> {
  if (taken.length === 0) return new Set();
  const rows = await m.query<{ visit_id: string; node_id: string }[]>(
    // In one order, so that two processes that note the same cannot wait for each other.
    `INSERT INTO visit_file (visit_id, node_id, first_at)
     SELECT * FROM unnest($1::uuid[], $2::uuid[]) AS t (visit_id, node_id) CROSS JOIN (SELECT $3::timestamptz) AS a (at)
      ORDER BY visit_id, node_id ON CONFLICT DO NOTHING RETURNING visit_id, node_id`,
    [taken.map((t) => t.visitId), taken.map((t) => t.nodeId), at],
  );
  return new Set(rows.map((r) => `${r.visit_id} ${r.node_id}`));
}

/** @returns those of these visits that have taken nothing before, in one order for all who ask */
export async function beginTaking(m: EntityManager, visitIds: string[], at: Date): Promise<string[]> {
  if (visitIds.length === 0) return [];
  const [rows] = (await m.query(
    `UPDATE visit v SET taken_at = $2
       FROM (SELECT id FROM visit WHERE id = ANY($1) AND taken_at IS NULL ORDER BY id FOR NO KEY UPDATE) first
      WHERE v.id = first.id RETURNING v.id`,
    [visitIds, at],
  )) as [{ id: string }[], number];
  return rows.map((r) => r.id);
}

/** @returns true the first time that a visit takes everything as one archive */
export async function noteArchive(m: EntityManager, visitId: string, at: Date): Promise<boolean> {
  const [, count] = (await m.query('UPDATE visit SET archive_at = $2 WHERE id = $1 AND archive_at IS NULL', [
    visitId,
    at,
  ])) as [unknown, number];
  return count > 0;
}

/**
 * Where a folder lies, as a share sees it: within its items, beside one of them, or elsewhere; and how the items
 * themselves are now, so that what happens beside them can be told from what happens to them.
 */
export async function folderOfShare(
  m: EntityManager,
  shareId: string,
  folderId: string,
): Promise<{ within: boolean; beside: boolean; items: string }> {
  const [row] = await m.query<{ within: boolean; beside: boolean; items: string }[]>(
    `WITH RECURSIVE up AS (
       SELECT id, parent_id FROM node WHERE id = $2 UNION ALL SELECT n.id, n.parent_id FROM ${stepUp()}
     ), item AS (SELECT n.* FROM share_item i JOIN node n ON n.id = i.node_id WHERE i.share_id = $1)
     SELECT EXISTS (SELECT 1 FROM item WHERE id IN (SELECT id FROM up)) AS within,
       EXISTS (SELECT 1 FROM item WHERE parent_id = $2) AS beside,
            (SELECT string_agg(concat_ws('/', id, name, version_id, parent_id, trashed_at), ' ' ORDER BY id)
              FROM item) AS items`,
    [shareId, folderId],
  );
  return row ?? { within: false, beside: false, items: '' };
}

/** Files that are on their way into folders of a share that are served as they are, and how much of each has come. */
export function arrivingIn(
  m: EntityManager,
  share: { id: string; createdBy: string },
  since: Date,
  limit: number,
): Promise<ArrivingFile[]> {
  return m.query(
    `SELECT u.name, u.size_bytes::float8 AS "sizeBytes", u.offset_bytes::float8 AS "arrivedBytes" FROM upload u
      WHERE u.answer IS NULL AND u.touched_at > $2
        AND (${bitsIn('u.folder_id', '$3')} & ${actBits(['publish'])}) <> 0
        AND EXISTS (
          WITH RECURSIVE up AS (
            SELECT c.id, c.parent_id, c.trashed_at FROM node c WHERE c.id = u.folder_id
            UNION ALL SELECT n.id, n.parent_id, n.trashed_at FROM ${stepUp()} WHERE up.trashed_at IS NULL
          ) SELECT 1 FROM up JOIN share_item i ON i.node_id = up.id
             WHERE i.share_id = $1 AND i.frozen_at IS NULL AND up.trashed_at IS NULL)
      ORDER BY u.created_at LIMIT $4`,
    [share.id, since, share.createdBy, limit],
  );
}

/** Visits of a share that last end now. */
export async function endVisits(tx: EntityManager, shareId: string, at: Date): Promise<void> {
  // In one order, as whoever notes what they take.
  await tx.query(
    `UPDATE visit v SET ended_at = $2
       FROM (SELECT id FROM visit WHERE share_id = $1 AND ended_at IS NULL ORDER BY id FOR NO KEY UPDATE) going
      WHERE v.id = going.id`,
    [shareId, at],
  );
}

/** Where the codes of each kind are kept. */
const CODES_IN = {
  share: { codes: 'share_code', id: 'share_id' },
  intake: { codes: 'intake_code', id: 'intake_id' },
} as const;

/** Keeps a code that was sent. */
export async function keepCode(
  tx: EntityManager,
  of: HasAudience,
  code: { ticketHash: Buffer; mac: Buffer; expiresAt: Date },
): Promise<void> {
  const { codes, id } = CODES_IN[of.kind];
  await tx.query(`INSERT INTO ${codes} (ticket_hash, ${id}, code_mac, expires_at) VALUES ($1, $2, $3, $4)`, [
    ...[code.ticketHash, of.id, code.mac, code.expiresAt],
  ]);
}

/** Counts a try at a code, before it is compared. @returns null: there is none, it is over, or there are no tries left */
export async function takeCodeTry(
  m: EntityManager,
  of: HasAudience,
  { ticketHash, now, most }: { ticketHash: Buffer; now: Date; most: number },
): Promise<{ mac: Buffer; tries: number } | null> {
  const { codes, id } = CODES_IN[of.kind];
  const [rows] = (await m.query(
    `UPDATE ${codes} SET tries = tries + 1 WHERE ticket_hash = $1 AND ${id} = $2 AND expires_at > $3 AND tries < $4
      RETURNING code_mac AS mac, tries`,
    [ticketHash, of.id, now, most],
  )) as [{ mac: Buffer; tries: number }[], number];
  return rows[0] ?? null;
}

/** Uses a code up. @returns false: it was used meanwhile */
export async function dropCode(tx: EntityManager, { kind }: HasAudience, ticketHash: Buffer): Promise<boolean> {
  const { codes } = CODES_IN[kind];
  const [, dropped] = (await tx.query(`DELETE FROM ${codes} WHERE ticket_hash = $1`, [ticketHash])) as [
    unknown,
    number,
  ];
  return dropped > 0;
}

/** Codes that are over go. */
export async function forgetCodes(m: EntityManager, now: Date): Promise<void> {
  for (const { codes } of Object.values(CODES_IN)) await m.query(`DELETE FROM ${codes} WHERE expires_at <= $1`, [now]);
}

export async function sessionLasts(m: EntityManager, tokenHash: Buffer, now: Date): Promise<boolean> {
  const rows = await m.query<unknown[]>('SELECT 1 FROM session WHERE token_hash = $1 AND expires_at > $2', [
    tokenHash,
    now,
  ]);
  return rows.length > 0;
}
