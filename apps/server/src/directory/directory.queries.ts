import type { DirectoryKnown, DirectoryPlan } from '@quay/core';
import {
  RUN_LINES_SHOWN,
  type DirectoryRun,
  type DirectoryRunState,
  type DirectorySettings,
  type LookAtDirectory,
} from '@quay/contract';
import type { EntityManager } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';
import { LOCKS } from '../platform/locks.js';
import { seal, unseal } from '../platform/seal.js';

/** How the directory is asked, with its password. */
export async function loadDirectory(
  m: EntityManager,
  key: Buffer,
): Promise<(DirectorySettings & { bindPassword: string }) | null> {
  const [row] = await m.query<{ settings: DirectorySettings; sealed: Buffer }[]>(
    'SELECT settings, password_sealed AS sealed FROM directory',
  );
  return row ? { ...row.settings, bindPassword: unseal(key, row.sealed) } : null;
}

export async function keepDirectory(
  tx: EntityManager,
  key: Buffer,
  { settings, bindPassword, at }: { settings: DirectorySettings; bindPassword: string; at: Date },
): Promise<void> {
  await tx.query(
    `INSERT INTO directory (settings, password_sealed, changed_at) VALUES ($1, $2, $3)
      ON CONFLICT (id) DO UPDATE SET settings = $1, password_sealed = $2, changed_at = $3`,
    [JSON.stringify(settings), seal(key, bindPassword), at],
  );
}

/** @returns whether there was one */
export async function forgetDirectory(tx: EntityManager): Promise<boolean> {
  const [, removed] = (await tx.query('DELETE FROM directory')) as [unknown, number];
  return removed > 0;
}

/** The accounts and groups that entries stand for, and all the others, as core takes them. */
export async function loadKnown(m: EntityManager): Promise<DirectoryKnown> {
  const people = await m.query<DirectoryKnown['people'][number][]>(
    `SELECT e.entry_id AS "entryId", p.id AS "personId", e.dn, p.name, p.email, p.sign_in_name AS "signInName", e.names,
            p.disabled_at IS NULL AS usable, e.gone_at IS NOT NULL AS gone,
            'run-server' = ANY(p.duties) AND NOT EXISTS (
              SELECT 1 FROM person o WHERE o.disabled_at IS NULL AND 'run-server' = ANY(o.duties)
                 AND NOT EXISTS (SELECT 1 FROM directory_entry d WHERE d.person_id = o.id)) AS "isLast"
       FROM directory_entry e JOIN person p ON p.id = e.person_id ORDER BY e.entry_id`,
  );
  const groups = await m.query<DirectoryKnown['groups'][number][]>(
    `SELECT e.entry_id AS "entryId", g.id AS "groupId", e.dn, g.name, e.gone_at IS NOT NULL AS gone,
            g.ended_at IS NOT NULL AS ended
       FROM directory_entry e JOIN people_group g ON g.id = e.group_id ORDER BY e.entry_id`,
  );
  const others = await m.query<DirectoryKnown['others'][number][]>(
    `SELECT id, name, email, sign_in_name AS "signInName", role = 'admin' AS "isAdmin" FROM person p
      WHERE NOT EXISTS (SELECT 1 FROM directory_entry e WHERE e.person_id = p.id)`,
  );
  const otherGroups = await m.query<{ id: string; name: string }[]>(
    `SELECT id, name FROM people_group g WHERE ended_at IS NULL
        AND NOT EXISTS (SELECT 1 FROM directory_entry e WHERE e.group_id = g.id)`,
  );
  const memberships = await m.query<DirectoryKnown['memberships'][number][]>(
    `SELECT g.entry_id AS "group", e.entry_id AS member, m.source = 'hand' AS "byHand"
       FROM membership m JOIN directory_entry g ON g.group_id = m.group_id
       JOIN directory_entry e ON e.person_id = m.person_id OR e.group_id = m.member_group_id
      WHERE m.ended_at IS NULL ORDER BY 1, 2`,
  );
  return { people, groups, others, otherGroups, memberships };
}

/** What stands for an entry from now on. */
export async function linkEntry(
  tx: EntityManager,
  of: { entryId: string; dn: string; names: readonly string[]; at: Date } & (
    { personId: string } | { groupId: string }
  ),
): Promise<void> {
  const [personId, groupId] = 'personId' in of ? [of.personId, null] : [null, of.groupId];
  await tx.query(
    'INSERT INTO directory_entry (entry_id, person_id, group_id, dn, names, since) VALUES ($1, $2, $3, $4, $5, $6)',
    [of.entryId, personId, groupId, of.dn, of.names, of.at],
  );
}

export async function moveEntry(tx: EntityManager, entryId: string, dn: string): Promise<void> {
  await tx.query('UPDATE directory_entry SET dn = $2 WHERE entry_id = $1', [entryId, dn]);
}

export async function nameEntry(tx: EntityManager, entryId: string, names: readonly string[]): Promise<void> {
  await tx.query('UPDATE directory_entry SET names = $2 WHERE entry_id = $1', [entryId, names]);
}

