import type { SlipTemplate, TemplateTerms } from '@quay/contract';
import type { EntityManager } from 'typeorm';

/** Somebody's own templates and those of the office, by name. */
export function templatesOf(m: EntityManager, personId: string): Promise<SlipTemplate[]> {
  return m.query(
    `SELECT id, name, person_id IS NULL AS office, terms FROM slip_template
      WHERE person_id = $1 OR person_id IS NULL ORDER BY person_id IS NOT NULL, lower(name)`,
    [personId],
  );
}

/** @param personId null: of the office. Others who add one at the same time wait. */
export async function countTemplates(tx: EntityManager, personId: string | null): Promise<number> {
  if (personId !== null) await tx.query('SELECT 1 FROM person WHERE id = $1 FOR UPDATE', [personId]);
  const [row] = await tx.query<{ count: number }[]>(
    'SELECT count(*)::int AS count FROM slip_template WHERE person_id IS NOT DISTINCT FROM $1',
    [personId],
  );
  return row?.count ?? 0;
}

export async function insertTemplate(
  tx: EntityManager,
  {
    id,
    personId,
    name,
    terms,
    at,
  }: { id: string; personId: string | null; name: string; terms: TemplateTerms; at: Date },
): Promise<void> {
  await tx.query('INSERT INTO slip_template (id, person_id, name, terms, created_at) VALUES ($1, $2, $3, $4, $5)', [
    ...[id, personId, name, JSON.stringify(terms), at],
  ]);
}

/** @returns false: it was removed meanwhile */
export async function dropTemplate(tx: EntityManager, id: string): Promise<boolean> {
  const [, count] = (await tx.query('DELETE FROM slip_template WHERE id = $1', [id])) as [unknown, number];
  return count > 0;
}
