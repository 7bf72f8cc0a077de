import { TIDY_AFTER_MS, TIDY_KINDS, VISIT_LIFETIME_SECONDS, type TidyKind } from '@quay/core';
import type { EntityManager } from 'typeorm';
import { fromHome, type Scope } from './list.queries.js';
import { IS_BROKEN } from './shares.queries.js';

const code = (kind: TidyKind): number => TIDY_KINDS.indexOf(kind);

/** `tidyKind` of core, of a share `s`, as its place in {@link TIDY_KINDS}. A test compares the two. */
const KIND = `CASE
  WHEN s.withdrawn_at <= $3 THEN ${code('withdrawn')}
  WHEN s.withdrawn_at IS NOT NULL THEN NULL
  WHEN s.closes_at <= $3 THEN ${code('closed')}
  WHEN s.removes_files AND coalesce(s.closes_at, 'infinity') > $2 THEN NULL
  WHEN ${IS_BROKEN} THEN ${code('broken')}
  WHEN s.visits_used >= s.visit_limit AND coalesce(s.last_visit_at, '-infinity') <= $4 THEN ${code('usedUp')} END`;

/** Of somebody's own, or of all but what is from homes of others. */
const within = ({ all }: Scope): string =>
  all ? `$1::uuid IS NOT NULL AND NOT ${fromHome('$1')}` : 's.created_by = $1';

const boundOf = ({ personId }: Scope, at: Date): unknown[] => [
  ...[personId, at, new Date(at.getTime() - TIDY_AFTER_MS)],
  new Date(at.getTime() - VISIT_LIFETIME_SECONDS * 1000),
];

/** How many may go of each kind, with some of their titles, those first that were made first. */
export async function tidyCounts(
  m: EntityManager,
  scope: Scope,
  at: Date,
  titles: number,
): Promise<{ kind: TidyKind; count: number; titles: string[] }[]> {
  const rows = await m.query<{ kind: number; count: number; titles: string[] }[]>(
    `SELECT kind, count(*)::int AS count, (array_agg(title ORDER BY created_at, id))[1:${titles}] AS titles FROM (
       SELECT s.id, s.title, s.created_at, ${KIND} AS kind FROM share s WHERE ${within(scope)} OFFSET 0
     ) found WHERE kind IS NOT NULL GROUP BY kind ORDER BY kind`,
    boundOf(scope, at),
  );
  return rows.map(({ kind, ...row }) => ({ kind: TIDY_KINDS[kind] as TidyKind, ...row }));
}

/** Takes some shares of these kinds off, as they are at this moment, with all that is kept of them. */
export async function takeOff(
  tx: EntityManager,
  scope: Scope,
  kinds: readonly TidyKind[],
  at: Date,
  limit: number,
): Promise<{ id: string; title: string }[]> {
  const held = await tx.query<{ id: string; title: string }[]>(
    `SELECT s.id, s.title FROM share s WHERE ${within(scope)} AND (${KIND}) = ANY($5)
      ORDER BY s.id LIMIT $6 FOR UPDATE OF s`,
    [...boundOf(scope, at), kinds.map(code), limit],
  );
  if (held.length > 0) await tx.query('DELETE FROM share WHERE id = ANY($1)', [held.map((s) => s.id)]);
  return held;
}
