// Measurements of Stores: long folders, search, many small files, resumable uploads, thumbnails. Used by bench.mjs.
import { execFileSync } from 'node:child_process';
import { randomBytes, randomUUID } from 'node:crypto';
import { mkdirSync, openSync, readdirSync, readFileSync, rmSync, statSync, writeFileSync } from 'node:fs';
import { Agent, request } from 'node:http';
import { join } from 'node:path';

const GIB = 1024 ** 3;
/** Bytes in so many seconds, as MB/s. */
const rates = (times, bytes) => times.map((t) => bytes / t / 1e6);

/** @param tools {quay, work, databaseUrl, root, rounds, report, median, seconds, say, peak, writeRandom} of bench.mjs */
export async function measureStores(tools) {
  const { default: pg } = await import('pg');
  const db = new pg.Client({ connectionString: tools.databaseUrl });
  await db.connect();
  try {
    await resumable(tools);
    await smallFiles(tools);
    tools.peak('many small files and resumable uploads');
    await thumbnails(tools);
    await longFolder(tools, db);
    await search(tools);
    tools.peak('long folders, search and thumbnails');
  } finally {
    await db.end();
  }
}

/** One request over kept connections; @returns the body as text */
const agent = new Agent({ keepAlive: true, maxSockets: 8 });
function ask(quay, method, path, headers = {}, body) {
  return new Promise((resolve, reject) => {
    const req = request(quay.origin + path, { method, agent, headers: { cookie: quay.cookie, ...headers } }, (res) => {
      const pieces = [];
      res.on('data', (p) => pieces.push(p));
      res.on('end', () =>
        res.statusCode < 300
          ? resolve({ text: Buffer.concat(pieces).toString(), headers: res.headers })
          : reject(new Error(`${res.statusCode} ${Buffer.concat(pieces)}`)),
      );
    });
    req.on('error', reject);
    req.end(body);
  });
}

async function resumable({ quay, work, root, rounds, report, seconds, writeRandom }) {
  const source = join(work, 'resumable');
  writeRandom(source, GIB);
  const { id: folder } = await quay.json('POST', `/api/folders/${root}/folders`, { name: 'resumable' });
  const times = { tus: [], plain: [] };
  const b64 = (t) => Buffer.from(t).toString('base64');
  for (let round = 0; round < rounds; round += 1) {
    const file = openSync(source, 'r+');
    const { writeSync, fsyncSync, closeSync } = await import('node:fs');
    // Other bytes each time, so that nothing is there already.
    for (const kind of ['tus', 'plain']) {
      writeSync(file, randomBytes(4096), 0, 4096, 0);
      fsyncSync(file);
      if (kind === 'plain')
        times.plain.push(seconds(() => quay.curl(`/api/folders/${folder}/files?name=plain${round}.bin`, '-T', source)));
      else {
        const began = performance.now();
        const { headers } = await ask(quay, 'POST', '/api/uploads', {
          'Tus-Resumable': '1.0.0',
          'Upload-Length': GIB,
          'Upload-Metadata': `folderId ${b64(folder)},name ${b64(`tus${round}.bin`)}`,
        });
        quay.curl(
          headers.location,
          '-X',
          'PATCH',
          '-T',
          source,
          '-H',
          'Tus-Resumable: 1.0.0',
          '-H',
          'Upload-Offset: 0',
          '-H',
          'Content-Type: application/offset+octet-stream',
        );
        times.tus.push((performance.now() - began) / 1000);
      }
    }
    closeSync(file);
  }
  report('resumable upload of 1 GiB (tus)', rates(times.tus, GIB), 'MB/s', [
    ['plain upload', rates(times.plain, GIB), 0.9],
  ]);
  rmSync(source);
}

