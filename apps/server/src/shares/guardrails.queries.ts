import {
  addressText,
  guardrailWords,
  intakeRailFaults,
  NO_GUARDRAILS,
  type Address,
  type Guardrails,
  type IntakeRailTerms,
  type Listed,
  type NamedGuardrails,
  type RailAddress,
  type RailFault,
  type RailTerms,
} from '@quay/core';
import type { EntityManager } from 'typeorm';
import { LOCKS } from '../platform/locks.js';
import { MAY_STILL_OPEN } from './links.queries.js';

// Guardrails: what shares keep to, and what they are judged by.

/** The guardrails of the office (null) or of a store; those that say nothing where none are kept. */
export async function guardrailsOf(m: EntityManager, storeId: string | null): Promise<Guardrails> {
  const [row] = await m.query<{ rules: Guardrails }[]>(
    'SELECT rules FROM guardrail WHERE store_id IS NOT DISTINCT FROM $1::uuid',
    [storeId],
  );
  return { ...NO_GUARDRAILS, ...row?.rules };
}

/**
 * Has the guardrails stay as they are until the transaction ends, before it holds a share: what is judged by those of
 * before is never there after those of then.
 */
export async function holdGuardrails(tx: EntityManager, how: 'shared' | 'alone'): Promise<void> {
  await tx.query(`SELECT pg_advisory_xact_lock${how === 'shared' ? '_shared' : ''}($1)`, [LOCKS.guardrails]);
}

/** Those that say nothing are not kept. */
export async function keepGuardrails(
  tx: EntityManager,
  storeId: string | null,
  rules: Guardrails,
  at: Date,
): Promise<void> {
  if (guardrailWords(rules).length === 0) {
    await tx.query('DELETE FROM guardrail WHERE store_id IS NOT DISTINCT FROM $1::uuid', [storeId]);
    return;
  }
  await tx.query(
    `INSERT INTO guardrail (store_id, rules, changed_at) VALUES ($1, $2, $3)
     ON CONFLICT (store_id) DO UPDATE SET rules = excluded.rules, changed_at = excluded.changed_at`,
    [storeId, JSON.stringify(rules), at],
  );
}

/** Stores with what they are called, and their guardrails. */
export function storesWithGuardrails(
  m: EntityManager,
): Promise<{ storeId: string; name: string; rules: Guardrails | null }[]> {
  return m.query(
    `SELECT s.id AS "storeId", s.name, g.rules FROM store s LEFT JOIN guardrail g ON g.store_id = s.id
      WHERE s.kind = 'common' ORDER BY s.position, s.name`,
  );
}

/** Addresses of links as they are written, held where there is a transaction; what is there no more is left out. */
export async function addressTexts(m: EntityManager, ids: readonly string[]): Promise<RailAddress[]> {
  const rows = await m.query<(Address & { id: string })[]>(
    `SELECT id, scheme, host, port, path_prefix AS "pathPrefix" FROM address WHERE id = ANY($1) ORDER BY id FOR SHARE`,
    [ids],
  );
  return rows.map((row) => ({ id: row.id, text: addressText(row) }));
}

/** Whether guardrails name an address. */
export async function namesAddress(m: EntityManager, addressId: string): Promise<boolean> {
  const rows = await m.query<unknown[]>(
    `SELECT 1 FROM guardrail WHERE rules->'addresses' @> jsonb_build_array(jsonb_build_object('id', $1::text)) LIMIT 1`,
    [addressId],
  );
  return rows.length > 0;
}

/** Guardrails, and where they hold; null: in all of the office. */
export interface KeptGuardrails extends NamedGuardrails {
  storeId: string | null;
}

export async function allGuardrails(m: EntityManager): Promise<KeptGuardrails[]> {
  const rows = await m.query<{ storeId: string | null; of: string | null; rules: Guardrails }[]>(
    `SELECT g.store_id AS "storeId", s.name AS of, g.rules FROM guardrail g LEFT JOIN store s ON s.id = g.store_id
      ORDER BY s.name NULLS FIRST`,
  );
  return rows.map(({ rules, ...row }) => ({ ...row, rails: { ...NO_GUARDRAILS, ...rules } }));
}

