import {
  CLOSES_IN_A_WEEK_MS,
  CLOSES_SOON_MS,
  OPEN_LONG_MS,
  SHARE_FACETS,
  SHARE_STATES,
  type ShareFacet,
  type ShareState,
} from '@quay/core';
import type { ShareListQuery, ShareSort } from '@quay/contract';
import type { EntityManager } from 'typeorm';
import { ensureReach } from '../access/access-reach.js';
import type { Who } from '../people/who.js';
import { momentText } from '../platform/cursor.js';
import { reachStands } from '../access/access.queries.js';
import { holdsForeign, holdsManaged, managesSomething } from './managed.queries.js';
import {
  asReached,
  IS_BROKEN,
  SHARE_COLUMNS,
  SHARE_FROM,
  shareRecord,
  type ShareColumns,
  type ShareRecord,
} from './shares.queries.js';

/** Whose shares are listed. */
export interface Scope {
  personId: string;
  /** Of everybody: what is from somebody else's home is closed all the same. */
  all: boolean;
  /** Those of others too that hold something which they manage. */
  managed: boolean;
}

/** Where a page ends: in which group, and after which share of it; null: before the first. */
export interface ShareCursor {
  group: 0 | 1;
  last: { key: string; id: string } | null;
}

const code = (state: ShareState): number => SHARE_STATES.indexOf(state);

/**
 * {@link shareState} of core, of a share `s`, as its place in {@link SHARE_STATES}: a hundred thousand numbers are
 * counted sooner than as many words. A test compares the two.
 */
export const stateAt = (at: string): string => `CASE
  WHEN s.withdrawn_at <= ${at} THEN ${code('withdrawn')}
  WHEN ${IS_BROKEN} THEN ${code('broken')}
  WHEN s.visits_used >= s.visit_limit THEN ${code('usedUp')}
  WHEN s.closes_at <= ${at} OR s.barred_at <= ${at} THEN ${code('closed')}
  WHEN s.opens_at > ${at} THEN ${code('scheduled')}
  ELSE ${code('open')} END`;

/** Whether a share `s` is from the home of somebody else. */
export const fromHome = (person: string): string =>
  `EXISTS (SELECT 1 FROM share_home h WHERE h.share_id = s.id AND h.owner_id <> ${person})`;

/** Whether a share `s` of a scope holds something that whoever asks has no business with. */
const closedTo = (person: string, { all, managed }: Scope): string =>
  all || !managed
    ? fromHome(person)
    : `(${fromHome(person)} OR (s.created_by <> ${person} AND ${holdsForeign(person)}))`;

interface Order {
  by: string;
  type: 'text' | 'timestamptz';
  cursorValue: string;
  /** It would tell something of what is closed: that comes after everything else, by when it was made. */
  tells?: boolean;
}

const MADE: Order = { by: 's.created_at', type: 'timestamptz', cursorValue: momentText('s.created_at') };
const infinite = (column: string, end: 'infinity' | '-infinity') => ({
  by: `coalesce(${column}, '${end}')`,
  type: 'timestamptz' as const,
  cursorValue: `coalesce(${momentText(column)}, '${end}')`,
});

/** One index for each (schema-0011). */
const ORDERS: Record<ShareSort, Order> = {
  made: MADE,
  closes: infinite('s.closes_at', 'infinity'),
  title: { by: 's.title COLLATE natural_order', type: 'text', cursorValue: 's.title', tells: true },
  visited: { ...infinite('s.last_visit_at', '-infinity'), tells: true },
};

/** Conditions on a share `s`, and what is bound to them. */
class Conditions {
  readonly bound: unknown[] = [];
  private readonly all: string[] = [];

  put(value: unknown): string {
    return `$${this.bound.push(value)}`;
  }

  add(condition: string): this {
    this.all.push(condition);
    return this;
  }

  get text(): string {
    return this.all.length === 0 ? 'true' : this.all.join(' AND ');
  }
}

