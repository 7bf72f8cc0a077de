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