/** Of all guardrails those that hold for what lies in these stores. */
export const holding = (kept: readonly KeptGuardrails[], storeIds: readonly string[]): NamedGuardrails[] =>
  kept.filter(({ storeId }) => storeId === null || storeIds.includes(storeId)).map(({ of, rails }) => ({ of, rails }));

export async function hasFactor(m: EntityManager, personId: string): Promise<boolean> {
  const rows = await m.query<unknown[]>('SELECT 1 FROM second_factor WHERE person_id = $1 AND since IS NOT NULL', [
    personId,
  ]);
  return rows.length > 0;
}

/** The stores that nodes lie in. */
export async function storesOfNodes(m: EntityManager, nodeIds: readonly string[]): Promise<string[]> {
  const rows = await m.query<{ id: string }[]>('SELECT DISTINCT store_id AS id FROM node WHERE id = ANY($1)', [
    nodeIds,
  ]);
  return rows.map((r) => r.id);
}

/** What is judged about a share, and whose rules hold for it. */
export interface JudgedShare extends Omit<RailTerms, 'listed' | 'window' | 'madeAt'> {
  id: string;
  title: string;
  createdBy: string;
  creatorName: string;
  opensAt: Date | null;
  closesAt: Date | null;
  createdAt: Date;
  listed: Listed[];
  storeIds: string[];
  barredAt: Date | null;
  barredBy: string | null;
  /** From the home of somebody else than whoever asks. */
  homeOwners: string[];
}

const JUDGED = `s.id, s.title, s.created_by AS "createdBy",
  (SELECT p.name FROM person p WHERE p.id = s.created_by) AS "creatorName", s.opens_at AS "opensAt", s.closes_at AS "closesAt",
  s.created_at AS "createdAt", s.password_hash IS NOT NULL AS "hasPassword", s.password_score AS "passwordScore",
  s.audience, s.level, s.watermark, s.address_id AS "addressId", s.visit_limit AS "visitLimit", s.barred_at AS "barredAt", s.barred_by AS "barredBy",
  EXISTS (SELECT 1 FROM second_factor f WHERE f.person_id = s.created_by AND f.since IS NOT NULL) AS "publisherHasFactor",
  coalesce((SELECT json_agg(json_build_object('kind', r.kind, 'value', r.value)) FROM share_recipient r
             WHERE r.share_id = s.id AND NOT r.blocked AND s.audience = 'listed'), '[]') AS listed,
  ARRAY(SELECT DISTINCT n.store_id::text FROM share_item i JOIN node n ON n.id = i.node_id WHERE i.share_id = s.id) AS "storeIds",
  ARRAY(SELECT h.owner_id::text FROM share_home h WHERE h.share_id = s.id) AS "homeOwners"`;

/** Shares as they are judged; held until the transaction ends where it is one that judges. */
export function judgedShares(m: EntityManager, ids: readonly string[], hold = false): Promise<JudgedShare[]> {
  return m.query(
    `SELECT ${JUDGED} FROM share s WHERE s.id = ANY($1) ORDER BY s.id ${hold ? 'FOR NO KEY UPDATE OF s' : ''}`,
    [ids],
  );
}

/**
 * Shares that could be opened, some at a time in the order of ids: all, or those with an item in a store.
 * @param unjudged only those that have not been looked at by the rules as they stand
 */
export async function* sharesToJudge(
  m: EntityManager,
  { storeId, at, unjudged }: { storeId: string | null; at: Date; unjudged: boolean },
): AsyncGenerator<string[]> {
  for (let after: string | null = null; ;) {
    const rows: { id: string }[] = await m.query(
      `SELECT s.id FROM share s
        WHERE ${MAY_STILL_OPEN('$1')} AND ($2::uuid IS NULL OR s.id > $2) AND (NOT s.judged OR NOT $3)
          AND ($4::uuid IS NULL OR EXISTS (SELECT 1 FROM share_item i JOIN node n ON n.id = i.node_id
                                            WHERE i.share_id = s.id AND n.store_id = $4))
        ORDER BY s.id LIMIT 500`,
      [at, after, unjudged, storeId],
    );
    if (rows.length > 0) yield rows.map((r) => r.id);
    if (rows.length < 500) return;
    after = rows.at(-1)?.id ?? null;
  }
}