/** What is asked for among them. */
type Asked = Pick<ShareListQuery, 'find' | 'by'>;

/** Whose shares are somebody's to look after: whoever runs the server has all, others their own. */
export const ownScope = (who: Who): Scope => ({ personId: who.personId, all: who.role === 'admin', managed: false });

/** Whose shares somebody sees: those too that hold something which they manage. */
export async function scopeOf(m: EntityManager, who: Who, at: Date): Promise<Scope> {
  const own = ownScope(who);
  return { ...own, managed: !own.all && (await managesSomething(m, who, at)) };
}

/** What each facet says of a share `s`. */
const FACETS: Record<ShareFacet, (put: (moment: number) => string, now: number) => string> = {
  'never-opened': () => 's.last_visit_at IS NULL',
  'closes-in-a-week': (put, now) => `s.closes_at > ${put(now)} AND s.closes_at <= ${put(now + CLOSES_IN_A_WEEK_MS)}`,
  'no-end': () => 's.closes_at IS NULL',
  'no-password': () => 's.password_hash IS NULL',
  'brings-files': () => "s.level IN ('contribute', 'edit')",
};

/** What is closed to whoever asks is found by nothing that is not shown of it. */
function facetOf(facet: ShareFacet, { where, closed }: Begun, at: Date): string {
  const put = (moment: number) => `${where.put(new Date(moment))}::timestamptz`;
  return `(${FACETS[facet](put, at.getTime())} AND NOT ${closed})`;
}

interface Begun {
  where: Conditions;
  /** Whether a share is closed to whoever asks. */
  closed: string;
}

const inScope = (me: string, { all, managed }: Scope): string => {
  if (all) return `${me}::uuid IS NOT NULL`;
  return managed ? `(s.created_by = ${me} OR ${holdsManaged(me)})` : `s.created_by = ${me}`;
};

function begin(scope: Scope, { find, by }: Asked): Begun {
  const where = new Conditions();
  const me = where.put(scope.personId);
  const closed = closedTo(me, scope);
  where.add(inScope(me, scope));
  if (by !== undefined) where.add(`s.created_by = ${where.put(by)}`);
  for (const word of (find ?? '').split(/\s+/).filter(Boolean)) {
    const like = `lower(${where.put(`%${word.replace(/[\\%_]/g, '\\$&')}%`)})`;
    // What is closed is not found by a title that is not shown.
    where.add(`((lower(s.title) LIKE ${like} AND NOT ${closed})
      OR s.created_by = ANY(ARRAY(SELECT id FROM person WHERE lower(name) LIKE ${like})))`);
  }
  return { where, closed };
}

/** Sees to it that what stands against the shares of this scope is as of now. */
export async function ensureScope(m: EntityManager, scope: Scope, at: Date): Promise<void> {
  const publishers =
    scope.all || scope.managed
      ? await m.query<{ id: string }[]>(
          'SELECT p.id FROM person p WHERE EXISTS (SELECT 1 FROM share s WHERE s.created_by = p.id)',
        )
      : [];
  await ensureReach(m, [...new Set([scope.personId, ...publishers.map((p) => p.id)])], at);
}

/** How many shares there are in each state, and of each facet in each. Asked after {@link ensureScope}. */
export async function countShares(
  m: EntityManager,
  scope: Scope,
  asked: Asked,
  at: Date,
): Promise<{ counts: Record<ShareState, number>; facets: Record<ShareFacet, Record<ShareState, number>> }> {
  const begun = begin(scope, asked);
  const { where } = begun;
  const columns = SHARE_FACETS.map((facet, n) => `${facetOf(facet, begun, at)} AS f${n}`);
  const sums = SHARE_FACETS.map((_, n) => `count(*) FILTER (WHERE f${n})::int AS f${n}`);
  const rows = await m.query<({ state: number; count: number } & Record<`f${number}`, number>)[]>(
    // OFFSET 0: worked out once for each, and not again to compare.
    `SELECT state, count(*)::int AS count, ${sums.join(', ')} FROM (
       SELECT ${stateAt(where.put(at))} AS state, ${columns.join(', ')} FROM share s WHERE ${where.text} OFFSET 0
     ) states GROUP BY state`,
    where.bound,
  );
  const byState = (count: (row: (typeof rows)[number]) => number) =>
    Object.fromEntries(
      SHARE_STATES.map((s, i) => [s, rows.filter((r) => r.state === i).reduce((sum, r) => sum + count(r), 0)]),
    ) as Record<ShareState, number>;
  const facets = SHARE_FACETS.map((facet, n) => [facet, byState((row) => row[`f${n}`] ?? 0)]);
  return {
    counts: byState((row) => row.count),
    facets: Object.fromEntries(facets) as Record<ShareFacet, Record<ShareState, number>>,
  };
}

