// Measurements of access: what a page costs once much was granted, the table of everybody, who reaches a folder. Used by
// bench.mjs.
const STAFF = 500;
const GROUPS = 500;
const FOLDERS = 300;
/** On each of the folders; 5,100 in all. */
const GRANTS = 17;
const TRIES = 40;

/** @param tools {quay, databaseUrl, root, say, median} of bench.mjs */
export async function measurePeople({ quay, databaseUrl, root, say, median }) {
  const { default: pg } = await import('pg');
  const db = new pg.Client({ connectionString: databaseUrl });
  await db.connect();
  const times = async (path, how = 'GET', body = undefined) => {
    const took = [];
    for (let i = 0; i < TRIES; i += 1) {
      const began = performance.now();
      await quay.json(how, path, body);
      took.push(performance.now() - began);
    }
    return took;
  };
  const told = (what, values, goal) =>
    say(
      `${what.padEnd(42)}${median(values).toFixed(1)} ms (${Math.min(...values).toFixed(1)} to ${Math.max(...values).toFixed(1)}), goal ${goal}`,
    );
  try {
    const { id: page } = await quay.json('POST', `/api/folders/${root}/folders`, { name: 'page of 200' });
    await db.query(
      `INSERT INTO node (id, store_id, parent_id, kind, name, name_key, created_at, changed_at)
        SELECT gen_random_uuid(), n.store_id, n.id, 'folder', 'Item ' || i, 'item ' || i, now(), now()
          FROM node n CROSS JOIN generate_series(1, 200) i WHERE n.id = $1`,
      [page],
    );
    await times(`/api/folders/${page}`);
    const bare = await times(`/api/folders/${page}`);
    await grantMuch(db, root);
    await times(`/api/folders/${page}`);
    const after = await times(`/api/folders/${page}`);
    told('a page of 200 items', bare, '-');
    told(`the same with ${FOLDERS * GRANTS} grants, ${GROUPS} groups`, after, `${(median(bare) + 2).toFixed(1)} ms`);
    told(`who reaches what, ${STAFF} x ${FOLDERS}`, await times('/api/access/table'), '300 ms');
    const then = new Date(Date.now() - 3600_000).toISOString();
    told('the same an hour ago', await times(`/api/access/table?at=${then}`), '300 ms');
    told('what has shifted since', await times(`/api/access/shifts?since=${then}`), '-');
    told('who reaches a folder', await times(`/api/folders/${page}/access`), '100 ms');
    const grant = { folderId: page, subject: { kind: 'staff' }, level: 'view' };
    told('a change that is only tried', await times('/api/access/trials', 'POST', { grant }), '-');
  } finally {
    await db.end();
  }
}

/** An office of five hundred people and groups, each of them granted this and that. */
async function grantMuch(db, root) {
  const numbered = (what) => `(SELECT id, row_number() OVER (ORDER BY name, id) AS n FROM ${what})`;
  await db.query(`INSERT INTO person (id, sign_in_name, email, name, initials, role, password_hash, created_at)
    SELECT gen_random_uuid(), 'many' || i, 'many' || i || '@saltmarsh.example', 'Person ' || i, 'P', 'staff', '',
      now() - interval '30 days' FROM generate_series(1, ${STAFF}) i`);
  await db.query(`INSERT INTO people_group (id, name, since)
    SELECT gen_random_uuid(), 'Group ' || i, now() - interval '30 days' FROM generate_series(1, ${GROUPS}) i`);
  await db.query(`INSERT INTO membership (id, group_id, person_id, source, since)
    SELECT gen_random_uuid(), g.id, p.id, 'hand', now() - interval '29 days'
      FROM ${numbered('person')} p JOIN ${numbered('people_group')} g ON g.n IN (p.n % ${GROUPS} + 1, p.n * 7 % ${GROUPS} + 1)
      ON CONFLICT DO NOTHING`);
  // Each group is in another of half its number: eight deep.
  await db.query(`INSERT INTO membership (id, group_id, member_group_id, source, since)
    SELECT gen_random_uuid(), a.id, b.id, 'hand', now() - interval '29 days'
      FROM ${numbered('people_group')} a JOIN ${numbered('people_group')} b ON b.n = a.n * 2`);
  await db.query(
    `INSERT INTO node (id, store_id, parent_id, kind, name, name_key, created_at, changed_at)
      SELECT gen_random_uuid(), n.store_id, n.id, 'folder', 'Granted ' || i, 'granted ' || i, now() - interval '30 days',
        now() - interval '30 days' FROM node n CROSS JOIN generate_series(1, ${FOLDERS}) i WHERE n.id = $1`,
    [root],
  );
  await db.query(
    `INSERT INTO access_grant (id, node_id, subject_kind, person_id, group_id, level, since)
      SELECT gen_random_uuid(), f.id, CASE WHEN i % 2 = 0 THEN 'person' ELSE 'group' END,
        CASE WHEN i % 2 = 0 THEN p.id END, CASE WHEN i % 2 = 1 THEN g.id END, 'edit', now() - interval '28 days'
        FROM ${numbered(`node WHERE parent_id = $1 AND name LIKE 'Granted %'`)} f CROSS JOIN generate_series(1, ${GRANTS}) i
        JOIN ${numbered(`person WHERE role = 'staff'`)} p ON p.n = (f.n * 17 + i * 29) % ${STAFF} + 1
        JOIN ${numbered('people_group')} g ON g.n = (f.n * 13 + i * 31) % ${GROUPS} + 1`,
    [root],
  );
  await db.query('ANALYZE');
}
