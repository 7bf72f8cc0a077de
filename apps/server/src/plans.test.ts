import type { FolderPage } from '@quay/contract';
import pg from 'pg';
import { afterAll, beforeAll, expect, it } from 'vitest';
import { folder, storeOf, trash } from './_fixtures/acts.js';
import { openOffice, type Client, type TestOffice } from './_fixtures/office.js';

// A tree as offices have them: one folder of 30,000 files, one chain of 60 folders, thousands of small ones. The planner
// expects the same of every folder, and what it then thinks best reads whole tables (access.md measured 240 ms for 4).

/** QUAY_ITEMS=1000000 makes it a million. */
const ITEMS = Number(process.env['QUAY_ITEMS'] ?? 60_000);
const LARGE = { folders: Math.round(ITEMS / 30), filesEach: 15, inOne: Math.round(ITEMS / 2), deep: 60, shares: 3000 };
/** Tables that grow with what an office keeps: none of them is read from its beginning to its end for one answer. */
const NEVER_WHOLE = [
  ...['node', 'file_version', 'folder_access', 'folder_weight', 'node_past', 'blob', 'store_blob'],
  ...['share_item', 'share_path'],
];

let office: TestOffice;
let iris: Client;
let rosa: Client;
let place: string;
let photographs: string;
beforeAll(async () => {
  office = await openOffice();
  [iris, rosa] = await Promise.all([office.signedIn('iris'), office.signedIn('rosa')]);
  place = await folder(iris, office.roots.projects, 'Archive');
  await grow();
}, 600_000);
// What was grown past the triggers has neither a past nor versions, so it is not asked what is left.
afterAll(() => office.close({ broken: 'rows that were made without triggers' }));

/** Rows past the triggers, as they would be: a minute of work in a few seconds. */
async function grow(): Promise<void> {
  const db = new pg.Client({ connectionString: office.config.databaseUrl });
  await db.connect();
  await db.query('BEGIN');
  // Foreign keys are looked up by plans that a connection keeps from when the tables were small.
  await db.query('SET enable_seqscan = off');
  for (const table of ['node', 'file_version']) await db.query(`ALTER TABLE ${table} DISABLE TRIGGER USER`);
  const columns =
    'id, store_id, parent_id, kind, name, name_key, size_bytes, media_type, version_id, created_at, changed_at';
  const folders = async (parent: string | undefined, stem: string, count: number): Promise<string> => {
    const { rows } = await db.query<{ id: string }>(
      `INSERT INTO node (${columns})
       SELECT gen_random_uuid(), p.store_id, p.id, 'folder', $2 || i, lower($2) || i, 0, NULL, NULL, now(), now()
         FROM node p, generate_series(1, $3::int) i WHERE p.id = $1 RETURNING id`,
      [parent, stem, count],
    );
    return rows[0]?.id as string;
  };
  await folders(place, 'Job ', LARGE.folders);
  let deep = place;
  for (let level = 0; level < LARGE.deep; level += 1) deep = await folders(deep, `Level ${level} `, 1);
  photographs = await folders(place, 'Photographs ', 1);
  const sha256 = `\\x${'ab'.repeat(32)}`;
  await db.query('INSERT INTO blob (sha256, size_bytes, crc32, created_at) VALUES ($1, 10, 0, now())', [sha256]);
  await db.query(
    `WITH fresh AS (
       SELECT gen_random_uuid() AS id, gen_random_uuid() AS version, p.id AS parent, p.store_id, p.name || ' file ' || i || '.pdf' AS name
         FROM node p, generate_series(1, CASE WHEN p.id = $2 THEN $4::int ELSE $3::int END) i
        WHERE p.parent_id = $1 AND p.kind = 'folder'
     ), files AS (
       INSERT INTO node (${columns})
       SELECT id, store_id, parent, 'file', name, lower(name), 10, 'application/pdf', version, now(), now() FROM fresh
     ) INSERT INTO file_version (id, node_id, number, sha256, size_bytes, modified_at, created_at)
       SELECT version, id, 1, $5, 10, now(), now() FROM fresh`,
    [place, photographs, LARGE.filesEach, LARGE.inOne, sha256],
  );
  await db.query(
    `INSERT INTO folder_access (folder_id, root) SELECT n.id, r.id FROM node n JOIN access_root r ON r.folder_id = $1
      WHERE n.kind = 'folder' ON CONFLICT DO NOTHING`,
    [office.roots.projects],
  );
  await db.query(
    `INSERT INTO node_past (node_id, parent_id, kind, name, version_id, trashed, since)
     SELECT id, parent_id, kind, name, version_id, false, created_at FROM node ON CONFLICT DO NOTHING`,
  );
  await db.query(
    `INSERT INTO weight_change (folder_id, files, bytes, litter_files, litter_bytes)
     SELECT parent_id, count(*), sum(size_bytes), 0, 0 FROM node WHERE kind = 'file' GROUP BY parent_id`,
  );
  await db.query('SET CONSTRAINTS ALL IMMEDIATE');
  for (const table of ['node', 'file_version']) await db.query(`ALTER TABLE ${table} ENABLE TRIGGER USER`);
  await db.query('COMMIT');
  await db.query('SELECT weights_fold(10000000)');
  await db.query(
    `INSERT INTO share (id, title, message, token_hash, token_sealed, address_id, closes_at, created_at, created_by)
     SELECT gen_random_uuid(), 'Share ' || n, '', sha256(n::text::bytea), '', (SELECT id FROM address LIMIT 1),
            $2::timestamptz + make_interval(hours => n - $1), $2::timestamptz - make_interval(days => n),
            (SELECT id FROM person WHERE role <> 'guest' ORDER BY id OFFSET n % 3 LIMIT 1) FROM generate_series(1, $1::int) n`,
    [LARGE.shares, office.clock.date()],
  );
  await db.query(
    `INSERT INTO share_item (share_id, node_id, position)
     SELECT s.id, n.id, 0 FROM (SELECT id, row_number() OVER () AS at FROM share) s
       JOIN (SELECT id, row_number() OVER () AS at FROM node WHERE parent_id = $1 LIMIT $2) n USING (at)`,
    [place, LARGE.shares],
  );
  await db.query('ANALYZE');
  await db.end();
}