/** Has shares looked at anew: all that could be opened, or those with an item in a store. */
export async function unjudge(tx: EntityManager, storeId: string | null, at: Date): Promise<void> {
  await tx.query(
    // In one order, as whoever judges them.
    `UPDATE share SET judged = false FROM (
       SELECT s.id FROM share s WHERE ${MAY_STILL_OPEN('$1')}
          AND ($2::uuid IS NULL OR EXISTS (SELECT 1 FROM share_item i JOIN node n ON n.id = i.node_id
                                            WHERE i.share_id = s.id AND n.store_id = $2))
        ORDER BY s.id FOR NO KEY UPDATE OF s) held WHERE share.id = held.id`,
    [at, storeId],
  );
}

/** Writes down what became of shares that were judged; `by` null: nothing keeps it closed. */
export async function writeJudged(
  tx: EntityManager,
  found: readonly { id: string; by: string | null }[],
  at: Date,
): Promise<void> {
  await tx.query(
    `UPDATE share s SET judged = true, barred_by = f.by,
       barred_at = CASE WHEN f.by IS NOT NULL THEN coalesce(s.barred_at, $3) END
      FROM unnest($1::uuid[], $2::text[]) AS f (id, by) WHERE s.id = f.id`,
    [found.map((f) => f.id), found.map((f) => f.by), at],
  );
}

/** What is judged about an intake, and whose rules hold for it. */
export interface JudgedIntake extends Omit<IntakeRailTerms, 'window' | 'madeAt'> {
  opensAt: Date | null;
  closesAt: Date | null;
  createdAt: Date;
  storeId: string;
  /** Of the office. */
  zone: string;
}

/** What guardrails ask of an intake `i`, besides its audience, its times and its store. */
export const INTAKE_TERMS = `i.password_hash IS NOT NULL AS "hasPassword", i.password_score AS "passwordScore",
  i.address_id AS "addressId", (SELECT zone FROM office) AS zone,
  EXISTS (SELECT 1 FROM second_factor f WHERE f.person_id = i.created_by AND f.since IS NOT NULL) AS "publisherHasFactor",
  coalesce((SELECT json_agg(json_build_object('kind', r.kind, 'value', r.value)) FROM intake_recipient r
             WHERE r.intake_id = i.id AND NOT r.blocked AND i.audience = 'listed'), '[]') AS listed`;

/** The rules that an intake does not keep to. It is asked whenever the intake is: what breaks one takes nothing in. */
export function intakeFaults(intake: JudgedIntake, kept: readonly KeptGuardrails[]): RailFault[] {
  const { opensAt, closesAt, createdAt, storeId, zone } = intake;
  const window = { opensAt: opensAt?.getTime() ?? null, closesAt: closesAt?.getTime() ?? null };
  return intakeRailFaults({ ...intake, window, madeAt: createdAt.getTime() }, holding(kept, [storeId]), zone);
}

export interface OpenIntake extends JudgedIntake {
  id: string;
  title: string;
  createdBy: string;
  creatorName: string;
  folderId: string;
}

/** Intakes that take something in, or will: all, or those into a store. */
export const openIntakes = (m: EntityManager, storeId: string | null, at: Date): Promise<OpenIntake[]> =>
  m.query(
    `SELECT i.id, i.title, i.created_by AS "createdBy", p.name AS "creatorName", i.opens_at AS "opensAt",
            i.closes_at AS "closesAt", i.created_at AS "createdAt", i.audience, n.store_id AS "storeId",
            n.id AS "folderId", ${INTAKE_TERMS}
       FROM intake i JOIN person p ON p.id = i.created_by JOIN node n ON n.id = i.folder_id
      WHERE i.withdrawn_at IS NULL AND (i.closes_at IS NULL OR i.closes_at > $1) AND ($2::uuid IS NULL OR n.store_id = $2)
      ORDER BY i.id`,
    [at, storeId],
  );
