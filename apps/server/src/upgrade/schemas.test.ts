import { createHash } from 'node:crypto';
import { DataSource } from 'typeorm';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { freshDatabase } from '../_fixtures/office.js';
import { dataSourceOptions } from '../platform/database/database.js';
import { MIGRATIONS } from '../platform/database/migrations.js';
import { copyDatabase, dropDatabase, otherDatabase, prepareDatabase } from './databases.js';

const id = (n: number) => `00000000-0000-7000-8000-${String(n).padStart(12, '0')}`;
const sha256 = createHash('sha256').update('plan').digest('hex');
const [IRIS, TOMAS, STORE, HOME, ROOT, HOME_ROOT, FOLDER, FILE, GONE, PUBLISHED] = [1, 2, 3, 4, 5, 6, 7, 8, 9, 10].map(
  id,
) as [...[string, string, string, string, string, string, string, string, string, string]];

/** A small office as the first version kept it. */
const FIRST_OFFICE = `
INSERT INTO office (name, zone) VALUES ('Saltmarsh Survey', 'Europe/London');
INSERT INTO person (id, sign_in_name, email, name, initials, role, password_hash, created_at) VALUES
  ('${IRIS}', 'iris', 'iris@saltmarsh.example', 'Iris Ward', 'IW', 'admin', 'x', '2026-01-01'),
  ('${TOMAS}', 'tomas', 'tomas@saltmarsh.example', 'Tomas Reed', 'TR', 'staff', 'x', '2026-01-01');
INSERT INTO store (id, kind, name, owner_id, created_at) VALUES
  ('${STORE}', 'common', 'Projects', NULL, '2026-01-01'), ('${HOME}', 'home', 'Tomas Reed', '${TOMAS}', '2026-01-01');
INSERT INTO store_grant (id, store_id, person_id, level) VALUES ('${id(11)}', '${STORE}', NULL, 'edit');
INSERT INTO blob (sha256, size_bytes, crc32, created_at) VALUES ('\\x${sha256}', 4, 0, '2026-01-02');
BEGIN;
INSERT INTO node (id, store_id, parent_id, kind, name, name_key, created_at, changed_at, changed_by) VALUES
  ('${ROOT}', '${STORE}', NULL, 'folder', 'Projects', 'projects', '2026-01-01', '2026-01-01', NULL),
  ('${HOME_ROOT}', '${HOME}', NULL, 'folder', 'Tomas Reed', 'tomas reed', '2026-01-01', '2026-01-01', NULL),
  ('${FOLDER}', '${STORE}', '${ROOT}', 'folder', 'Mill Lane', 'mill lane', '2026-01-02', '2026-01-02', '${IRIS}');
INSERT INTO node (id, store_id, parent_id, kind, name, name_key, size_bytes, media_type, version_id, created_at,
    changed_at, changed_by, trashed_at, trashed_by) VALUES
  ('${FILE}', '${STORE}', '${FOLDER}', 'file', 'plan.txt', 'plan.txt', 4, 'text/plain', '${id(12)}', '2026-01-02',
    '2026-01-03', '${TOMAS}', NULL, NULL),
  ('${GONE}', '${HOME}', '${HOME_ROOT}', 'file', 'old.txt', 'old.txt', 4, 'text/plain', '${id(14)}', '2026-01-02',
    '2026-01-03', '${TOMAS}', '2026-01-04', '${TOMAS}');
INSERT INTO file_version (id, node_id, number, sha256, size_bytes, modified_at, created_at, created_by) VALUES
  ('${id(13)}', '${FILE}', 1, '\\x${sha256}', 4, '2026-01-02', '2026-01-02', '${IRIS}'),
  ('${id(12)}', '${FILE}', 2, '\\x${sha256}', 4, '2026-01-03', '2026-01-03', '${TOMAS}'),
  ('${id(14)}', '${GONE}', 1, '\\x${sha256}', 4, '2026-01-02', '2026-01-02', '${TOMAS}');
COMMIT;
INSERT INTO address (id, scheme, host, is_default) VALUES ('${id(15)}', 'https', 'files.saltmarsh.example', true);
INSERT INTO share (id, title, token_hash, token_sealed, address_id, closes_at, visit_limit, created_at, created_by) VALUES
  ('${PUBLISHED}', 'Mill Lane drawings', sha256('token'), '\\x00', '${id(15)}', '2027-01-01', 5, '2026-01-05', '${IRIS}');
INSERT INTO share_item (share_id, node_id, position) VALUES ('${PUBLISHED}', '${FILE}', 0);
`;

let url: string;
beforeAll(async () => {
  url = await freshDatabase({ empty: true });
});
/** A database of the schema that a version had. */
async function upTo(count: number): Promise<void> {
  const options = dataSourceOptions(url, []);
  const db = await new DataSource({
    ...options,
    migrations: MIGRATIONS.slice(0, count),
  } as typeof options).initialize();
  try {
    await db.runMigrations({ transaction: 'each' });
    if (count === 1) await db.query(FIRST_OFFICE);
  } finally {
    await db.destroy();
  }
}

describe('a database of each earlier schema', () => {
  const made: string[] = [];
  afterAll(async () => {
    for (const name of made) await dropDatabase(otherDatabase(url, name));
  });
  // A new schema is one more: what stands below holds from each of them.
  it.each(MIGRATIONS.map((m, n) => [m.name, n + 1] as const))(
    'after %s comes to this program’s with everything in it',
    async (_, count) => {
      await upTo(count);
      const name = `${new URL(url).pathname.slice(1)}_${count}`;
      made.push(name);
      await copyDatabase(url, name);
      const next = otherDatabase(url, name);
      // Brings it up, and fails when anything of ./quay check does not hold.
      await prepareDatabase(next);
      const db = await new DataSource(dataSourceOptions(next, [])).initialize();
      const one = async (sql: string) => ((await db.query(sql)) as { found: unknown }[])[0]?.found;
      const found = {
        office: await one(`SELECT name || ' ' || zone AS found FROM office`),
        runs: await one(`SELECT 'run-server' = ANY(duties) AS found FROM person WHERE id = '${IRIS}'`),
        staffEdit: await one(
          `SELECT level AS found FROM access_grant WHERE node_id = '${ROOT}' AND subject_kind = 'staff' AND ended_at IS NULL`,
        ),
        owner: await one(`SELECT owner_id::text AS found FROM store WHERE id = '${HOME}'`),
        versions: await one(`SELECT count(*)::int AS found FROM file_version WHERE node_id = '${FILE}'`),
        bytes: await one(
          `SELECT encode(v.sha256, 'hex') AS found FROM node n JOIN file_version v ON v.id = n.version_id WHERE n.id = '${FILE}'`,
        ),
        past: await one(`SELECT count(*) > 0 AS found FROM node_past WHERE node_id = '${FILE}' AND until IS NULL`),
        trashed: await one(`SELECT trashed_at IS NOT NULL AS found FROM node WHERE id = '${GONE}'`),
        link: await one(`SELECT token_hash = sha256('token') AS found FROM share WHERE id = '${PUBLISHED}'`),
        item: await one(`SELECT node_id::text AS found FROM share_item WHERE share_id = '${PUBLISHED}'`),
      };
      await db.destroy();
      expect(found).toEqual({
        ...{ office: 'Saltmarsh Survey Europe/London', runs: true, staffEdit: 'edit', owner: TOMAS, versions: 2 },
        ...{ bytes: sha256, past: true, trashed: true, link: true, item: FILE },
      });
    },
  );
});
