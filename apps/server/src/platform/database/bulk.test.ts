import { createHash } from 'node:crypto';
import pg from 'pg';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { folder, storeOf } from '../../_fixtures/acts.js';
import { SESSION_OPTIONS } from './database.js';
import { openOffice, type TestOffice } from '../../_fixtures/office.js';

// What the database does by itself beside one statement, however many rows it changes. A session keeps the plans of its
// functions: made while an office was small, they must still be right for thousands of rows in one statement.

const ROWS = 2000;
/** A plan is kept from the sixth time on. */
const UNTIL_KEPT = 7;
/** The rows that all steps of all plans may touch for each row changed; to compare each with each makes it thousands. */
const MOST_FOR_EACH = 100;
/** The bytes of every file; one that nobody adds or removes here holds them too, so that they are not tidied away. */
const BYTES = Buffer.from('ten bytes.');
const BLOB = createHash('sha256').update(BYTES).digest();

let office: TestOffice;
let session: pg.Client;
let touched = 0;
let here: { id: string; store: string };
let there: { id: string; store: string };

interface Plan {
  'Actual Rows'?: number;
  'Actual Loops'?: number;
  'Rows Removed by Filter'?: number;
  'Rows Removed by Join Filter'?: number;
  Plans?: Plan[];
}
const touchedBy = (plan: Plan): number =>
  (plan['Actual Loops'] ?? 0) *
    ((plan['Actual Rows'] ?? 0) + (plan['Rows Removed by Filter'] ?? 0) + (plan['Rows Removed by Join Filter'] ?? 0)) +
  (plan.Plans ?? []).reduce((sum, inner) => sum + touchedBy(inner), 0);

beforeAll(async () => {
  office = await openOffice();
  const iris = await office.signedIn('iris');
  const [from, to] = [
    await folder(iris, office.roots.projects, 'Here'),
    await folder(iris, office.roots.partners, 'There'),
  ];
  here = { id: from, store: await storeOf(iris, from) };
  there = { id: to, store: await storeOf(iris, to) };
  await iris.upload(office.roots.projects, 'ten.txt', BYTES);
  // Every table is known to be small: what looks best now is what must not be kept for later.
  await office.db.query('ANALYZE');
  session = new pg.Client({ connectionString: office.config.databaseUrl, options: SESSION_OPTIONS });
  await session.connect();
  await tellPlans();
});
afterAll(async () => {
  await session.end();
  await office.close();
});

/** PostgreSQL's own module tells the plan of every statement that ends, also of those inside functions. */
async function tellPlans(): Promise<void> {
  await session.query(`LOAD 'auto_explain'`);
  const how = {
    log_min_duration: '0',
    log_nested_statements: 'on',
    log_format: 'json',
    log_analyze: 'on',
    log_timing: 'off',
    log_level: 'notice',
  };
  for (const [name, value] of Object.entries(how)) await session.query(`SET auto_explain.${name} = ${value}`);
  session.on('notice', ({ message = '' }) => {
    const told = message.slice(message.indexOf('{'));
    if (message.startsWith('duration')) touched += touchedBy((JSON.parse(told) as { Plan: Plan }).Plan);
  });
}

async function touchedIn(statement: string, values: unknown[]): Promise<number> {
  touched = 0;
  await session.query(statement, values);
  return touched;
}

const ADD = `
  WITH fresh AS (
    SELECT gen_random_uuid() AS id, gen_random_uuid() AS version, $3 || ' ' || gen_random_uuid() AS name
      FROM generate_series(1, $4::int)
  ), versions AS (
    INSERT INTO file_version (id, node_id, number, sha256, size_bytes, modified_at, created_at)
      SELECT version, id, 1, $5, 10, now(), now() FROM fresh WHERE $3 = 'file'
  ) INSERT INTO node (id, store_id, parent_id, kind, name, name_key, size_bytes, version_id, created_at, changed_at)
      SELECT id, $1, $2, $3, name, name, CASE $3 WHEN 'file' THEN 10 ELSE 0 END,
             CASE $3 WHEN 'file' THEN version END, now(), now() FROM fresh`;

const CHANGES: [what: string, sql: string, place: () => { id: string; store: string } | null][] = [
  ['are renamed', `UPDATE node SET name = name || '.', name_key = name_key || '.' WHERE id = ANY($1)`, () => null],
  ['go into the trash', 'UPDATE node SET trashed_at = now() WHERE id = ANY($1)', () => null],
  ['come back', 'UPDATE node SET trashed_at = NULL WHERE id = ANY($1)', () => null],
  ['move to another store', 'UPDATE node SET parent_id = $2, store_id = $3 WHERE id = ANY($1)', () => there],
  ['move back', 'UPDATE node SET parent_id = $2, store_id = $3 WHERE id = ANY($1)', () => here],
  [
    'are removed for good',
    'UPDATE node SET purged_at = now(), trashed_at = now(), version_id = NULL WHERE id = ANY($1)',
    () => null,
  ],
  ['lose their versions', 'DELETE FROM file_version WHERE node_id = ANY($1)', () => null],
];

describe('one statement over thousands of rows, in a session that knew the office small', () => {
  it.each(['folder', 'file'] as const)('each %s is added by itself', async (kind) => {
    for (const rows of [...Array<number>(UNTIL_KEPT).fill(1), ROWS]) {
      const all = await touchedIn(ADD, [here.store, here.id, kind, rows, BLOB]);
      if (rows === ROWS) expect(all / rows).toBeLessThan(MOST_FOR_EACH);
    }
  });
  it.each(CHANGES)('they %s, each by itself', async (_, sql, place) => {
    const { rows } = await session.query<{ id: string }>(
      `SELECT id FROM node WHERE parent_id = ANY($1) AND kind = ANY($2) ORDER BY id`,
      [[here.id, there.id], sql.startsWith('DELETE') ? ['file'] : ['file', 'folder']],
    );
    const ids = rows.map((r) => r.id);
    const to = place();
    const values = to ? [to.id, to.store] : [];
    for (const id of ids.slice(0, UNTIL_KEPT)) await session.query(sql, [[id], ...values]);
    const rest = ids.slice(UNTIL_KEPT);
    expect(rest.length).toBeGreaterThanOrEqual(ROWS);
    expect((await touchedIn(sql, [rest, ...values])) / rest.length).toBeLessThan(MOST_FOR_EACH);
  });
  it('a folder above them hands nothing down any more, and does again', async () => {
    const sql = 'UPDATE node SET inherits = $2 WHERE id = $1';
    for (const folderId of Array<string>(UNTIL_KEPT).fill(there.id))
      for (const inherits of [false, true]) await session.query(sql, [folderId, inherits]);
    for (const inherits of [false, true])
      expect((await touchedIn(sql, [here.id, inherits])) / ROWS).toBeLessThan(MOST_FOR_EACH);
  });
});

it('what refers to something that is removed is found by an index', async () => {
  // Nodes, people, stores and addresses are kept, or so few that it does not matter.
  const removed = ['file_version', 'blob', 'share', 'visit', 'upload', 'tag', 'access_root'];
  const found = await office.db.query<{ of: string }[]>(
    `SELECT c.conrelid::regclass || '.' || c.conname AS of FROM pg_constraint c
      WHERE c.contype = 'f' AND c.confrelid::regclass::text = ANY($1) AND NOT EXISTS (
        SELECT 1 FROM pg_index i WHERE i.indrelid = c.conrelid
           AND (i.indkey::int2[])[0:cardinality(c.conkey) - 1] @> c.conkey)`,
    [removed],
  );
  expect(found).toEqual([]);
});
