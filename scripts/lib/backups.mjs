// One consistent copy of database and blobs, incremental and verified; and the way back.
import { execFileSync, spawnSync } from 'node:child_process';
import { createHash } from 'node:crypto';
import {
  createReadStream,
  createWriteStream,
  existsSync,
  mkdirSync,
  readdirSync,
  readFileSync,
  renameSync,
  rmSync,
  statSync,
  writeFileSync,
} from 'node:fs';
import { open } from 'node:fs/promises';
import { join } from 'node:path';
import { Transform } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { postgresBin } from './install.mjs';
import { fail } from './words.mjs';

const place = (root, hex) => join(root, hex.slice(0, 2), hex.slice(2, 4), hex);

/**
 * Copies the database as one snapshot, and every blob that it refers to and that is not in the backup yet.
 * @param {{databaseUrl: string, blobs: string, key: string, target: string, verifyAll: boolean, now: Date}} what
 * @returns {Promise<{folder: string, blobs: number, bytes: number, copied: number, copiedBytes: number, damaged: string[]}>}
 */
export async function backUp({ databaseUrl, blobs, key, target, verifyAll, now }) {
  const stamp = now.toISOString().replace(/[-:]/g, '').slice(0, 15);
  const folder = join(target, stamp);
  const making = `${folder}.making`;
  if (existsSync(folder)) fail(`there is a backup of this second already: ${folder}`);
  mkdirSync(join(target, 'blobs'), { recursive: true, mode: 0o700 });
  mkdirSync(making, { recursive: true, mode: 0o700 });
  const { default: pg } = await import('pg');
  // While it is held shared, the server removes no blobs.
  const { LOCKS } = await import('../../apps/server/dist/platform/locks.js');
  const client = new pg.Client({ connectionString: databaseUrl });
  await client.connect();
  try {
    // First the lock, then the snapshot: what the snapshot refers to cannot go while it is copied.
    await client.query('SELECT pg_advisory_lock_shared($1)', [LOCKS.blobsStay]);
    await client.query('BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY');
    const {
      rows: [{ snapshot }],
    } = await client.query('SELECT pg_export_snapshot() AS snapshot');
    const dump = join(making, 'database.dump');
    run(
      join(postgresBin(), 'pg_dump'),
      ['--format=custom', '--no-owner', `--snapshot=${snapshot}`, `--file=${dump}`, databaseUrl],
      'the database could not be copied',
    );
    // Where bytes lie may have been said on the screen.
    const { rows: office } = await client.query('SELECT blob_root FROM office');
    const held = office[0]?.blob_root ?? blobs;
    const { rows } = await client.query(
      `SELECT encode(b.sha256, 'hex') AS hex, b.size_bytes::float8 AS size FROM blob b WHERE EXISTS (SELECT 1 FROM file_version v WHERE v.sha256 = b.sha256) ORDER BY b.sha256`,
    );
    const answer = { folder, blobs: rows.length, bytes: 0, copied: 0, copiedBytes: 0, damaged: [] };
    for (const { hex, size } of rows) {
      answer.bytes += size;
      const there = place(join(target, 'blobs'), hex);
      if (existsSync(there) && statSync(there).size === size && (!verifyAll || (await hashOf(there)) === hex)) continue;
      if (await copyBlob(place(held, hex), there, hex)) {
        answer.copied += 1;
        answer.copiedBytes += size;
      } else answer.damaged.push(hex);
    }
    writeFileSync(join(making, 'blobs.txt'), rows.map((r) => `${r.hex} ${r.size}\n`).join(''));
    writeFileSync(join(making, 'sealing-key'), readFileSync(key), { mode: 0o600 });
    writeFileSync(
      join(making, 'manifest.json'),
      `${JSON.stringify({ at: now.toISOString(), blobs: rows.length, bytes: answer.bytes, dumpSha256: await hashOf(dump), listSha256: await hashOf(join(making, 'blobs.txt')), damaged: answer.damaged }, null, 2)}\n`,
    );
    run(join(postgresBin(), 'pg_restore'), ['--list', dump], 'the copy of the database cannot be read back', true);
    execFileSync('sync', ['-f', target]);
    renameSync(making, folder);
    execFileSync('sync', ['-f', target]);
    return answer;
  } catch (error) {
    rmSync(making, { recursive: true, force: true });
    throw error;
  } finally {
    await client.end();
  }
}