interface Plan {
  'Node Type': string;
  'Relation Name'?: string;
  Plans?: Plan[];
}
const scans = (plan: Plan): string[] => [
  ...(plan['Node Type'].endsWith('Seq Scan') && NEVER_WHOLE.includes(plan['Relation Name'] ?? '')
    ? [plan['Relation Name'] as string]
    : []),
  ...(plan.Plans ?? []).flatMap(scans),
];

interface Asked {
  text: string;
  values: unknown[];
  /** What was set for that transaction alone. */
  settings: string[];
}

/** What an act asks the database. */
async function askedBy(act: () => Promise<unknown>): Promise<Asked[]> {
  const asked: Asked[] = [];
  const settings = new Map<pg.Client, string[]>();
  const query = pg.Client.prototype.query as (...given: unknown[]) => unknown;
  pg.Client.prototype.query = function (this: pg.Client, ...given: unknown[]) {
    const [text, values] = given;
    if (typeof text === 'string') {
      if (text.startsWith('SET LOCAL')) settings.set(this, [...(settings.get(this) ?? []), text]);
      if (/^(COMMIT|ROLLBACK)/.test(text)) settings.delete(this);
      if (/^\s*(SELECT|WITH)/.test(text) && !/pgboss|jobs\./.test(text))
        asked.push({
          text,
          values: Array.isArray(values) ? [...(values as unknown[])] : [],
          settings: settings.get(this) ?? [],
        });
    }
    return query.apply(this, given);
  } as typeof pg.Client.prototype.query;
  try {
    await act();
  } finally {
    pg.Client.prototype.query = query as typeof pg.Client.prototype.query;
  }
  return asked;
}

/** The tables that an act has read whole, by the plans of what it asks. */
async function wholeTables(act: () => Promise<unknown>): Promise<string[]> {
  const asked = new Map((await askedBy(act)).map((a) => [a.text, a]));
  expect(asked.size).toBeGreaterThan(0);
  const found: string[] = [];
  for (const { text, values, settings } of asked.values()) {
    const plan = await office.db.transaction(async (tx) => {
      for (const setting of settings) await tx.query(setting);
      const [row] = await tx.query<{ 'QUERY PLAN': { Plan: Plan }[] }[]>(`EXPLAIN (FORMAT JSON) ${text}`, values);
      return row?.['QUERY PLAN'][0]?.Plan;
    });
    for (const table of plan ? scans(plan) : []) found.push(`${table}: ${text.slice(0, 300)}`);
  }
  return found;
}

