import type { AccessLevel } from '@quay/core';
import { randomUUID } from 'node:crypto';
import type { DataSource } from 'typeorm';

/** From before anything that a test's clock can show. */
const EVER = new Date(0);

/** Grants a person (null: all staff) a level on a folder. */
export async function grantOn(
  db: DataSource,
  folderId: string,
  personId: string | null,
  level: AccessLevel,
): Promise<void> {
  await db.query(
    `INSERT INTO access_grant (id, node_id, subject_kind, person_id, level, since) VALUES ($1, $2, $3, $4, $5, $6)`,
    [randomUUID(), folderId, personId === null ? 'staff' : 'person', personId, level, EVER],
  );
}

/** Ends what is granted on a folder, and grants the same people another level there. @returns how many grants ended */
export async function regrant(db: DataSource, folderId: string, level: AccessLevel): Promise<number> {
  const [ended] = await db.query<[{ person_id: string | null }[], number]>(
    'UPDATE access_grant SET ended_at = $2 WHERE node_id = $1 AND ended_at IS NULL RETURNING person_id',
    [folderId, EVER],
  );
  for (const { person_id } of ended) await grantOn(db, folderId, person_id, level);
  return ended.length;
}
