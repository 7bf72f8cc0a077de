import { markKind } from '@quay/core';
import type { EntityManager } from 'typeorm';

// Copies that are marked for a visit. They are blobs like any other, and go when their visit is over.

/** A marked copy of some bytes; null instead of one: they cannot be marked. */
export interface Copy {
  sha256: Buffer;
  sizeBytes: number;
  crc32: number;
}

/** What the copy of a whole file is: the same bytes under an ending of another kind are marked in another way. */
export const wholeOf = (name: string): string => `whole ${markKind(name) ?? 'other'}`;

export const copyKey = (what: string, hex: string): string => `${what} ${hex}`;

/** What there is for a visit, by what it is and the bytes (hexadecimal) that it was made of: {@link copyKey}. */
export async function copiesFor(
  m: EntityManager,
  visitId: string,
  what: readonly string[],
  of: readonly Buffer[],
): Promise<Map<string, Copy | null>> {
  const rows = await m.query<
    { hex: string; what: string; sha256: Buffer | null; size: number | null; crc: number | null }[]
  >(
    `SELECT encode(c.sha256, 'hex') AS hex, c.what, c.copy_sha256 AS sha256, b.size_bytes::float8 AS size, b.crc32::float8 AS crc
       FROM marked_copy c LEFT JOIN blob b ON b.sha256 = c.copy_sha256
      WHERE c.visit_id = $1 AND c.what = ANY($2) AND c.sha256 = ANY($3)`,
    [visitId, what, of],
  );
  return new Map(
    rows.map((r) => [
      copyKey(r.what, r.hex),
      r.sha256 && { sha256: r.sha256, sizeBytes: r.size ?? 0, crc32: r.crc ?? 0 },
    ]),
  );
}

/** @param copy null: it cannot be marked */
export async function keepCopy(
  tx: EntityManager,
  { visitId, sha256, what }: { visitId: string; sha256: Buffer; what: string },
  copy: Buffer | null,
  at: Date,
): Promise<void> {
  await tx.query(
    `INSERT INTO marked_copy (visit_id, sha256, what, copy_sha256, made_at) VALUES ($1, $2, $3, $4, $5)
     ON CONFLICT (visit_id, sha256, what) DO UPDATE SET copy_sha256 = excluded.copy_sha256, made_at = excluded.made_at`,
    [visitId, sha256, what, copy, at],
  );
}

/** Of a share, the oldest copies go that are beyond so many bytes. */
export async function forgetBeyond(m: EntityManager, shareId: string, mostBytes: number): Promise<void> {
  await m.query(
    `DELETE FROM marked_copy c USING (
       SELECT m.visit_id, m.sha256, m.what,
              sum(b.size_bytes) OVER (ORDER BY m.made_at DESC, m.visit_id, m.sha256, m.what) AS up_to
         FROM marked_copy m JOIN visit v ON v.id = m.visit_id JOIN blob b ON b.sha256 = m.copy_sha256
        WHERE v.share_id = $1) beyond
      WHERE beyond.up_to > $2
        AND (c.visit_id, c.sha256, c.what) = (beyond.visit_id, beyond.sha256, beyond.what)`,
    [shareId, mostBytes],
  );
}

/** Copies of visits that are over, or that have lasted since before a moment. */
export async function forgetOver(m: EntityManager, began: Date): Promise<void> {
  await m.query(
    `DELETE FROM marked_copy c USING visit v WHERE v.id = c.visit_id AND (v.ended_at IS NOT NULL OR v.began_at < $1)`,
    [began],
  );
}
