import { fork, type ChildProcess } from 'node:child_process';
import { createHash, randomBytes } from 'node:crypto';
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join, resolve } from 'node:path';
import { DataSource } from 'typeorm';
import { expect } from 'vitest';
import { ENTITIES } from '../app.module.js';
import { checkInvariants } from '../check/invariants.js';
import { DiskBlobStore } from '../platform/blobs/disk-blob-store.js';
import { dataSourceOptions } from '../platform/database/database.js';
import { freePort } from './free-port.js';
import { Client, freshDatabase, openOffice, PASSWORDS } from './office.js';

/** The compiled server as a process of its own, when it serves. */
export async function startServer(env: NodeJS.ProcessEnv): Promise<ChildProcess> {
  const child = fork(resolve(import.meta.dirname, '../../dist/main.js'), [], {
    env: { ...process.env, ...env },
    stdio: ['ignore', 'ignore', 'ignore', 'ipc'],
  });
  await new Promise<void>((done, failed) =>
    child.once('message', (m: { ready?: boolean; failed?: string }) =>
      m.ready ? done() : failed(new Error(m.failed)),
    ),
  );
  return child;
}

/** An office on a database and a folder of its own, and what a server process needs to serve it. */
export async function officeForServers(folder: string) {
  const databaseUrl = await freshDatabase();
  const furnished = await openOffice({ databaseUrl });
  await furnished.close();
  writeFileSync(join(folder, 'key'), randomBytes(32).toString('hex'));
  const port = await freePort();
  const env = {
    QUAY_DATABASE_URL: databaseUrl,
    QUAY_BLOBS: join(folder, 'blobs'),
    QUAY_KEY_FILE: join(folder, 'key'),
    QUAY_PORT: String(port),
    QUAY_LOG: 'silent',
  };
  return { databaseUrl, port, env, roots: furnished.roots };
}

/** Small numbers that are the same in every run, so that a failure can be had again. */
function mulberry(seed: number): () => number {
  let a = seed;
  return () => {
    a = (a + 0x6d2b79f5) | 0;
    let t = Math.imul(a ^ (a >>> 15), 1 | a);
    t = (t + Math.imul(t ^ (t >>> 7), 61 | t)) ^ t;
    return ((t ^ (t >>> 14)) >>> 0) / 4294967296;
  };
}

/** What those who work meanwhile know of each other. */
export interface Work {
  iris: Client;
  random: () => number;
  pick: <T>(list: readonly T[]) => T;
  folders: string[];
  /** SHA-256 of what the server has said it keeps and nobody has asked it to remove since, by file. */
  promised: Map<string, string>;
}

const ALIVE_MS = { least: 150, more: 500 } as const;
/** However slow the machine is, so much has been done before a kill; and no longer than this is waited for it. */
const DONE_EACH = { acts: 4, mostMs: 10_000 } as const;

/** At how many moments; more by QUAY_KILLS. Each run takes other moments, of which it tells the seed when it fails. */
const KILLS = Number(process.env['QUAY_KILLS'] ?? 4);
const SEED = Number(process.env['QUAY_SEED'] ?? Date.now() % 1_000_000);

/**
 * Four people work, and the server is killed in the midst of it, again and again: after each time everything that must
 * hold does (docs/architecture.md, "What must hold"); in the end each promised file is there.
 */
export async function killedWhile(
  act: (work: Work) => Promise<void>,
  enough: () => boolean = () => true,
): Promise<void> {
  const folder = mkdtempSync(join(tmpdir(), 'quay-kill-'));
  const { databaseUrl, port, env, roots } = await officeForServers(folder);
  const db = await new DataSource(dataSourceOptions(databaseUrl, ENTITIES)).initialize();
  const blobs = new DiskBlobStore(join(folder, 'blobs'));
  const random = mulberry(SEED);
  const pick: Work['pick'] = (list) => list[Math.floor(random() * list.length)] as (typeof list)[number];
  const iris = new Client(`http://127.0.0.1:${port}`);
  const work: Work = { iris, random, pick, folders: [roots.projects], promised: new Map() };
  let done = 0;
  for (let round = 0; round < KILLS || (!enough() && round < KILLS * 3); round += 1) {
    const server = await startServer(env);
    if (round === 0) await iris.ask('POST', '/api/session', { signInName: 'iris', password: PASSWORDS.iris });
    let alive = true;
    const before = done;
    const workers = Array.from({ length: 4 }, async () => {
      while (alive)
        await act(work).then(
          () => (done += 1),
          () => undefined,
        );
    });
    await new Promise((wait) => setTimeout(wait, ALIVE_MS.least + random() * ALIVE_MS.more));
    const late = performance.now() + DONE_EACH.mostMs;
    while (done < before + DONE_EACH.acts && performance.now() < late)
      await new Promise((wait) => setTimeout(wait, 20));
    server.kill('SIGKILL');
    alive = false;
    await new Promise((ended) => server.once('exit', ended));
    await Promise.all(workers);
    // The last rounds read every byte.
    const { violations } = await checkInvariants(db, blobs, round >= KILLS - 1);
    expect({ seed: SEED, round, violations }).toEqual({ seed: SEED, round, violations: [] });
  }
  expect(done).toBeGreaterThan(KILLS * 3);
  for (const [id, sha256] of work.promised) {
    const [row] = await db.query<{ sha256: Buffer; gone: boolean }[]>(
      `SELECT v.sha256, n.trashed_at IS NOT NULL AS gone FROM node n JOIN file_version v ON v.id = n.version_id
        WHERE n.id = $1`,
      [id],
    );
    expect([SEED, row?.sha256.toString('hex'), row?.gone]).toEqual([SEED, sha256, false]);
  }
  // What was set aside for those who were killed ends by itself (RoomService), and soon.
  expect(
    await db.query(
      `SELECT id FROM room_held
        WHERE upload_id IS NULL AND deposit_file_id IS NULL AND (ends_at IS NULL OR ends_at > now() + interval '90 seconds')`,
    ),
  ).toEqual([]);
  await db.destroy();
  rmSync(folder, { recursive: true, force: true });
}

/** A file of few different contents, so that the same blobs come and go. */
export async function uploadOne({ iris, random, pick, folders, promised }: Work): Promise<void> {
  const bytes = Buffer.alloc(2000 + Math.floor(random() * 4) * 40_000, Math.floor(random() * 6));
  const name = `f${Math.floor(random() * 60)}.bin`;
  const { status, body } = await iris.upload(pick(folders), name, bytes, '&conflict=keep-both');
  if (status === 201) promised.set(body.id, sha256(bytes));
}

export const sha256 = (bytes: Buffer) => createHash('sha256').update(bytes).digest('hex');
