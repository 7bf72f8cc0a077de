import type { BackupPlan } from '@quay/contract';
import type { DataSource, EntityManager } from 'typeorm';

/** A place to which backups go, as it is kept, with how the newest attempts ended. */
export interface PlaceRow extends BackupPlan {
  id: string;
  madeAt: Date;
  triedAt: Date | null;
  faultCode: string | null;
  faultWords: string | null;
  goodAt: Date | null;
  files: number;
  bytes: number;
  lacking: number;
  rehearsedAt: Date | null;
  rehearsalFault: string | null;
  rehearsalWords: string | null;
  readAfter: string | null;
}

const COLUMNS = `id, folder, every, at_minute AS "atMinute", weekday, keep_days AS days, keep_weeks AS weeks,
  keep_months AS months, recipients, rehearse, made_at AS "madeAt", tried_at AS "triedAt", fault_code AS "faultCode",
  fault_words AS "faultWords", good_at AS "goodAt", files::float8 AS files, bytes::float8 AS bytes, lacking,
  rehearsed_at AS "rehearsedAt", rehearsal_fault AS "rehearsalFault", rehearsal_words AS "rehearsalWords",
  read_after AS "readAfter"`;

type Reader = Pick<EntityManager | DataSource, 'query'>;

export const loadPlaces = (m: Reader): Promise<PlaceRow[]> =>
  m.query(`SELECT ${COLUMNS} FROM backup_place ORDER BY made_at, id`);

export async function loadPlace(m: Reader, id: string): Promise<PlaceRow | null> {
  const [row] = await m.query<PlaceRow[]>(`SELECT ${COLUMNS} FROM backup_place WHERE id = $1`, [id]);
  return row ?? null;
}

/** The same, held until the transaction ends. */
export async function holdPlace(tx: EntityManager, id: string): Promise<PlaceRow | null> {
  const [row] = await tx.query<PlaceRow[]>(`SELECT ${COLUMNS} FROM backup_place WHERE id = $1 FOR UPDATE`, [id]);
  return row ?? null;
}

const planValues = (plan: BackupPlan): unknown[] => [
  plan.folder,
  plan.every,
  plan.atMinute,
  plan.weekday,
  plan.days,
  plan.weeks,
  plan.months,
  plan.recipients,
  plan.rehearse,
];

export async function insertPlace(tx: EntityManager, id: string, plan: BackupPlan, at: Date): Promise<void> {
  await tx.query(
    `INSERT INTO backup_place (id, made_at, folder, every, at_minute, weekday, keep_days, keep_weeks, keep_months,
       recipients, rehearse) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11)`,
    [id, at, ...planValues(plan)],
  );
}

/** In another folder nothing has been tried yet. */
export async function updatePlace(tx: EntityManager, id: string, plan: BackupPlan, elsewhere: boolean): Promise<void> {
  await tx.query(
    `UPDATE backup_place SET folder = $2, every = $3, at_minute = $4, weekday = $5, keep_days = $6, keep_weeks = $7,
       keep_months = $8, recipients = $9, rehearse = $10 WHERE id = $1`,
    [id, ...planValues(plan)],
  );
  if (elsewhere)
    await tx.query(
      `UPDATE backup_place SET tried_at = NULL, fault_code = NULL, fault_words = NULL, good_at = NULL, stamp = NULL,
         files = 0, bytes = 0, lacking = 0, rehearsed_at = NULL, rehearsal_fault = NULL, rehearsal_words = NULL,
         read_after = NULL WHERE id = $1`,
      [id],
    );
}

export async function deletePlace(tx: EntityManager, id: string): Promise<void> {
  await tx.query('DELETE FROM backup_place WHERE id = $1', [id]);
}

export async function placeTried(m: Reader, id: string, at: Date): Promise<void> {
  await m.query('UPDATE backup_place SET tried_at = $2 WHERE id = $1', [id, at]);
}

export async function placeFailed(tx: EntityManager, id: string, code: string, words: string): Promise<void> {
  await tx.query('UPDATE backup_place SET fault_code = $2, fault_words = $3 WHERE id = $1', [id, code, words]);
}

export async function placeWorked(
  tx: EntityManager,
  id: string,
  made: { at: Date; stamp: string; files: number; bytes: number; lacking: number },
): Promise<void> {
  await tx.query(
    `UPDATE backup_place SET fault_code = NULL, fault_words = NULL, good_at = $2, stamp = $3, files = $4, bytes = $5,
       lacking = $6 WHERE id = $1`,
    [id, made.at, made.stamp, made.files, made.bytes, made.lacking],
  );
}

export async function placeRehearsed(
  tx: EntityManager,
  id: string,
  how: { at: Date; fault: string | null; words: string; after: string | null },
): Promise<void> {
  await tx.query(
    `UPDATE backup_place SET rehearsed_at = $2, rehearsal_fault = $3, rehearsal_words = $4,
       read_after = coalesce($5, read_after) WHERE id = $1`,
    [id, how.at, how.fault, how.words, how.after],
  );
}
