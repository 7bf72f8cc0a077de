import { Algorithm, hash, verify } from '@node-rs/argon2';

// OWASP Password Storage Cheat Sheet: Argon2id with at least 19 MiB, two passes, one lane.
const PARAMETERS = {
  algorithm: 2 satisfies Algorithm.Argon2id as Algorithm,
  memoryCost: 19 * 1024,
  timeCost: 2,
  parallelism: 1,
};

/** An Argon2id hash (RFC 9106) in the PHC string format. */
export function hashPassword(password: string): Promise<string> {
  return hash(password, PARAMETERS);
}

let decoy: Promise<string> | null = null;

/**
 * Whether the password is the one that was hashed. With no hash (no such person) it takes as long as with one, and is
 * false, so that the time does not tell which names exist.
 */
export async function passwordMatches(stored: string | null, password: string): Promise<boolean> {
  decoy ??= hashPassword('a password that nobody has');
  const matches = await verify(stored ?? (await decoy), password);
  return stored !== null && matches;
}
