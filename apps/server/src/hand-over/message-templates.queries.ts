import type { MessageTemplateRow } from '@quay/contract';
import type { MessageTemplate } from '@quay/core';
import type { EntityManager } from 'typeorm';

/** Somebody's own and those of the office, by name. */
export function messageTemplatesOf(m: EntityManager, personId: string): Promise<MessageTemplateRow[]> {
  return m.query(
    `SELECT id, name, person_id IS NULL AS office, subject, body AS text, begins FROM message_template
      WHERE person_id = $1 OR person_id IS NULL ORDER BY person_id IS NOT NULL, lower(name)`,
    [personId],
  );
}

/** What somebody's messages begin with; null: nothing is kept for it. */
export async function beginsWith(m: EntityManager, personId: string): Promise<MessageTemplate | null> {
  const [row] = await m.query<MessageTemplate[]>(
    `SELECT subject, body AS text FROM message_template WHERE begins AND (person_id = $1 OR person_id IS NULL)
      ORDER BY person_id NULLS LAST LIMIT 1`,
    [personId],
  );
  return row ?? null;
}

/** @param personId null: of the office. Others who add one at the same time wait. */
export async function countMessageTemplates(tx: EntityManager, personId: string | null): Promise<number> {
  await tx.query('LOCK TABLE message_template IN SHARE ROW EXCLUSIVE MODE');
  const [row] = await tx.query<{ count: number }[]>(
    'SELECT count(*)::int AS count FROM message_template WHERE person_id IS NOT DISTINCT FROM $1',
    [personId],
  );
  return row?.count ?? 0;
}

interface Kept extends MessageTemplate {
  id: string;
  personId: string | null;
  name: string;
  begins: boolean;
  at: Date;
}

/** Keeps one, new or instead of what it was. The one that messages began with so far gives way. */
export async function keepMessageTemplate(tx: EntityManager, t: Kept): Promise<void> {
  if (t.begins)
    await tx.query(
      'UPDATE message_template SET begins = false WHERE begins AND person_id IS NOT DISTINCT FROM $1 AND id <> $2',
      [t.personId, t.id],
    );
  await tx.query(
    `INSERT INTO message_template (id, person_id, name, subject, body, begins, changed_at)
      VALUES ($1, $2, $3, $4, $5, $6, $7)
      ON CONFLICT (id) DO UPDATE SET name = $3, subject = $4, body = $5, begins = $6, changed_at = $7`,
    [t.id, t.personId, t.name, t.subject, t.text, t.begins, t.at],
  );
}

/** @returns false: it was removed meanwhile */
export async function dropMessageTemplate(tx: EntityManager, id: string): Promise<boolean> {
  const [, count] = (await tx.query('DELETE FROM message_template WHERE id = $1', [id])) as [unknown, number];
  return count > 0;
}
