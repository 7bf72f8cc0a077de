import { initialsOf, signInNameFor, type Duty, type Role } from '@quay/core';
import type { EntityManager } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';
import { dropLinksOf } from './password-links.queries.js';

export interface NewPerson {
  name: string;
  signInName: string;
  email: string;
  initials: string;
  role: Role;
  passwordHash: string;
  /** Until they have set a password of their own. */
  invitedAt?: Date;
  /** Of a guest. */
  sponsorId?: string;
  endsAt?: Date | null;
  quietDays?: number | null;
}

/** Gives somebody an account, with the duties that its kind begins with. @returns its id */
export async function addPerson(tx: EntityManager, person: NewPerson, at: Date): Promise<string> {
  const id = uuidv7();
  await tx.query(
    `INSERT INTO person (id, sign_in_name, email, name, initials, role, password_hash, created_at, invited_at,
                         sponsor_id, ends_at, quiet_days)
      VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12)`,
    [
      ...[id, person.signInName, person.email, person.name, person.initials, person.role, person.passwordHash, at],
      ...[person.invitedAt ?? null, person.sponsorId ?? null, person.endsAt ?? null, person.quietDays ?? null],
    ],
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
  /** They have set no password of their own yet. */
  invited: boolean;
  sessions: number;
  /** Whether they have a second factor. */
  factor: boolean;
}

const ACCOUNTS = `SELECT p.id, p.sign_in_name AS "signInName", p.name, p.email, p.role, p.disabled_at IS NOT NULL AS left,
  p.invited_at IS NOT NULL AS invited,
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
  await tx.query(`UPDATE person SET role = 'admin', duties = $2, duty_set_id = NULL WHERE id = $1`, [personId, duties]);
}

export async function setName(tx: EntityManager, personId: string, name: string): Promise<void> {
  await tx.query('UPDATE person SET name = $2, initials = $3 WHERE id = $1', [personId, name, initialsOf(name)]);
}

/** A password of their own: links by which they would set one, and one that they were given, are over. */
export async function setPassword(tx: EntityManager, personId: string, passwordHash: string): Promise<void> {
  await dropLinksOf(tx, personId);
  await tx.query('UPDATE person SET password_hash = $2, invited_at = NULL, given_until = NULL WHERE id = $1', [
    personId,
    passwordHash,
  ]);
}

/** A password that somebody else made for them, with which they choose their own until then. */
export async function givePassword(
  tx: EntityManager,
  personId: string,
  { passwordHash, until }: { passwordHash: string; until: Date },
): Promise<void> {
  await dropLinksOf(tx, personId);
  await tx.query('UPDATE person SET password_hash = $2, given_until = $3 WHERE id = $1', [
    personId,
    passwordHash,
    until,
  ]);
}

/** Codes are asked for in every browser again. */
export async function forgetBrowsersOf(tx: EntityManager, personId: string): Promise<void> {
  await tx.query('DELETE FROM factor_browser WHERE person_id = $1', [personId]);
}

/** @returns how many there were */
export async function endSessionsOf(tx: EntityManager, personId: string): Promise<number> {
  await forgetBrowsersOf(tx, personId);
  const [, ended] = (await tx.query('DELETE FROM session WHERE person_id = $1', [personId])) as [unknown, number];
  return ended;
}

/** Since when an account that `p` is has been of its kind, and could be used. */
export const ACCOUNT_SINCE = `coalesce((SELECT t.since FROM person_past t WHERE t.person_id = p.id AND t.until IS NULL), p.created_at)`;

/** @returns the moment, in milliseconds */
export async function accountSince(m: EntityManager, personId: string): Promise<number> {
  const [row] = await m.query<{ at: Date }[]>(`SELECT ${ACCOUNT_SINCE} AS at FROM person p WHERE p.id = $1`, [
    personId,
  ]);
  return row?.at.getTime() ?? 0;
}

/** Where somebody gets mail; null: nowhere that is known. */
export async function mailAddressOf(m: EntityManager, personId: string): Promise<string | null> {
  const [row] = await m.query<{ email: string | null }[]>('SELECT email FROM person WHERE id = $1', [personId]);
  return row?.email || null;
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
    `SELECT s.id, s.person_id AS "personId", s.from_address AS "fromAddress", f.person_id IS NOT NULL OR s.by_passkey AS factor
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
        AND NOT EXISTS (SELECT 1 FROM second_factor f WHERE f.person_id = p.id AND f.since IS NOT NULL)
        AND NOT EXISTS (SELECT 1 FROM passkey k WHERE k.person_id = p.id)`,
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

/** An account with everything that those see who look after people. */
export interface AccountRecord {
  id: string;
  name: string;
  signInName: string;
  email: string;
  role: Role;
  duties: Duty[];
  dutySetId: string | null;
  dutySetName: string | null;
  createdAt: Date;
  disabledAt: Date | null;
  invitedAt: Date | null;
  seenAt: Date | null;
  factor: boolean;
  sponsorId: string | null;
  sponsorName: string | null;
  endsAt: Date | null;
  quietDays: number | null;
}

/** These accounts, or every one there ever was, by name. */
export function accountRecords(m: EntityManager, ids: string[] | null): Promise<AccountRecord[]> {
  return m.query(
    `SELECT p.id, p.name, p.sign_in_name AS "signInName", p.email, p.role, p.duties, p.created_at AS "createdAt",
            p.duty_set_id AS "dutySetId", d.name AS "dutySetName",
            p.disabled_at AS "disabledAt", p.invited_at AS "invitedAt", p.seen_at AS "seenAt",
            f.person_id IS NOT NULL OR EXISTS (SELECT 1 FROM passkey k WHERE k.person_id = p.id) AS factor, p.sponsor_id AS "sponsorId", s.name AS "sponsorName",
            p.ends_at AS "endsAt", p.quiet_days AS "quietDays"
       FROM person p LEFT JOIN second_factor f ON f.person_id = p.id AND f.since IS NOT NULL
       LEFT JOIN person s ON s.id = p.sponsor_id LEFT JOIN duty_set d ON d.id = p.duty_set_id
      WHERE $1::uuid[] IS NULL OR p.id = ANY($1) ORDER BY p.name, p.id`,
    [ids],
  );
}

/** One account, held until the transaction ends. */
export async function heldAccount(tx: EntityManager, id: string): Promise<AccountRecord | null> {
  const held = await tx.query<unknown[]>('SELECT 1 FROM person WHERE id = $1 FOR UPDATE', [id]);
  return held.length === 0 ? null : ((await accountRecords(tx, [id]))[0] ?? null);
}

/** Whether somebody signs in by that name. */
export async function isNameTaken(m: EntityManager, signInName: string, butFor: string | null): Promise<boolean> {
  const rows = await m.query<unknown[]>('SELECT 1 FROM person WHERE sign_in_name = $1 AND id IS DISTINCT FROM $2', [
    signInName,
    butFor,
  ]);
  return rows.length > 0;
}

/** A name to sign in by that nobody has yet, made of somebody's own. */
export async function freeSignInName(tx: EntityManager, name: string): Promise<string> {
  const wish = signInNameFor(name) || 'guest';
  for (let n = 1; ; n += 1) {
    const tried = n === 1 ? wish : `${wish.slice(0, 34)}${n}`;
    if (!(await isNameTaken(tx, tried, null))) return tried;
  }
}

/** Who can be reached at a mail address and has an account that can be used, or had one. */
export function accountsAt(m: EntityManager, email: string): Promise<{ id: string; name: string; left: boolean }[]> {
  return m.query(
    `SELECT id, name, disabled_at IS NOT NULL AS left FROM person WHERE lower(email) = lower($1) ORDER BY disabled_at NULLS FIRST`,
    [email],
  );
}

/** What can be changed of an account, apart from whether it can be used. */
export interface AccountChange {
  name: string;
  initials: string;
  signInName: string;
  email: string;
  role: Role;
  duties: readonly Duty[];
  dutySetId: string | null;
  sponsorId: string | null;
  endsAt: Date | null;
  quietDays: number | null;
}

/** Asked with the access lock held alone. */
export async function changeAccount(tx: EntityManager, id: string, to: AccountChange): Promise<void> {
  await tx.query(
    `UPDATE person SET name = $2, initials = $3, sign_in_name = $4, email = $5, role = $6, duties = $7, sponsor_id = $8,
            ends_at = $9, quiet_days = $10, duty_set_id = $11, end_told = CASE WHEN ends_at IS DISTINCT FROM $9 THEN NULL ELSE end_told END
      WHERE id = $1`,
    [
      ...[id, to.name, to.initials, to.signInName, to.email, to.role, to.duties],
      ...[to.sponsorId, to.endsAt, to.quietDays, to.dutySetId],
    ],
  );
}

/** From now on nobody signs in by it; asked with the access lock held alone. @param at null: it can be used again */
export async function setDisabled(tx: EntityManager, id: string, at: Date | null): Promise<void> {
  await tx.query('UPDATE person SET disabled_at = $2 WHERE id = $1', [id, at]);
}

/** Everybody's duties, as far as they matter to who could run the server. */
export function dutiesOfAll(m: EntityManager): Promise<{ personId: string; usable: boolean; duties: Duty[] }[]> {
  return m.query('SELECT id AS "personId", disabled_at IS NULL AS usable, duties FROM person');
}

/** When the account of a guest `p` ends because it is not used; enabled again, it begins anew. */
const QUIET_END = `greatest(p.seen_at, (SELECT t.since FROM person_past t WHERE t.person_id = p.id AND t.until IS NULL))
  + make_interval(days => p.quiet_days)`;

/** Guests whose account ends by itself now: their day has come, or they were not here for as long as was said. */
export function guestsEnding(m: EntityManager, now: Date): Promise<{ id: string; name: string }[]> {
  return m.query(
    `SELECT p.id, p.name FROM person p WHERE p.role = 'guest' AND p.disabled_at IS NULL
        AND (p.ends_at <= $1 OR ${QUIET_END} <= $1)`,
    [now],
  );
}

/** Guests who end before a moment and were not told of that end yet. */
export function guestsToWarn(
  m: EntityManager,
  now: Date,
  before: Date,
): Promise<{ id: string; name: string; email: string; sponsorEmail: string | null; endsAt: Date }[]> {
  return m.query(
    `SELECT p.id, p.name, p.email, s.email AS "sponsorEmail", e.at AS "endsAt"
       FROM person p LEFT JOIN person s ON s.id = p.sponsor_id AND s.disabled_at IS NULL
       CROSS JOIN LATERAL (
         SELECT least(p.ends_at, ${QUIET_END}) AS at) e
      WHERE p.role = 'guest' AND p.disabled_at IS NULL AND e.at > $1 AND e.at <= $2
        AND (p.end_told IS NULL OR p.end_told < e.at - interval '1 day')`,
    [now, before],
  );
}

export async function guestWarned(tx: EntityManager, id: string, endsAt: Date): Promise<void> {
  await tx.query('UPDATE person SET end_told = $2 WHERE id = $1', [id, endsAt]);
}

/** The guests that somebody answers for, who have an account still. */
export function guestsOf(m: EntityManager, sponsorId: string): Promise<{ id: string; name: string }[]> {
  return m.query('SELECT id, name FROM person WHERE sponsor_id = $1 AND disabled_at IS NULL ORDER BY name', [
    sponsorId,
  ]);
}

/** @param sponsorId null: nobody answers for them */
export async function setSponsor(tx: EntityManager, guestIds: string[], sponsorId: string | null): Promise<void> {
  await tx.query(`UPDATE person SET sponsor_id = $2 WHERE id = ANY($1) AND role = 'guest'`, [guestIds, sponsorId]);
}

/** Has a visitor be somebody who can do something: a row of `actor`, as accounts have by themselves. */
export async function knowVisitor(m: EntityManager, id: string, name: string): Promise<void> {
  await m.query(`INSERT INTO actor (id, kind, name) VALUES ($1, 'visitor', $2) ON CONFLICT (id) DO NOTHING`, [
    id,
    name,
  ]);
}
