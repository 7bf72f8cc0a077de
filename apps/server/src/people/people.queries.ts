import type { Duty, Role } from '@quay/core';
import type { EntityManager } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';

export interface NewPerson {
  name: string;
  signInName: string;
  email: string;
  initials: string;
  role: Role;
  passwordHash: string;
}

/** Gives somebody an account, with the duties that its kind begins with. @returns its id */
export async function addPerson(tx: EntityManager, person: NewPerson, at: Date): Promise<string> {
  const id = uuidv7();
  await tx.query(
    `INSERT INTO person (id, sign_in_name, email, name, initials, role, password_hash, created_at)
      VALUES ($1, $2, $3, $4, $5, $6, $7, $8)`,
    [id, person.signInName, person.email, person.name, person.initials, person.role, person.passwordHash, at],
  );
  return id;
}

/** Sets how much somebody may bring, over all stores. @returns their name; null when there is nobody */
export async function setPersonQuota(
  tx: EntityManager,
  personId: string,
  bytes: number | null,
): Promise<string | null> {
  const [rows] = (await tx.query('UPDATE person SET quota_bytes = $2 WHERE id = $1 RETURNING name', [
    personId,
    bytes,
  ])) as [{ name: string }[], number];
  return rows[0]?.name ?? null;
}

/** An account, for whoever runs the server. */
export interface Account {
  id: string;
  signInName: string;
  name: string;
  email: string;
  role: Role;
  left: boolean;
  sessions: number;
  /** Whether they have a second factor. */
  factor: boolean;
}

const ACCOUNTS = `SELECT p.id, p.sign_in_name AS "signInName", p.name, p.email, p.role, p.disabled_at IS NOT NULL AS left,
  EXISTS (SELECT 1 FROM second_factor f WHERE f.person_id = p.id AND f.since IS NOT NULL) AS factor,
  (SELECT count(*) FROM session s WHERE s.person_id = p.id)::int AS sessions FROM person p`;

export function accounts(m: EntityManager): Promise<Account[]> {
  return m.query(`${ACCOUNTS} ORDER BY p.sign_in_name`);
}

export async function accountOf(m: EntityManager, signInName: string): Promise<Account | null> {
  const [row] = await m.query<Account[]>(`${ACCOUNTS} WHERE p.sign_in_name = $1`, [signInName]);
  return row ?? null;
}

/** Asked with the access lock held alone. */
export async function makeAdmin(tx: EntityManager, personId: string, duties: readonly Duty[]): Promise<void> {
  await tx.query(`UPDATE person SET role = 'admin', duties = $2 WHERE id = $1`, [personId, duties]);
}

export async function setPassword(tx: EntityManager, personId: string, passwordHash: string): Promise<void> {
  await tx.query('UPDATE person SET password_hash = $2 WHERE id = $1', [personId, passwordHash]);
}

/** @returns how many there were */
export async function endSessionsOf(tx: EntityManager, personId: string): Promise<number> {
  const [, ended] = (await tx.query('DELETE FROM session WHERE person_id = $1', [personId])) as [unknown, number];
  return ended;
}

/** Whom to tell what concerns the running of the server. */
export function thoseWhoRunIt(m: EntityManager): Promise<{ id: string; name: string; email: string }[]> {
  return m.query(
    `SELECT id, name, email FROM person WHERE disabled_at IS NULL AND 'run-server' = ANY(duties) ORDER BY sign_in_name`,
  );
}

/** Whose sessions, and how many, were last used before a moment. */
export async function sessionsUnusedSince(m: EntityManager, at: Date): Promise<{ sessions: number; people: number }> {
  const [row] = await m.query<{ sessions: number; people: number }[]>(
    'SELECT count(*)::int AS sessions, count(DISTINCT person_id)::int AS people FROM session WHERE seen_at <= $1',
    [at],
  );
  return row as { sessions: number; people: number };
}

/** A session that has not ended. */
export interface BegunSession {
  id: string;
  personId: string;
  fromAddress: string;
  /** Whether whoever holds it has a second factor. */
  factor: boolean;
}

export function sessionsBegun(m: EntityManager, now: Date): Promise<BegunSession[]> {
  return m.query(
    `SELECT s.id, s.person_id AS "personId", s.from_address AS "fromAddress", f.person_id IS NOT NULL AS factor
       FROM session s LEFT JOIN second_factor f ON f.person_id = s.person_id AND f.since IS NOT NULL
      WHERE s.expires_at > $1`,
    [now],
  );
}

export async function endSessions(tx: EntityManager, ids: string[]): Promise<void> {
  await tx.query('DELETE FROM session WHERE id = ANY($1)', [ids]);
}

/** Everybody who may sign in and has no second factor. */
export function peopleWithoutFactor(m: EntityManager): Promise<{ role: Role }[]> {
  return m.query(
    `SELECT p.role FROM person p WHERE p.disabled_at IS NULL
        AND NOT EXISTS (SELECT 1 FROM second_factor f WHERE f.person_id = p.id AND f.since IS NOT NULL)`,
  );
}

/** From here on a session lasts so many days after it was last used. @returns whose have ended by that */
export async function sessionsLast(tx: EntityManager, days: number, now: Date): Promise<string[]> {
  await tx.query('UPDATE session SET expires_at = seen_at + make_interval(days => $1)', [days]);
  const [ended] = (await tx.query('DELETE FROM session WHERE expires_at <= $1 RETURNING person_id AS id', [now])) as [
    { id: string }[],
    number,
  ];
  return [...new Set(ended.map(({ id }) => id))];
}
