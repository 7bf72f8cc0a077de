import type { RefusalReason } from '@quay/core';
import type { EntityManager } from 'typeorm';

/** Sources that are told apart at one share in one hour; the others are counted together. */
const MOST_SOURCES = 200;

export interface Refusal {
  shareId: string;
  reason: RefusalReason;
  source: string;
  from: string;
  /** The beginning of the hour. */
  hour: Date;
  at: Date;
}

export async function noteRefusal(
  m: EntityManager,
  { shareId, reason, source, from, hour, at }: Refusal,
): Promise<void> {
  await m.query(
    `INSERT INTO share_refusal AS r (share_id, reason, source, from_address, hour, count, last_at)
     SELECT $1, $2, s.source, CASE WHEN s.source = '' THEN NULL ELSE $4 END, $5, 1, $6
       FROM (SELECT CASE WHEN (SELECT count(*) FROM share_refusal WHERE share_id = $1 AND hour = $5 AND source <> $3) < ${MOST_SOURCES}
                         THEN $3::text ELSE '' END AS source) s
     ON CONFLICT (share_id, hour, reason, source) DO UPDATE
        SET count = r.count + 1, last_at = $6, from_address = EXCLUDED.from_address`,
    [shareId, reason, source, from, hour, at],
  );
}

export interface RefusalToTell {
  shareId: string;
  title: string;
  publisherId: string;
  reason: RefusalReason;
  source: string;
  /** Null: of many sources. */
  from: string | null;
  hour: Date;
  count: number;
}

/** What is not in the ledger yet of hours that were over then. */
export function refusalsToTell(tx: EntityManager, before: Date, limit: number): Promise<RefusalToTell[]> {
  return tx.query(
    `SELECT r.share_id AS "shareId", s.title, s.created_by AS "publisherId", r.reason, r.source, r.from_address AS "from", r.hour, r.count
       FROM share_refusal r JOIN share s ON s.id = r.share_id
      WHERE r.told_at IS NULL AND r.hour < $1 ORDER BY r.hour, r.share_id, r.reason, r.source LIMIT $2
        FOR UPDATE OF r SKIP LOCKED`,
    [before, limit],
  );
}

export async function markTold(tx: EntityManager, rows: readonly RefusalToTell[], at: Date): Promise<void> {
  await tx.query(
    `UPDATE share_refusal r SET told_at = $5
       FROM unnest($1::uuid[], $2::timestamptz[], $3::text[], $4::text[]) AS t (share_id, hour, reason, source)
      WHERE r.share_id = t.share_id AND r.hour = t.hour AND r.reason = t.reason AND r.source = t.source`,
    [rows.map((r) => r.shareId), rows.map((r) => r.hour), rows.map((r) => r.reason), rows.map((r) => r.source), at],
  );
}

export async function forgetRefusals(m: EntityManager, before: Date): Promise<void> {
  await m.query('DELETE FROM share_refusal WHERE told_at IS NOT NULL AND hour < $1', [before]);
}
