import type { EntityManager } from 'typeorm';
import { secretHash } from '../platform/seal.js';

/** A link by which somebody sets a password; those before it are void. */
export async function insertPasswordLink(
  tx: EntityManager,
  { token, personId, at, endsAt }: { token: string; personId: string; at: Date; endsAt: Date },
): Promise<void> {
  await tx.query('DELETE FROM password_link WHERE person_id = $1 OR ends_at < $2', [personId, at]);
  await tx.query('INSERT INTO password_link (token_hash, person_id, made_at, ends_at) VALUES ($1, $2, $3, $4)', [
    secretHash(token),
    personId,
    at,
    endsAt,
  ]);
}

/** Whose link it is; null: there is none, or it is over. */
export async function holderOfLink(m: EntityManager, token: string, at: Date): Promise<string | null> {
  const [row] = await m.query<{ id: string }[]>(
    'SELECT person_id AS id FROM password_link WHERE token_hash = $1 AND ends_at > $2',
    [secretHash(token), at],
  );
  return row?.id ?? null;
}

/** Uses a link up. @returns false: it was used meanwhile */
export async function useLinkUp(tx: EntityManager, token: string): Promise<boolean> {
  const [, used] = (await tx.query('DELETE FROM password_link WHERE token_hash = $1', [secretHash(token)])) as [
    unknown,
    number,
  ];
  return used > 0;
}

/** Links of somebody are over: they have a password otherwise. */
export async function dropLinksOf(tx: EntityManager, personId: string): Promise<void> {
  await tx.query('DELETE FROM password_link WHERE person_id = $1', [personId]);
}