/** @param at null: it is there again. Whoever is gone signs in by no password that was kept */
export async function entryGone(tx: EntityManager, entryId: string, at: Date | null): Promise<void> {
  await tx.query('UPDATE directory_entry SET gone_at = $2, verifier = NULL, verified_at = NULL WHERE entry_id = $1', [
    entryId,
    at,
  ]);
}

/** The account that stands for an entry, or the group. */
export async function standsFor(
  tx: EntityManager,
  entryId: string,
): Promise<{ kind: 'person' | 'group'; id: string } | null> {
  const [row] = await tx.query<{ personId: string | null; groupId: string | null }[]>(
    'SELECT person_id AS "personId", group_id AS "groupId" FROM directory_entry WHERE entry_id = $1',
    [entryId],
  );
  if (!row) return null;
  return row.personId !== null ? { kind: 'person', id: row.personId } : { kind: 'group', id: row.groupId as string };
}

/** The accounts, or the groups, that stand for entries. */
export async function linkedIds(m: EntityManager, kind: 'person' | 'group'): Promise<Set<string>> {
  const column = kind === 'person' ? 'person_id' : 'group_id';
  const rows = await m.query<{ id: string }[]>(
    `SELECT ${column} AS id FROM directory_entry WHERE ${column} IS NOT NULL`,
  );
  return new Set(rows.map((r) => r.id));
}

export async function entryIds(m: EntityManager): Promise<Set<string>> {
  const rows = await m.query<{ id: string }[]>('SELECT entry_id AS id FROM directory_entry');
  return new Set(rows.map((r) => r.id));
}

/** Lets an account, or everything, stand for itself again. @returns how many did */
export async function unlink(tx: EntityManager, personId: string | null): Promise<number> {
  const [, removed] = (await tx.query('DELETE FROM directory_entry WHERE $1::uuid IS NULL OR person_id = $1', [
    personId,
  ])) as [unknown, number];
  return removed;
}

export async function countEntries(m: EntityManager): Promise<{ people: number; groups: number }> {
  const [row] = await m.query<{ people: number; groups: number }[]>(
    `SELECT count(person_id) FILTER (WHERE gone_at IS NULL)::int AS people,
            count(group_id) FILTER (WHERE gone_at IS NULL)::int AS groups FROM directory_entry`,
  );
  return row as { people: number; groups: number };
}

/** How somebody signs in by the directory. */
export interface SignsIn {
  entryId: string;
  verifier: string | null;
  verifiedAt: Date | null;
}

export async function signsIn(m: EntityManager, personId: string): Promise<SignsIn | null> {
  const [row] = await m.query<SignsIn[]>(
    `SELECT entry_id AS "entryId", verifier, verified_at AS "verifiedAt" FROM directory_entry WHERE person_id = $1`,
    [personId],
  );
  return row ?? null;
}

/** Whoever signs in by a name of the directory; null where nobody does, or several. */
export async function namedInDirectory(m: EntityManager, name: string): Promise<string | null> {
  const rows = await m.query<{ id: string }[]>(
    `SELECT person_id AS id FROM directory_entry WHERE names @> ARRAY[$1] AND gone_at IS NULL LIMIT 2`,
    [name],
  );
  return rows.length === 1 ? (rows[0]?.id ?? null) : null;
}

export async function keepVerifier(
  m: EntityManager,
  personId: string,
  verifier: string | null,
  at: Date,
): Promise<void> {
  await m.query('UPDATE directory_entry SET verifier = $2, verified_at = $3 WHERE person_id = $1', [
    personId,
    verifier,
    verifier === null ? null : at,
  ]);
}

/** No password that was kept lets anybody in any more. */
export async function forgetVerifiers(tx: EntityManager): Promise<void> {
  await tx.query('UPDATE directory_entry SET verifier = NULL, verified_at = NULL WHERE verifier IS NOT NULL');
}

/** A run as it is kept. */
export interface RunRecord extends Omit<DirectoryRun, 'at'> {
  at: Date;
  askedBy: string | null;
  asked: LookAtDirectory;
  /** Null: it has not been seen yet, or is over. */
  plan: DirectoryPlan | null;
}
/** A run as it is looked at: with the first lines of what it would do. */
export interface RunHead extends Omit<RunRecord, 'plan'> {
  shown: Pick<DirectoryPlan, 'changes' | 'kept'> | null;
}

const RUN = `r.id, r.at, r.asked_by AS "askedBy", p.name AS by, r.state, r.words, r.asks, r.done, r.total`;

/** The last ones, without what they would do. */
export function runs(m: EntityManager, count: number): Promise<Omit<RunRecord, 'plan' | 'asked'>[]> {
  return m.query(
    `SELECT ${RUN} FROM directory_run r LEFT JOIN person p ON p.id = r.asked_by ORDER BY r.at DESC, r.id DESC LIMIT $1`,
    [count],
  );
}

