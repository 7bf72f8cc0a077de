import type { ProviderCandidate } from '@quay/core';
import type { ProviderSettings } from '@quay/contract';
import type { EntityManager } from 'typeorm';
import { seal, secretHash, unseal } from '../platform/seal.js';

export type ProviderWay = ProviderSettings & { clientSecret: string };

/** How the provider is asked, with its secret; null while there is none. */
export async function loadProvider(m: EntityManager, key: Buffer): Promise<ProviderWay | null> {
  const [row] = await m.query<{ settings: ProviderSettings; sealed: Buffer }[]>(
    'SELECT settings, secret_sealed AS sealed FROM identity_provider',
  );
  return row ? { ...row.settings, clientSecret: unseal(key, row.sealed) } : null;
}

export async function keepProvider(
  tx: EntityManager,
  key: Buffer,
  { way: { clientSecret, ...settings }, at }: { way: ProviderWay; at: Date },
): Promise<void> {
  await tx.query(
    `INSERT INTO identity_provider (settings, secret_sealed, changed_at) VALUES ($1, $2, $3)
      ON CONFLICT (id) DO UPDATE SET settings = $1, secret_sealed = $2, changed_at = $3`,
    [JSON.stringify(settings), seal(key, clientSecret), at],
  );
}

/** @returns whether there was one. Whom it knew is forgotten with it */
export async function forgetProvider(tx: EntityManager): Promise<boolean> {
  const [, removed] = (await tx.query('DELETE FROM identity_provider')) as [unknown, number];
  await tx.query('DELETE FROM provider_identity');
  await tx.query('DELETE FROM provider_sign_in');
  return removed > 0;
}

export async function countIdentities(m: EntityManager): Promise<number> {
  const [row] = await m.query<{ count: number }[]>('SELECT count(*)::int AS count FROM provider_identity');
  return row?.count ?? 0;
}

export async function personOfSubject(m: EntityManager, issuer: string, subject: string): Promise<string | null> {
  const [row] = await m.query<{ id: string }[]>(
    'SELECT person_id AS id FROM provider_identity WHERE issuer = $1 AND subject = $2',
    [issuer, subject],
  );
  return row?.id ?? null;
}

/** The accounts at a mail address, those that were disabled too. */
export function candidatesAt(m: EntityManager, email: string): Promise<ProviderCandidate[]> {
  return m.query(
    `SELECT p.id, p.role, p.disabled_at IS NULL AS usable,
            EXISTS (SELECT 1 FROM provider_identity i WHERE i.person_id = p.id)
              OR EXISTS (SELECT 1 FROM directory_entry e WHERE e.person_id = p.id) AS taken
       FROM person p WHERE lower(p.email) = lower($1)`,
    [email],
  );
}

/** @returns false: somebody else came first */
export async function keepIdentity(
  tx: EntityManager,
  of: { issuer: string; subject: string; personId: string; at: Date },
): Promise<boolean> {
  const rows = await tx.query<unknown[]>(
    `INSERT INTO provider_identity (issuer, subject, person_id, since) VALUES ($1, $2, $3, $4)
      ON CONFLICT DO NOTHING RETURNING 1`,
    [of.issuer, of.subject, of.personId, of.at],
  );
  return rows.length > 0;
}

/** Somebody who goes to the provider. */
export interface Going {
  nonce: string;
  verifier: string;
  back: string;
  personId: string | null;
}

export async function keepGoing(
  tx: EntityManager,
  key: Buffer,
  { state, going, now, endsAt }: { state: string; going: Going; now: Date; endsAt: Date },
): Promise<void> {
  await tx.query('DELETE FROM provider_sign_in WHERE ends_at <= $1', [now]);
  await tx.query(
    `INSERT INTO provider_sign_in (state_hash, nonce, verifier_sealed, back, person_id, ends_at)
      VALUES ($1, $2, $3, $4, $5, $6)`,
    [secretHash(state), going.nonce, seal(key, going.verifier), going.back, going.personId, endsAt],
  );
}

/** Takes it up, once. @returns null: it never was, is over, or was taken up */
export async function takeGoing(tx: EntityManager, key: Buffer, state: string, now: Date): Promise<Going | null> {
  await tx.query('DELETE FROM provider_sign_in WHERE ends_at <= $1', [now]);
  const [rows] = (await tx.query(
    `DELETE FROM provider_sign_in WHERE state_hash = $1
      RETURNING nonce, verifier_sealed AS sealed, back, person_id AS "personId"`,
    [secretHash(state)],
  )) as [{ nonce: string; sealed: Buffer; back: string; personId: string | null }[], number];
  const [row] = rows;
  return row ? { nonce: row.nonce, verifier: unseal(key, row.sealed), back: row.back, personId: row.personId } : null;
}
