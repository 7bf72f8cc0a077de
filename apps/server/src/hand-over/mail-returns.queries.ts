import type { MailReturns } from '@quay/contract';
import type { EntityManager } from 'typeorm';
import { seal, unseal } from '../platform/seal.js';

/** The mailbox that mail comes back to, and how far it is read. */
export interface Mailbox extends MailReturns {
  password: string;
  /** Numbers of messages hold for one of these (RFC 9051, 2.3.1.1); null: nothing is read yet. */
  uidValidity: bigint | null;
  lastUid: number;
  changedAt: Date;
}

export async function loadMailbox(m: EntityManager, key: Buffer): Promise<Mailbox | null> {
  const [row] = await m.query<
    (Omit<Mailbox, 'password' | 'uidValidity'> & { sealed: Buffer; validity: string | null })[]
  >(
    `SELECT host, port, encryption, user_name AS user, folder, password_sealed AS sealed,
            uid_validity AS validity, last_uid::float8 AS "lastUid", changed_at AS "changedAt" FROM mail_returns`,
  );
  if (!row) return null;
  const { sealed, validity, ...mailbox } = row;
  return { ...mailbox, password: unseal(key, sealed), uidValidity: validity === null ? null : BigInt(validity) };
}

/** What is told of it: never its password. */
export async function shownMailbox(
  m: EntityManager,
): Promise<(MailReturns & { lookedAt: Date | null; fault: string | null }) | null> {
  const [row] = await m.query<(MailReturns & { lookedAt: Date | null; fault: string | null })[]>(
    `SELECT host, port, encryption, user_name AS user, folder, looked_at AS "lookedAt", fault FROM mail_returns`,
  );
  return row ?? null;
}

/** Another mailbox is read from what comes from now on. */
export async function keepMailbox(
  tx: EntityManager,
  key: Buffer,
  { host, port, encryption, user, folder, password }: MailReturns & { password: string },
  at: Date,
): Promise<void> {
  await tx.query('DELETE FROM mail_returns');
  await tx.query(
    `INSERT INTO mail_returns (host, port, encryption, user_name, password_sealed, folder, changed_at)
      VALUES ($1, $2, $3, $4, $5, $6, $7)`,
    [host, port, encryption, user, seal(key, password), folder, at],
  );
}

/** @returns whether there was one */
export async function forgetMailbox(tx: EntityManager): Promise<boolean> {
  const [, removed] = (await tx.query('DELETE FROM mail_returns')) as [unknown, number];
  return removed > 0;
}

/** How far it is read now; not of one that is another meanwhile. */
export async function noteRead(
  m: EntityManager,
  { changedAt, uidValidity, lastUid }: Pick<Mailbox, 'changedAt' | 'uidValidity' | 'lastUid'>,
): Promise<void> {
  await m.query('UPDATE mail_returns SET uid_validity = $2, last_uid = $3 WHERE changed_at = $1', [
    ...[changedAt, uidValidity?.toString() ?? null, lastUid],
  ]);
}

export async function noteLook(m: EntityManager, changedAt: Date, at: Date, fault: string | null): Promise<void> {
  await m.query('UPDATE mail_returns SET looked_at = $2, fault = $3 WHERE changed_at = $1', [changedAt, at, fault]);
}