async function smallFiles({ quay, work, root, rounds, report, seconds }) {
  const { TAR_END, tarHead, tarPadding } = await import('../packages/core/dist/index.js');
  const count = 10_000;
  const source = join(work, 'small');
  for (let f = 0; f < 100; f += 1) {
    mkdirSync(join(source, `folder ${f}`), { recursive: true });
    for (let i = 0; i < count / 100; i += 1)
      writeFileSync(join(source, `folder ${f}`, `file ${i}.bin`), randomBytes(2000 + ((f * 37 + i * 101) % 6000)));
  }
  const times = { ours: [], cp: [] };
  for (let round = 0; round < rounds; round += 1) {
    // Other bytes each round, or the second would find every blob there.
    for (const folder of readdirSync(source))
      for (const name of readdirSync(join(source, folder))) {
        const path = join(source, folder, name);
        writeFileSync(path, randomBytes(statSync(path).size));
      }
    execFileSync('sync');
    const { id } = await quay.json('POST', `/api/folders/${root}/folders`, { name: `small ${round}` });
    const began = performance.now();
    const waiting = readdirSync(source).flatMap((folder) =>
      readdirSync(join(source, folder)).map((name) => [folder, name]),
    );
    const lane = async () => {
      while (waiting.length) {
        const parts = [];
        for (const [folder, name] of waiting.splice(0, 250)) {
          const bytes = readFileSync(join(source, folder, name));
          parts.push(tarHead(`${folder}/${name}`, bytes.length, Date.now()), bytes, tarPadding(bytes.length));
        }
        const answer = JSON.parse(
          (
            await ask(
              quay,
              'PUT',
              `/api/folders/${id}/batch?batchId=${randomUUID()}`,
              { 'content-type': 'application/x-tar' },
              Buffer.concat([...parts, TAR_END]),
            )
          ).text,
        );
        if (answer.entries.some((e) => !e.answer)) throw new Error('a small file was refused');
      }
    };
    await Promise.all([lane(), lane(), lane()]);
    times.ours.push((performance.now() - began) / 1000);
    times.cp.push(
      seconds(() => execFileSync('sh', ['-c', `cp -r "${source}" "${join(work, `copy ${round}`)}" && sync`])),
    );
    rmSync(join(work, `copy ${round}`), { recursive: true });
  }
  report(
    '10,000 small files, flushed',
    times.ours.map((t) => count / t),
    'files/s',
    [['cp -r and sync', times.cp.map((t) => count / t), null]],
  );
}

async function thumbnails({ quay, work, root, report }) {
  const { createRequire } = await import('node:module');
  const sharp = createRequire(new URL('../apps/server/package.json', import.meta.url))('sharp');
  const count = 24;
  const photographs = [];
  for (let i = 0; i < count; i += 1)
    photographs.push(
      await sharp(randomBytes(400 * 300 * 3), { raw: { width: 400, height: 300, channels: 3 } })
        .resize(3000, 2250)
        .jpeg({ quality: 82 })
        .toBuffer(),
    );
  const { id } = await quay.json('POST', `/api/folders/${root}/folders`, { name: 'photographs' });
  for (const [i, bytes] of photographs.entries())
    await quay.json('PUT', `/api/folders/${id}/files?name=p${i}.jpg`, bytes);
  const { items } = JSON.parse((await ask(quay, 'GET', `/api/folders/${id}`)).text);
  const began = performance.now();
  const isMade = async (one) => (await ask(quay, 'GET', `/api/files/${one}/thumb`)).text.startsWith('RIFF');
  // Some have been made while the later ones were uploaded: those are not counted.
  const left = [];
  for (const { id: one } of items) if (!(await isMade(one))) left.push(one);
  const asked = left.length;
  // One question at a time: asking for all of them all the time would take a core from making them.
  for (const one of left) while (!(await isMade(one))) await new Promise((resolve) => setTimeout(resolve, 50));
  const ours = asked / ((performance.now() - began) / 1000);
  const folder = join(work, 'bare');
  mkdirSync(folder);
  sharp.concurrency(1);
  const start = performance.now();
  let next = 0;
  const lane = async () => {
    while (next < count) {
      const i = next++;
      const opened = sharp(photographs[i]).autoOrient();
      await Promise.all(
        [
          [1800, 82],
          [320, 72],
        ].map(([size, quality]) =>
          opened
            .clone()
            .resize(size, size, { fit: 'inside', withoutEnlargement: true })
            .webp({ quality, effort: 2 })
            .toFile(join(folder, `${i}-${size}.webp`)),
        ),
      );
    }
  };
  await Promise.all([lane(), lane()]);
  report('photographs of 6.7 megapixels, both sizes', [ours], 'files/s', [
    ['the image library alone', [count / ((performance.now() - start) / 1000)], null],
  ]);
}

