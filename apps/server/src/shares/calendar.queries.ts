import type { EntityManager } from 'typeorm';

/** The private address of somebody's calendar; null: there is none. */
export async function calendarOf(m: EntityManager, personId: string): Promise<Buffer | null> {
  const [row] = await m.query<{ tokenSealed: Buffer }[]>(
    'SELECT token_sealed AS "tokenSealed" FROM calendar_link WHERE person_id = $1',
    [personId],
  );
  return row?.tokenSealed ?? null;
}

/** Whose calendar an address stands for, while they may use the server; null: nobody's. */
export async function ownerOfCalendar(m: EntityManager, tokenHash: Buffer, at: Date): Promise<string | null> {
  const [row] = await m.query<{ id: string }[]>(
    `SELECT p.id FROM calendar_link c JOIN person p ON p.id = c.person_id
      WHERE c.token_hash = $1 AND p.disabled_at IS NULL AND (p.ends_at IS NULL OR p.ends_at > $2)`,
    [tokenHash, at],
  );
  return row?.id ?? null;
}

/** The address before it is void. */
export async function setCalendar(
  tx: EntityManager,
  personId: string,
  { tokenHash, tokenSealed, at }: { tokenHash: Buffer; tokenSealed: Buffer; at: Date },
): Promise<void> {
  await tx.query(
    `INSERT INTO calendar_link (person_id, token_hash, token_sealed, made_at) VALUES ($1, $2, $3, $4)
     ON CONFLICT (person_id) DO UPDATE SET token_hash = $2, token_sealed = $3, made_at = $4`,
    [personId, tokenHash, tokenSealed, at],
  );
}

export async function dropCalendar(tx: EntityManager, personId: string): Promise<void> {
  await tx.query('DELETE FROM calendar_link WHERE person_id = $1', [personId]);
}

/** The newest shares of somebody that are not withdrawn, and were not over before a moment. */
export async function sharesInCalendar(
  m: EntityManager,
  personId: string,
  since: Date,
  limit: number,
): Promise<string[]> {
  const rows = await m.query<{ id: string }[]>(
    `SELECT id FROM share WHERE created_by = $1 AND withdrawn_at IS NULL AND (closes_at IS NULL OR closes_at > $2)
      ORDER BY created_at DESC, id DESC LIMIT $3`,
    [personId, since, limit],
  );
  return rows.map((r) => r.id);
}
