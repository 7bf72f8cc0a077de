import type { Role } from '@quay/core';
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