async function longFolder({ quay, root, rounds, report }, db) {
  const { id: folder } = await quay.json('POST', `/api/folders/${root}/folders`, { name: 'hundred thousand' });
  await fillNodes(db, folder, 100_000, 'Survey point ');
  await db.query('ANALYZE node');
  const times = { ours: [], sql: [] };
  for (let round = 0; round < rounds; round += 1) {
    let began = performance.now();
    let seen = 0;
    for (let after = ''; after !== null;) {
      const page = JSON.parse((await ask(quay, 'GET', `/api/folders/${folder}${after ? `?after=${after}` : ''}`)).text);
      seen += page.items.length;
      after = page.next;
    }
    times.ours.push(performance.now() - began);
    if (seen !== 100_000) throw new Error(`${seen} items were listed`);
    began = performance.now();
    let last = null;
    for (;;) {
      const { rows } = await db.query({
        text: `SELECT n.id, n.parent_id, n.kind, n.name, n.size_bytes, n.media_type, n.changed_at, p.name AS by, v.number, n.litter, EXISTS (SELECT 1 FROM pin WHERE pin.node_id = n.id) AS pinned, ARRAY(SELECT tag_id FROM node_tag t WHERE t.node_id = n.id) AS tags, CASE WHEN n.kind = 'folder' THEN (SELECT count(*) FROM node c WHERE c.parent_id = n.id AND c.trashed_at IS NULL AND NOT c.litter) END AS items FROM node n LEFT JOIN person p ON p.id = n.changed_by LEFT JOIN file_version v ON v.id = n.version_id WHERE n.parent_id = $1 AND n.sort_kind = 0 AND n.trashed_at IS NULL ${last ? 'AND (n.name COLLATE natural_order, n.id) > ($2, $3)' : ''} ORDER BY n.name COLLATE natural_order, n.id LIMIT 500`,
        values: last ? [folder, last.name, last.id] : [folder],
      });
      if (rows.length === 0) break;
      last = rows.at(-1);
    }
    times.sql.push(performance.now() - began);
  }
  report(
    'a folder of 100,000, page by page',
    times.ours.map((t) => 1e8 / t),
    'items/s',
    [['the bare SQL query', times.sql.map((t) => 1e8 / t), 0.5]],
  );
}

async function search({ quay, say }) {
  const queries = [
    'text=parapet',
    'text=culvert%20job%20999',
    'text=99999',
    'text=nothing-like-it',
    'text=se',
    'text=elevation&kind=pdf',
    'kind=image',
    'text=control%20job%200%2054315',
    'text=photograph&storeId=',
    'minBytes=1000000',
    `from=${new Date(Date.now() - 3_600_000).toISOString()}&kind=text`,
  ].map((q) => q.replace(/&storeId=$/, ''));
  const times = [];
  for (let round = 0; round < 3; round += 1)
    for (const q of queries) {
      const began = performance.now();
      await ask(quay, 'GET', `/api/find?${q}`);
      times.push([performance.now() - began, q]);
    }
  times.sort((a, b) => a[0] - b[0]);
  say(
    `search over one million names        median ${times[Math.floor(times.length / 2)][0].toFixed(0)} ms, slowest ${times.at(-1)[0].toFixed(0)} ms (${decodeURIComponent(times.at(-1)[1])}; goal 200 ms)`,
  );
}

/** Folders by name alone, as many as wanted: what lists and finds them sees no difference. */
async function fillNodes(db, folder, count, stem) {
  await db.query('ALTER TABLE node DISABLE TRIGGER node_remembers');
  await db.query(
    `INSERT INTO node (id, store_id, parent_id, kind, name, name_key, created_at, changed_at) SELECT gen_random_uuid(), p.store_id, p.id, 'folder', $2 || i, lower($2) || i, now(), now() - i * interval '1 second' FROM node p, generate_series(1, $3::int) i WHERE p.id = $1`,
    [folder, stem, count],
  );
  await db.query('ALTER TABLE node ENABLE TRIGGER node_remembers');
}

const WORDS = [
  ...['level', 'section', 'elevation', 'boundary', 'photograph'],
  ...['control', 'drainage', 'culvert', 'retaining', 'parapet'],
];

/**
 * A million items of other people in the store of the office, as offices have them: one folder of half a million files,
 * the others in thirty thousand folders. Past the triggers, with all that the triggers would have written.
 * @returns how many there are
 */