/** A page of shares by keyset, each group one walk along an index. Asked after {@link ensureScope}. */
export async function listShares(
  m: EntityManager,
  scope: Scope,
  query: Omit<ShareListQuery, 'after'>,
  after: ShareCursor | null,
  at: Date,
): Promise<{ shares: ShareRecord[]; next: ShareCursor | null }> {
  const shares: ShareRecord[] = [];
  const groups = ORDERS[query.sort].tells ? ([0, 1] as const) : ([0] as const);
  for (const group of groups.filter((g) => g >= (after?.group ?? 0))) {
    const from = after?.group === group ? after.last : null;
    // One more than is shown tells that there is a next page.
    const room = query.limit - shares.length;
    const rows = await groupOf(m, scope, query, group, from, at, room + 1);
    const shown = rows.slice(0, room);
    shares.push(...shown.map(({ key: _, ...row }) => shareRecord(row)));
    const last = shown.at(-1);
    if (rows.length > room) return { shares, next: { group, last: last ? { key: last.key, id: last.id } : null } };
  }
  return { shares, next: null };
}

function groupOf(
  m: EntityManager,
  scope: Scope,
  query: Omit<ShareListQuery, 'after'>,
  group: 0 | 1,
  after: ShareCursor['last'],
  at: Date,
  limit: number,
): Promise<(ShareColumns & { key: string })[]> {
  const begun = begin(scope, query);
  const { where, closed } = begun;
  const order = group === 0 ? ORDERS[query.sort] : MADE;
  if (ORDERS[query.sort].tells) where.add(`${group === 0 ? 'NOT ' : ''}${closed}`);
  const [direction, beyond] = query.descending ? ['DESC', '<'] : ['ASC', '>'];
  if (query.facet) where.add(facetOf(query.facet, begun, at));
  if (query.state) where.add(`${stateAt(where.put(at))} = ${code(query.state)}`);
  if (after)
    where.add(`(${order.by}, s.id) ${beyond} (${where.put(after.key)}::${order.type}, ${where.put(after.id)}::uuid)`);
  const sorted = `${order.by} ${direction}, s.id ${direction}`;
  return m.query(
    `SELECT ${SHARE_COLUMNS}, ${order.cursorValue} AS key FROM (
       SELECT s.* FROM share s WHERE ${where.text} ORDER BY ${sorted} LIMIT ${where.put(limit)}
     ) s ${SHARE_FROM} ORDER BY ${sorted}`,
    where.bound,
  );
}

/**
 * Shares whose windows lie in a span, those that end next first, and how many there are. Asked after {@link
 * ensureScope}.
 */
