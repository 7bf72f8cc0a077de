import type { AccessLevel, OthersRule } from '@quay/core';
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
  { since = EVER, until = null }: { since?: Date; until?: Date | null } = {},
): Promise<void> {
  await db.query(
    `INSERT INTO access_grant (id, node_id, subject_kind, person_id, level, since, until)
      VALUES ($1, $2, $3, $4, $5, $6, $7)`,
    [randomUUID(), folderId, personId === null ? 'staff' : 'person', personId, level, since, until],
  );
}

/**
 * Ends what is granted on a folder, as if it had never been, or at a moment. @returns whom it was granted, null for all
 * staff
 */
export async function endGrants(db: DataSource, folderId: string, at = EVER): Promise<(string | null)[]> {
  const [ended] = await db.query<[{ person_id: string | null }[], number]>(
    'UPDATE access_grant SET ended_at = $2 WHERE node_id = $1 AND ended_at IS NULL RETURNING person_id',
    [folderId, at],
  );
  return ended.map((e) => e.person_id);
}

/** Ends what is granted on a folder, and grants the same people another level there. @returns how many they are */
export async function regrant(db: DataSource, folderId: string, level: AccessLevel): Promise<number> {
  const people = await endGrants(db, folderId);
  for (const personId of people) await grantOn(db, folderId, personId, level);
  return people.length;
}

/** A statement as the server would make it at the moment that the test's clock shows: what is remembered goes by it. */
async function changedAt(db: DataSource, at: Date, sql: string, values: unknown[]): Promise<void> {
  await db.transaction(async (tx) => {
    await tx.query("SELECT set_config('quay.now', $1, true)", [at.toISOString()]);
    await tx.query(sql, values);
  });
}

/** Disables an account, or lets it in again. */
export const setDisabled = (db: DataSource, at: Date, signInName: string, disabled: boolean): Promise<void> =>
  changedAt(db, at, 'UPDATE person SET disabled_at = $2 WHERE sign_in_name = $1', [signInName, disabled ? at : null]);

/** Whether a folder takes over what is granted above it. */
export const setInherits = (db: DataSource, at: Date, folderId: string, inherits: boolean): Promise<void> =>
  changedAt(db, at, 'UPDATE node SET inherits = $2 WHERE id = $1', [folderId, inherits]);

/** A folder's rule for what contributors see of others. */
export const setOthersRule = (db: DataSource, at: Date, folderId: string, rule: OthersRule): Promise<void> =>
  changedAt(db, at, 'UPDATE node SET others_rule = $2 WHERE id = $1', [folderId, rule]);
