import type { DutySetRow } from '@quay/contract';
import type { Duty } from '@quay/core';
import type { EntityManager } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';

/** Every set of duties, by name. */
export function dutySets(m: EntityManager): Promise<DutySetRow[]> {
  return m.query('SELECT id, name, duties FROM duty_set ORDER BY lower(name)');
}

/** A set of duties, held until the transaction ends. */
export async function heldDutySet(tx: EntityManager, id: string): Promise<DutySetRow | null> {
  const [row] = await tx.query<DutySetRow[]>('SELECT id, name, duties FROM duty_set WHERE id = $1 FOR UPDATE', [id]);
  return row ?? null;
}

/** Whether a set is called that, whatever its capitals. */
export async function isDutySetNamed(tx: EntityManager, name: string, butFor: string | null): Promise<boolean> {
  const rows = await tx.query<unknown[]>(
    'SELECT 1 FROM duty_set WHERE lower(name) = lower($1) AND id IS DISTINCT FROM $2',
    [name, butFor],
  );
  return rows.length > 0;
}

export async function insertDutySet(
  tx: EntityManager,
  { name, duties }: { name: string; duties: readonly Duty[] },
  at: Date,
): Promise<void> {
  await tx.query('INSERT INTO duty_set (id, name, duties, created_at) VALUES ($1, $2, $3, $4)', [
    uuidv7(),
    name,
    duties,
    at,
  ]);
}

export async function updateDutySet(tx: EntityManager, { id, name, duties }: DutySetRow): Promise<void> {
  await tx.query('UPDATE duty_set SET name = $2, duties = $3 WHERE id = $1', [id, name, duties]);
}

/** The accounts that have a set, as far as they matter to who could run the server; held until the transaction ends. */
export function holdersOf(tx: EntityManager, setId: string): Promise<{ personId: string; usable: boolean }[]> {
  return tx.query(
    'SELECT id AS "personId", disabled_at IS NULL AS usable FROM person WHERE duty_set_id = $1 ORDER BY id FOR UPDATE',
    [setId],
  );
}

/** Everybody who has a set has these duties. Asked with the access lock held alone. */
export async function setDutiesOfHolders(tx: EntityManager, setId: string, duties: readonly Duty[]): Promise<void> {
  await tx.query('UPDATE person SET duties = $2 WHERE duty_set_id = $1', [setId, duties]);
}

/** Who had it keeps its duties, as their own. */
export async function removeDutySet(tx: EntityManager, id: string): Promise<void> {
  await tx.query('UPDATE person SET duty_set_id = NULL WHERE duty_set_id = $1', [id]);
  await tx.query('DELETE FROM duty_set WHERE id = $1', [id]);
}
