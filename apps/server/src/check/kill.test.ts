import { fork, type ChildProcess } from 'node:child_process';
import { createHash, randomBytes } from 'node:crypto';
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join, resolve } from 'node:path';
import { afterAll, describe, expect, it } from 'vitest';
import { DataSource } from 'typeorm';
import { ENTITIES } from '../app.module.js';
import { DiskBlobStore } from '../platform/blobs/disk-blob-store.js';
import { dataSourceOptions } from '../platform/database/database.js';
import { Client, freshDatabase, openOffice, PASSWORDS } from '../_fixtures/office.js';
import { checkInvariants } from './invariants.js';

const { freePort } = (await import(resolve(import.meta.dirname, '../../../../scripts/lib/test-database.mjs'))) as {
  freePort: () => Promise<number>;
};
const KILLS = 50;
const folder = mkdtempSync(join(tmpdir(), 'quay-kill-'));
afterAll(() => rmSync(folder, { recursive: true, force: true }));

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

async function start(env: NodeJS.ProcessEnv): Promise<ChildProcess> {
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

describe(`killed at ${KILLS} random moments of uploads, moves, restores and collections`, () => {
  it('everything that must hold does, and nothing that was acknowledged is lost', { timeout: 400_000 }, async () => {
    const databaseUrl = await freshDatabase();
    const furnished = await openOffice({ databaseUrl });
    await furnished.close();
    writeFileSync(join(folder, 'key'), randomBytes(32).toString('hex'));
    const port = String(await freePort());
    const env = {
      QUAY_DATABASE_URL: databaseUrl,
      QUAY_BLOBS: join(folder, 'blobs'),
      QUAY_KEY_FILE: join(folder, 'key'),
      QUAY_PORT: port,
      QUAY_LOG: 'silent',
    };
    const db = await new DataSource(dataSourceOptions(databaseUrl, ENTITIES)).initialize();
    const blobs = new DiskBlobStore(join(folder, 'blobs'));
    const random = mulberry(20_261_125);
    const root = furnished.roots.projects;
    // What the server has said it keeps, and nobody has asked it to remove since.
    const promised = new Map<string, string>();
    const trashed: string[] = [];
    const folders: string[] = [root];
    let done = 0;
    let killed = 0;

    const pick = <T>(list: readonly T[]): T => list[Math.floor(random() * list.length)] as T;
    const act = async (iris: Client): Promise<void> => {
      const dice = random();
      const ids = [...promised.keys()];
      if (dice < 0.4 || ids.length < 4) {
        // Few different contents, so that the same blobs come and go.
        const bytes = Buffer.alloc(2000 + Math.floor(random() * 4) * 40_000, Math.floor(random() * 6));
        const { status, body } = await iris.upload(
          pick(folders),
          `f${Math.floor(random() * 60)}.bin`,
          bytes,
          '&conflict=keep-both',
        );
        if (status === 201) promised.set(body.id, createHash('sha256').update(bytes).digest('hex'));
      } else if (dice < 0.5) {
        const { status, body } = await iris.ask<{ id: string }>('POST', `/api/folders/${pick(folders)}/folders`, {
          name: `d${Math.floor(random() * 1000)}`,
        });
        if (status === 201 && folders.length < 12) folders.push(body.id);
      } else if (dice < 0.65)
        await iris.ask('POST', '/api/nodes/move', {
          nodeIds: [pick(ids)],
          toFolderId: pick(folders),
          ifTaken: 'keep-both',
        });
      else if (dice < 0.72)
        await iris.ask('POST', '/api/nodes/copy', { nodeIds: [pick(ids)], toFolderId: pick(folders) });
      else if (dice < 0.8) await iris.ask('POST', `/api/files/${pick(ids)}/versions/1/restore`);
      else if (dice < 0.9) {
        const id = pick(ids);
        // From here on it may be there or not, whatever the answer.
        promised.delete(id);
        trashed.push(id);
        await iris.ask('POST', '/api/trash', { nodeIds: [id] });
      } else if (trashed.length > 0)
        await iris.ask('POST', dice < 0.96 ? '/api/trash/purge' : '/api/trash/put-back', { nodeIds: [pick(trashed)] });
      done += 1;
    };

    const iris = new Client(`http://127.0.0.1:${port}`);
    for (let round = 0; round < KILLS; round += 1) {
      const server = await start(env);
      if (round === 0) await iris.ask('POST', '/api/session', { signInName: 'iris', password: PASSWORDS.iris });
      let alive = true;
      const workers = Array.from({ length: 4 }, async () => {
        while (alive) await act(iris).catch(() => undefined);
      });
      await new Promise((resolve_) => setTimeout(resolve_, 150 + random() * 500));
      server.kill('SIGKILL');
      alive = false;
      await new Promise((ended) => server.once('exit', ended));
      await Promise.all(workers);
      killed += 1;
      // The last round reads every byte.
      const { violations } = await checkInvariants(db, blobs, round === KILLS - 1);
      expect({ round, violations }).toEqual({ round, violations: [] });
    }
    expect([killed, done > KILLS * 3]).toEqual([KILLS, true]);
    for (const [id, sha256] of promised) {
      const [row] = await db.query<{ sha256: Buffer; first: Buffer; gone: boolean }[]>(
        `SELECT v.sha256, (SELECT f.sha256 FROM file_version f WHERE f.node_id = n.id AND f.number = 1) AS first, n.trashed_at IS NOT NULL AS gone FROM node n JOIN file_version v ON v.id = n.version_id WHERE n.id = $1`,
        [id],
      );
      expect([row?.sha256.toString('hex'), row?.gone]).toEqual([sha256, false]);
    }
    await db.destroy();
  });
});