export async function run(m: EntityManager, id: string): Promise<RunRecord | null> {
  const [row] = await m.query<RunRecord[]>(
    `SELECT ${RUN}, r.asked, r.plan FROM directory_run r LEFT JOIN person p ON p.id = r.asked_by WHERE r.id = $1`,
    [id],
  );
  return row ?? null;
}

export async function runHead(m: EntityManager, id: string): Promise<RunHead | null> {
  const [row] = await m.query<RunHead[]>(
    `SELECT ${RUN}, r.asked, r.shown FROM directory_run r LEFT JOIN person p ON p.id = r.asked_by WHERE r.id = $1`,
    [id],
  );
  return row ?? null;
}

/** Whoever begins one while another turns into doing waits, and then sees it. */
async function lockRuns(tx: EntityManager): Promise<void> {
  await tx.query('SELECT pg_advisory_xact_lock($1)', [LOCKS.directory]);
}

/** Begins a run. @returns null: one is under way */
export async function beginRun(
  tx: EntityManager,
  { by, asked, at }: { by: string | null; asked: LookAtDirectory; at: Date },
): Promise<string | null> {
  await lockRuns(tx);
  const rows = await tx.query<{ id: string }[]>(
    `INSERT INTO directory_run (id, at, alive_at, asked_by, state, asked) VALUES ($1, $2, $2, $3, 'looking', $4)
      ON CONFLICT ((true)) WHERE state IN ('looking', 'doing') DO NOTHING RETURNING id`,
    [uuidv7(), at, by, JSON.stringify(asked)],
  );
  return rows[0]?.id ?? null;
}

/** What is under way since before a moment: whoever did it has died. */
export async function stuckRuns(m: EntityManager, before: Date): Promise<string[]> {
  const rows = await m.query<{ id: string }[]>(
    `SELECT id FROM directory_run WHERE state IN ('looking', 'doing') AND alive_at < $1`,
    [before],
  );
  return rows.map((r) => r.id);
}

export async function runSeen(
  tx: EntityManager,
  id: string,
  { plan, words, state }: { plan: DirectoryPlan; words: string; state: DirectoryRunState },
): Promise<void> {
  const { changes, kept } = plan;
  const shown = { changes: changes.slice(0, RUN_LINES_SHOWN), kept: kept.slice(0, RUN_LINES_SHOWN) };
  await tx.query(
    `UPDATE directory_run SET plan = CASE WHEN $4 = 'waiting' THEN $2::json END, shown = $7, words = $3, state = $4,
            asks = $5, total = $6 WHERE id = $1`,
    [id, JSON.stringify(plan), words, state, plan.asks, changes.length, JSON.stringify(shown)],
  );
}

/** @returns false: it is not in that state any more, or another is under way */
export async function turnRun(
  tx: EntityManager,
  id: string,
  from: DirectoryRunState,
  to: DirectoryRunState,
  at: Date,
): Promise<boolean> {
  await lockRuns(tx);
  const [, turned] = (await tx.query(
    `UPDATE directory_run SET state = $3, alive_at = $4 WHERE id = $1 AND state = $2
        AND ($3 <> 'doing' OR NOT EXISTS (SELECT 1 FROM directory_run o WHERE o.state IN ('looking', 'doing')))`,
    [id, from, to, at],
  )) as [unknown, number];
  return turned > 0;
}

export async function runEnded(
  tx: EntityManager,
  id: string,
  { state, words, at }: { state: DirectoryRunState; words: string | null; at: Date },
): Promise<void> {
  await tx.query(
    'UPDATE directory_run SET state = $2, words = coalesce($3, words), ended_at = $4, plan = NULL WHERE id = $1',
    [id, state, words, at],
  );
}

export async function runProgress(
  tx: EntityManager,
  id: string,
  { done, at }: { done: number; at: Date },
): Promise<void> {
  await tx.query('UPDATE directory_run SET done = $2, alive_at = $3 WHERE id = $1', [id, done, at]);
}

/** Runs that wait and are overtaken by another. */
export async function dropWaiting(tx: EntityManager, at: Date): Promise<void> {
  await tx.query(`UPDATE directory_run SET state = 'dropped', ended_at = $1, plan = NULL WHERE state = 'waiting'`, [
    at,
  ]);
}

/** What waits for an answer. */
export async function waitingRun(m: EntityManager): Promise<RunRecord | null> {
  const [row] = await m.query<{ id: string }[]>(`SELECT id FROM directory_run WHERE state = 'waiting'`);
  return row ? run(m, row.id) : null;
}

export async function forgetRun(tx: EntityManager, id: string): Promise<void> {
  await tx.query('DELETE FROM directory_run WHERE id = $1', [id]);
}

/** Of runs long past, and all but the last few that did nothing, nothing is kept: the ledger has what they did. */
export async function forgetRuns(tx: EntityManager, before: Date): Promise<void> {
  await tx.query(
    `DELETE FROM directory_run WHERE state NOT IN ('looking', 'doing', 'waiting')
        AND (at < $1 OR (total = 0 AND id NOT IN (SELECT id FROM directory_run ORDER BY at DESC LIMIT 20)))`,
    [before],
  );
}