const get =
  (path: string, by = iris) =>
  async () => {
    const { status } = await by.ask('GET', path);
    expect([path, status]).toEqual([path, 200]);
  };

it.each([
  ['the list of stores', () => '/api/stores'],
  ['a page of a small folder', () => `/api/folders/${place}`],
  ['a page by size', () => `/api/folders/${place}?sort=size&descending=true`],
  ['what is to be known of a folder', () => `/api/nodes/${place}`],
  ['a word that is rare', () => '/api/find?text=level%2059'],
  ['a word that is common', () => '/api/find?text=file'],
  ['files by kind', () => '/api/find?kind=pdf'],
  ['what was changed last', () => '/api/recent'],
  ['what is pinned', () => '/api/pins'],
])('%s reads no table whole', async (_words, path) => {
  expect(await wholeTables(get(path()))).toEqual([]);
  expect(await wholeTables(get(path(), rosa))).toEqual([]);
});

it('what a store holds, its trash and its past read no table whole', async () => {
  const storeId = await storeOf(iris, place);
  const { items } = (await iris.ask<FolderPage>('GET', `/api/folders/${place}`)).body;
  await trash(iris, [items[0]?.id as string]);
  expect(await wholeTables(get(`/api/stores/${storeId}/trash`))).toEqual([]);
  expect(
    await wholeTables(() => iris.ask('POST', '/api/sizes', { nodeIds: items.slice(1, 50).map((i) => i.id) })),
  ).toEqual([]);
  expect(await wholeTables(get(`/api/folders/${place}/past?at=${office.clock.date().toISOString()}`))).toEqual([]);
});

it('who reaches what, now and at a moment, reads no table whole', async () => {
  const then = encodeURIComponent(new Date(office.clock.now() - 1000).toISOString());
  expect(await wholeTables(get('/api/access/table'))).toEqual([]);
  expect(await wholeTables(get(`/api/access/table?at=${then}`))).toEqual([]);
  expect(await wholeTables(get(`/api/access/shifts?since=${then}`))).toEqual([]);
  expect(await wholeTables(get('/api/access/moments'))).toEqual([]);
  expect(await wholeTables(get('/api/people'))).toEqual([]);
  const [tomas] = await office.db.query<{ id: string }[]>(`SELECT id FROM person WHERE sign_in_name = 'tomas'`);
  expect(await wholeTables(get(`/api/people/${tomas?.id}`))).toEqual([]);
  expect(await wholeTables(get(`/api/people/${tomas?.id}/leaving`))).toEqual([]);
});

it('a share of a few files, its door, its sheet and the list read no table whole', async () => {
  const { items } = (await iris.ask<FolderPage>('GET', `/api/folders/${place}`)).body;
  const share = await office.publish(iris, [items[1]?.id as string, items[2]?.id as string]);
  expect(await wholeTables(get(`/s/${share.token}/door`, office.client()))).toEqual([]);
  expect(await wholeTables(get(`/api/shares/${share.id}`))).toEqual([]);
  for (const query of ['', '?state=broken', '?sort=title', '?sort=visited&state=open', '?find=share%2012'])
    expect(await wholeTables(get(`/api/shares${query}`))).toEqual([]);
  expect(await wholeTables(get('/api/shares?sort=closes', rosa))).toEqual([]);
  expect(await wholeTables(get('/api/shares/today?from=2026-11-17T00:00:00Z&to=2026-12-30T00:00:00Z'))).toEqual([]);
  expect(
    await wholeTables(() => iris.ask('POST', '/api/shares/marks', { nodeIds: items.slice(0, 99).map((i) => i.id) })),
  ).toEqual([]);
});

it('the door of a share asks three questions at the most, however much is in its folder', async () => {
  const small = await office.publish(iris, [place]);
  const large = await office.publish(iris, [photographs]);
  const asked = async (token: string) => {
    const door = get(`/s/${token}/door`, office.client());
    return (await askedBy(door)).map((a) => a.text);
  };
  const questions = await asked(large.token);
  expect(questions.length).toBeGreaterThan(0);
  expect(questions.length).toBeLessThanOrEqual(3);
  expect(await asked(small.token)).toEqual(questions);
});
