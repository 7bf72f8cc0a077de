import type { EntityManager } from 'typeorm';

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