/** The backups in a folder, oldest first. */
export function backupsIn(target) {
  return existsSync(target)
    ? readdirSync(target)
        .filter((n) => /^\d{8}T\d{6}$/.test(n))
        .sort()
    : [];
}

/**
 * Puts a backup into an empty database and an empty folder for blobs. Every blob is compared with its name on the way.
 * @returns {Promise<{blobs: number, bytes: number, missing: string[]}>}
 */
export async function bringBack({ source, stamp, databaseUrl, blobs, key }) {
  const folder = join(source, stamp);
  const manifest = JSON.parse(readFileSync(join(folder, 'manifest.json'), 'utf8'));
  if (
    (await hashOf(join(folder, 'database.dump'))) !== manifest.dumpSha256 ||
    (await hashOf(join(folder, 'blobs.txt'))) !== manifest.listSha256
  )
    fail(`the backup ${stamp} is damaged. Another one may be whole: ${backupsIn(source).join(', ')}`);
  run(
    join(postgresBin(), 'pg_restore'),
    ['--no-owner', '--exit-on-error', '--single-transaction', `--dbname=${databaseUrl}`, join(folder, 'database.dump')],
    'the database could not be brought back',
  );
  await bytesLieHere(databaseUrl);
  mkdirSync(join(blobs, 'tmp'), { recursive: true, mode: 0o700 });
  const missing = [];
  let bytes = 0;
  for (const line of readFileSync(join(folder, 'blobs.txt'), 'utf8').split('\n').filter(Boolean)) {
    const [hex, size] = line.split(' ');
    if (await copyBlob(place(join(source, 'blobs'), hex), place(blobs, hex), hex)) bytes += Number(size);
    else missing.push(hex);
  }
  writeFileSync(key, readFileSync(join(folder, 'sealing-key')), { mode: 0o600 });
  execFileSync('sync', ['-f', blobs]);
  return { blobs: manifest.blobs - missing.length, bytes, missing };
}

/** What was brought back has its bytes beside it, wherever they lay before. */
async function bytesLieHere(databaseUrl) {
  const { default: pg } = await import('pg');
  const client = new pg.Client({ connectionString: databaseUrl });
  await client.connect();
  try {
    await client.query('UPDATE office SET blob_root = NULL');
  } finally {
    await client.end();
  }
}

/** Copies one blob and compares it with its name; @returns false when the source is missing or damaged */
async function copyBlob(from, to, hex) {
  if (!existsSync(from)) return false;
  mkdirSync(join(to, '..'), { recursive: true, mode: 0o700 });
  const hash = createHash('sha256');
  const making = `${to}.making`;
  await pipeline(
    createReadStream(from, { highWaterMark: 1 << 20 }),
    new Transform({
      highWaterMark: 1 << 20,
      transform(piece, _encoding, done) {
        hash.update(piece);
        done(null, piece);
      },
    }),
    createWriteStream(making, { mode: 0o600 }),
  );
  if (hash.digest('hex') !== hex) {
    rmSync(making);
    return false;
  }
  renameSync(making, to);
  return true;
}

async function hashOf(path) {
  const hash = createHash('sha256');
  const file = await open(path);
  for await (const piece of file.createReadStream({ highWaterMark: 1 << 20 })) hash.update(piece);
  return hash.digest('hex');
}

function run(command, args, words, quiet = false) {
  const done = spawnSync(command, args, { encoding: 'utf8', stdio: ['ignore', quiet ? 'ignore' : 'pipe', 'pipe'] });
  if (done.status !== 0) fail(`${words}: ${(done.stderr ?? '').trim().split('\n').at(-1)}`);
}