export async function sharesWithin(
  m: EntityManager,
  scope: Scope,
  span: { from: Date; to: Date },
  at: Date,
  limit: number,
): Promise<{ shares: ShareRecord[]; count: number }> {
  const { where } = begin(scope, {});
  const end = `least(coalesce(s.closes_at, 'infinity'), s.withdrawn_at)`;
  where.add(`coalesce(s.closes_at, 'infinity') > ${where.put(span.from)} AND ${end} > $${where.bound.length}`);
  where.add(`coalesce(s.opens_at, s.created_at) < ${where.put(span.to)}`);
  const [row] = await m.query<{ count: number }[]>(
    `SELECT count(*)::int AS count FROM share s WHERE ${where.text}`,
    where.bound,
  );
  const sorted = `${end} <= ${where.put(at)}, ${end}, s.id`;
  const rows = await m.query<ShareColumns[]>(
    `SELECT ${SHARE_COLUMNS} FROM (
       SELECT s.* FROM share s WHERE ${where.text} ORDER BY ${sorted} LIMIT ${where.put(limit)}
     ) s ${SHARE_FROM} ORDER BY ${sorted}`,
    where.bound,
  );
  return { shares: rows.map(shareRecord), count: row?.count ?? 0 };
}

/**
 * Shares that may need a hand of whoever asks, the most harmful first: what `shareFindings` of core finds is among
 * these. What is from somebody else's home is theirs to mend. Asked after {@link ensureScope}.
 */
export async function sharesNeeding(
  m: EntityManager,
  scope: Scope,
  at: Date,
  limit: number,
): Promise<{ shares: ShareRecord[]; count: number }> {
  const { where, closed } = begin(scope, {});
  where.add(`NOT ${closed}`);
  const now = where.put(at);
  const soon = where.put(new Date(at.getTime() + CLOSES_SOON_MS));
  const long = where.put(new Date(at.getTime() - OPEN_LONG_MS));
  where.add(`coalesce(s.closes_at, 'infinity') > ${now} AND coalesce(s.withdrawn_at > ${now}, true)`);
  where.add(`(${IS_BROKEN} OR s.barred_at <= ${now} OR s.visits_used >= s.visit_limit
    OR (coalesce(s.opens_at, ${now}) <= ${now}
      AND (s.closes_at <= ${soon} OR (s.closes_at IS NULL AND coalesce(s.opens_at, s.created_at) <= ${long}))))`);
  const rows = await m.query<(ShareColumns & { count: number })[]>(
    `SELECT ${SHARE_COLUMNS}, s.count FROM (
       SELECT s.*, count(*) OVER ()::int AS count FROM share s
        WHERE ${where.text} ORDER BY ${IS_BROKEN} DESC, s.closes_at NULLS FIRST, s.id LIMIT ${where.put(limit)}
     ) s ${SHARE_FROM}`,
    where.bound,
  );
  return { shares: rows.map(({ count: _, ...row }) => shareRecord(row)), count: rows[0]?.count ?? 0 };
}

/** When each of these shares was visited since a moment: the beginning of each ten minutes in which it was, once. */
export async function visitTimesOf(m: EntityManager, ids: string[], since: Date): Promise<Map<string, Date[]>> {
  const rows = await m.query<{ id: string; times: Date[] }[]>(
    `SELECT share_id AS id, array_agg(DISTINCT date_bin('10 minutes', began_at, 'epoch')) AS times
       FROM visit WHERE share_id = ANY($1) AND began_at >= $2 GROUP BY share_id`,
    [ids, since],
  );
  return new Map(rows.map((r) => [r.id, r.times]));
}

/** The state of every share that publishes one of these nodes itself, by node. */
export async function statesOfNodes(
  m: EntityManager,
  nodeIds: string[],
  at: Date,
): Promise<{ nodeId: string; state: ShareState }[]> {
  const rows = await asReached(m, at, () =>
    m.query<{ nodeId: string; state: number; createdBy: string; stood: boolean }[]>(
      `SELECT i.node_id AS "nodeId", ${stateAt('$2')} AS state, s.created_by AS "createdBy",
              ${reachStands('s.created_by', '$2')} AS stood
         FROM unnest($1::uuid[]) AS asked (id)
         CROSS JOIN LATERAL (SELECT * FROM share_item i WHERE i.node_id = asked.id OFFSET 0) i
           JOIN share s ON s.id = i.share_id`,
      [nodeIds, at],
    ),
  );
  return rows.map(({ nodeId, state }) => ({ nodeId, state: SHARE_STATES[state] as ShareState }));
}
