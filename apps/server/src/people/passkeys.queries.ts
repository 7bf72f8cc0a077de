import type { EntityManager } from 'typeorm';

export interface PasskeyRecord {
  id: Buffer;
  personId: string;
  host: string;
  name: string;
  publicKey: Buffer;
  counter: number;
  transports: string[];
  addedAt: Date;
  usedAt: Date | null;
}

const PASSKEYS = `SELECT id, person_id AS "personId", host, name, public_key AS "publicKey", counter::float8 AS counter,
  transports, added_at AS "addedAt", used_at AS "usedAt" FROM passkey`;

export function passkeysOf(m: EntityManager, personId: string): Promise<PasskeyRecord[]> {
  return m.query(`${PASSKEYS} WHERE person_id = $1 ORDER BY added_at, id`, [personId]);
}

export async function passkeyById(m: EntityManager, id: Buffer): Promise<PasskeyRecord | null> {
  const [row] = await m.query<PasskeyRecord[]>(`${PASSKEYS} WHERE id = $1`, [id]);
  return row ?? null;
}

/** @returns false: somebody has it already */
export async function insertPasskey(tx: EntityManager, key: Omit<PasskeyRecord, 'usedAt'>): Promise<boolean> {
  const rows = await tx.query<unknown[]>(
    `INSERT INTO passkey (id, person_id, host, name, public_key, counter, transports, added_at)
      VALUES ($1, $2, $3, $4, $5, $6, $7, $8) ON CONFLICT (id) DO NOTHING RETURNING 1`,
    [key.id, key.personId, key.host, key.name, key.publicKey, key.counter, key.transports, key.addedAt],
  );
  return rows.length > 0;
}

/** @returns its name; null: it is not theirs, or not there */
export async function removePasskey(tx: EntityManager, id: Buffer, personId: string): Promise<string | null> {
  const [rows] = (await tx.query('DELETE FROM passkey WHERE id = $1 AND person_id = $2 RETURNING name', [
    id,
    personId,
  ])) as [{ name: string }[], number];
  return rows[0]?.name ?? null;
}

/** @returns how many there were */
export async function removePasskeysOf(tx: EntityManager, personId: string): Promise<number> {
  const [, removed] = (await tx.query('DELETE FROM passkey WHERE person_id = $1', [personId])) as [unknown, number];
  return removed;
}

/** It was used, and counts on. Devices that do not count say 0 each time. @returns false: another was faster */
export async function passkeyUsed(
  m: EntityManager,
  key: Pick<PasskeyRecord, 'id' | 'counter'>,
  counter: number,
  at: Date,
): Promise<boolean> {
  const [, changed] = (await m.query('UPDATE passkey SET counter = $3, used_at = $4 WHERE id = $1 AND counter = $2', [
    key.id,
    key.counter,
    counter,
    at,
  ])) as [unknown, number];
  return changed > 0;
}

export async function insertChallenge(
  m: EntityManager,
  c: { hash: Buffer; personId: string | null; now: Date; endsAt: Date },
): Promise<void> {
  await m.query('DELETE FROM passkey_challenge WHERE ends_at < $1', [c.now]);
  await m.query('INSERT INTO passkey_challenge (challenge_hash, person_id, ends_at) VALUES ($1, $2, $3)', [
    c.hash,
    c.personId,
    c.endsAt,
  ]);
}

/** Uses a challenge up. @returns false: it was never given out, to somebody else, is over, or was used */
export async function takeChallenge(
  m: EntityManager,
  hash: Buffer,
  personId: string | null,
  now: Date,
): Promise<boolean> {
  const [, taken] = (await m.query(
    'DELETE FROM passkey_challenge WHERE challenge_hash = $1 AND person_id IS NOT DISTINCT FROM $2 AND ends_at > $3',
    [hash, personId, now],
  )) as [unknown, number];
  return taken > 0;
}