export async function fillServer(databaseUrl) {
  const { default: pg } = await import('pg');
  const db = new pg.Client({ connectionString: databaseUrl });
  await db.connect();
  await db.query('BEGIN');
  await db.query('SET LOCAL session_replication_role = replica');
  const { rows: indexes } = await db.query(
    `SELECT indexname, indexdef FROM pg_indexes WHERE tablename = 'node' AND indexname <> 'node_children'
       AND indexname::regclass NOT IN (SELECT conindid FROM pg_constraint WHERE conindid <> 0)`,
  );
  // A dozen indexes grow faster together than a million times one by one.
  for (const { indexname } of indexes) await db.query(`DROP INDEX ${indexname}`);
  const columns =
    'id, store_id, parent_id, kind, name, name_key, size_bytes, media_type, version_id, created_at, changed_at';
  const sha256 = `\\x${'ab'.repeat(32)}`;
  const {
    rows: [top],
  } = await db.query(
    `SELECT n.id, n.store_id FROM node n JOIN store s ON s.id = n.store_id WHERE s.name = 'Office' AND n.parent_id IS NULL`,
  );
  await db.query('INSERT INTO blob (sha256, size_bytes, crc32, created_at) VALUES ($1, 10, 0, now())', [sha256]);
  await db.query(
    `INSERT INTO node (${columns}) SELECT gen_random_uuid(), $2, $1, 'folder', 'Job ' || i, 'job ' || i, 0, NULL, NULL, now(), now()
       FROM generate_series(0, 33333) i`,
    [top.id, top.store_id],
  );
  await db.query(
    `WITH fresh AS (
       SELECT p.id AS parent, w.word || ' ' || p.name || ' ' || i || '.pdf' AS name, i
         FROM node p CROSS JOIN LATERAL generate_series(1, CASE p.name WHEN 'Job 0' THEN 500000 ELSE 15 END) i
         CROSS JOIN LATERAL (SELECT ($3::text[])[1 + i % 10] AS word) w
        WHERE p.parent_id = $1 AND p.name LIKE 'Job %'
     ), files AS (SELECT gen_random_uuid() AS id, gen_random_uuid() AS version, * FROM fresh), versions AS (
       INSERT INTO file_version (id, node_id, number, sha256, size_bytes, modified_at, created_at)
         SELECT version, id, 1, $4, 10, now(), now() FROM files
     ) INSERT INTO node (${columns})
         SELECT id, $2, parent, 'file', name, lower(name), 10, 'application/pdf', version, now(), now() - i * interval '1 second' FROM files`,
    [top.id, top.store_id, WORDS, sha256],
  );
  for (const { indexdef } of indexes) await db.query(indexdef);
  await db.query(
    `INSERT INTO folder_access (folder_id, root) SELECT n.id, a.root FROM node n JOIN folder_access a ON a.folder_id = n.parent_id
      WHERE n.parent_id = $1 AND n.kind = 'folder' ON CONFLICT DO NOTHING`,
    [top.id],
  );
  await db.query(
    `INSERT INTO node_past (node_id, parent_id, kind, name, version_id, trashed, since)
       SELECT n.id, n.parent_id, n.kind, n.name, n.version_id, false, n.created_at FROM node n
        WHERE n.store_id = $1 AND NOT EXISTS (SELECT 1 FROM node_past t WHERE t.node_id = n.id)`,
    [top.store_id],
  );
  await db.query(
    `INSERT INTO weight_change (folder_id, files, bytes, litter_files, litter_bytes)
       SELECT n.parent_id, count(*), sum(n.size_bytes), 0, 0 FROM node n JOIN file_version v ON v.node_id = n.id
        WHERE n.store_id = $1 AND v.sha256 = $2 GROUP BY n.parent_id`,
    [top.store_id, sha256],
  );
  await db.query(
    `INSERT INTO store_blob (store_id, sha256, size_bytes, person_id, refs) SELECT $1, $2, 10, NULL, count(*) FROM file_version WHERE sha256 = $2`,
    [top.store_id, sha256],
  );
  await db.query(
    `UPDATE store s SET used_bytes = used_bytes + 10, versions = versions + b.refs, version_bytes = version_bytes + b.refs * 10
       FROM store_blob b WHERE b.store_id = s.id AND s.id = $1 AND b.sha256 = $2`,
    [top.store_id, sha256],
  );
  await db.query('COMMIT');
  await db.query('SELECT weights_fold(10000000)');
  await db.query('VACUUM ANALYZE');
  const {
    rows: [{ count }],
  } = await db.query('SELECT count(*)::int FROM node WHERE store_id = $1', [top.store_id]);
  await db.end();
  return count;
}
