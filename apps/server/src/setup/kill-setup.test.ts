import type { SetupStanding } from '@quay/contract';
import { SETUP_STEPS } from '@quay/contract';
import { randomInt } from 'node:crypto';
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { DataSource } from 'typeorm';
import { afterAll, expect, it } from 'vitest';
import { freePort } from '../_fixtures/free-port.js';
import { startServer } from '../_fixtures/killing.js';
import { Client, freshDatabase } from '../_fixtures/office.js';
import { ENTITIES } from '../app.module.js';
import { checkInvariants } from '../check/invariants.js';
import { DiskBlobStore } from '../platform/blobs/disk-blob-store.js';
import { dataSourceOptions } from '../platform/database/database.js';

const KILLS = Number(process.env['QUAY_KILLS'] ?? 3);
const folder = mkdtempSync(join(tmpdir(), 'quay-kill-setup-'));
afterAll(() => rmSync(folder, { recursive: true, force: true }));

const ANSWERS: Record<string, object> = {
  office: { name: 'Saltmarsh Survey', zone: 'Europe/London' },
  you: {
    ...{ name: 'Iris Ward', signInName: 'iris', email: 'iris@saltmarsh.example' },
    password: 'weir-lantern-copper-tide',
  },
  place: { folder: join(folder, 'bytes'), anyway: true },
  stores: { names: ['Office', 'Projects'], homes: true },
  mail: { later: true },
  'way-in': { kind: 'inside', inside: 'http://files.saltmarsh.example:4180' },
};
/** What was acknowledged and is not there any more. */
const lost: string[] = [];

/** How a step is called in the path of its request. */
const pathOf = (step: string) => (step === 'wayIn' ? 'way-in' : step);

/** Answers what is not answered yet, one after the other, and begins the office; whatever is refused ends it. */
async function goOn(iris: Client, acknowledged: Set<string>): Promise<boolean> {
  const { body } = await iris.ask<SetupStanding>('GET', '/api/setup');
  if (!body.held) {
    const code = readFileSync(join(folder, 'code'), 'utf8').trim();
    const held = await iris.ask('POST', '/api/setup/code', { code });
    if (held.status >= 300) throw new Error(`not let in: ${held.body.code}`);
    return goOn(iris, acknowledged);
  }
  for (const step of SETUP_STEPS) {
    if (body.state.answers[step] !== undefined) continue;
    if (acknowledged.has(step)) lost.push(step);
    const { status } = await iris.ask('PUT', `/api/setup/${pathOf(step)}`, ANSWERS[pathOf(step)]);
    if (status >= 300) throw new Error(`${step}: ${status}`);
    acknowledged.add(step);
  }
  return (await iris.ask('POST', '/api/setup/finish')).status < 300;
}

it(
  'a first start that is killed at any moment is gone on with, and makes one office',
  { timeout: KILLS * 20_000 + 60_000 },
  async () => {
    const databaseUrl = await freshDatabase();
    const port = await freePort();
    writeFileSync(join(folder, 'key'), 'ab'.repeat(32), { mode: 0o600 });
    const env = {
      ...{ QUAY_DATABASE_URL: databaseUrl, QUAY_BLOBS: join(folder, 'blobs'), QUAY_KEY_FILE: join(folder, 'key') },
      ...{ QUAY_PORT: String(port), QUAY_CODE_FILE: join(folder, 'code'), QUAY_LOG: 'silent' },
    };
    const iris = new Client(`http://127.0.0.1:${port}`);
    const acknowledged = new Set<string>();
    const signsIn = async () => {
      const signIn = { signInName: 'iris', password: 'weir-lantern-copper-tide' };
      return (await iris.ask('POST', '/api/session', signIn).catch(() => null))?.status === 204;
    };
    for (let n = 0; ; n += 1) {
      const server = await startServer(env);
      const ended = new Promise((resolve) => server.once('exit', resolve));
      if (n < KILLS) setTimeout(() => server.kill('SIGKILL'), randomInt(700));
      // It was begun before the kill, or is now; or the kill came first.
      const begun = (await signsIn()) || (await goOn(iris, acknowledged).catch(() => false));
      if (n >= KILLS || begun) {
        expect(begun).toBe(true);
        server.kill('SIGKILL');
        await ended;
        if (n >= KILLS) break;
      }
      await ended;
    }
    expect(lost).toEqual([]);
    const db = await new DataSource(dataSourceOptions(databaseUrl, ENTITIES)).initialize();
    const count = async (sql: string) => ((await db.query(sql)) as { n: number }[])[0]?.n;
    expect({
      offices: await count('SELECT count(*)::int AS n FROM office'),
      people: await count('SELECT count(*)::int AS n FROM person'),
      stores: await count(`SELECT count(*)::int AS n FROM store WHERE kind = 'common'`),
      begun: await count(`SELECT count(*)::int AS n FROM ledger_entry WHERE kind = 'office.begun'`),
      left: await count('SELECT count(*)::int AS n FROM setup'),
    }).toEqual({ offices: 1, people: 1, stores: 2, begun: 1, left: 0 });
    expect((await checkInvariants(db, new DiskBlobStore(join(folder, 'bytes')), true)).violations).toEqual([]);
    await db.destroy();
  },
);
