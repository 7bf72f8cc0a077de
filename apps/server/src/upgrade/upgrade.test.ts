import { spawn, spawnSync } from 'node:child_process';
import { randomBytes, randomInt } from 'node:crypto';
import {
  chmodSync,
  mkdirSync,
  mkdtempSync,
  readdirSync,
  readFileSync,
  readlinkSync,
  renameSync,
  rmSync,
  writeFileSync,
} from 'node:fs';
import { tmpdir } from 'node:os';
import { join, resolve } from 'node:path';
import type { Me, ShareSheet, StoreSummary } from '@quay/contract';
import pg from 'pg';
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest';
import { freePort } from '../_fixtures/free-port.js';
import { Client, freshDatabase } from '../_fixtures/office.js';

// A machine in a folder: what ./quay install puts below --root, with a service manager of a few lines. systemd-analyze
// (Debian's systemd) judges the units.
const PROJECT = resolve(import.meta.dirname, '../../../..');
const root = mkdtempSync(join(tmpdir(), 'quay-machine-'));
const service = join(root, 'service');
const bytes = randomBytes(300_000);
let databaseUrl: string;
let origin: string;
let iris: Client;
let link: string;
/** How long an upgrade takes here. */
let tookMs = 10_000;

/** How often an upgrade is killed; issue and release: QUAY_KILLS=30. */
const KILLS = Number(process.env['QUAY_KILLS'] ?? 1);

function quay(command: string, args: string[]): string {
  const done = spawnSync(command, args, { encoding: 'utf8', cwd: root, timeout: 240_000 });
  return `${done.status} ${done.stdout}${done.stderr}`;
}
const fromCheckout = (...args: string[]) => quay(join(PROJECT, 'quay'), [...args, '--root', root]);
const installed = (...args: string[]) => quay(join(root, 'usr/local/bin/lockfast-quay'), args);
const current = () => readlinkSync(join(root, 'opt/lockfast-quay/current')).split('/').at(-1) ?? '';
const databaseOf = (release: string) =>
  /QUAY_DATABASE_NAME=(.*)/.exec(
    readFileSync(join(root, 'opt/lockfast-quay/releases', release, 'release.env'), 'utf8'),
  )?.[1];
const ready = () =>
  vi
    .waitFor(async () => expect((await fetch(`${origin}/readyz`, { headers: apart })).status).toBe(200), {
      timeout: 90_000,
      interval: 100,
    })
    .catch((cause: unknown) => {
      throw new Error(`It does not serve: ${readFileSync(join(root, 'log'), 'utf8').slice(-2000)}`, { cause });
    });
/** The server is started anew while this waits for programs: no connection outlives a question. */
const apart = { connection: 'close' };
async function opens(): Promise<void> {
  const visitor = new Client(origin);
  expect((await visitor.ask('POST', `${link}/open`, { password: 'gravel-heron-silent-oar' }, apart)).status).toBe(200);
  const got = await visitor.fetch(`${link}/all.zip`, { headers: apart });
  expect(Buffer.from(await got.arrayBuffer()).includes(bytes)).toBe(true);
}
async function onDatabase(name: string, sql: string): Promise<object[]> {
  const url = new URL(databaseUrl);
  url.pathname = `/${name}`;
  const client = new pg.Client({ connectionString: url.href });
  await client.connect();
  const { rows } = await client.query<object>(sql);
  await client.end();
  return rows;
}

beforeAll(async () => {
  databaseUrl = await freshDatabase({ empty: true });
  const port = await freePort();
  origin = `http://127.0.0.1:${port}`;
  writeFileSync(join(root, 'database-url'), databaseUrl, { mode: 0o600 });
  writeFileSync(
    service,
    `#!/bin/sh
stop() { [ -f ${root}/pid ] && kill $(cat ${root}/pid) 2>/dev/null && while kill -0 $(cat ${root}/pid) 2>/dev/null; do sleep 0.1; done; rm -f ${root}/pid; }
case $1 in
  stop) stop;;
  start) stop
    set -a; . ${root}/opt/lockfast-quay/current/release.env; set +a
    QUAY_PORT=${port} QUAY_LOG=silent setsid node ${root}/opt/lockfast-quay/current/apps/server/dist/main.js >>${root}/log 2>&1 </dev/null &
    echo $! > ${root}/pid;;
esac
exit 0
`,
  );
  chmodSync(service, 0o755);
  // What asks whether it is ready asks at the port that the service sets.
  process.env['QUAY_PORT'] = String(port);
}, 240_000);
afterAll(() => {
  spawnSync(service, ['stop']);
  delete process.env['QUAY_PORT'];
  // Tens of thousands of files: on a slow disk that takes its time.
  spawnSync('rm', ['-rf', root]);
}, 240_000);

describe('an installed server', { timeout: 240_000 }, () => {
  it('is put in place, set up by a file, and opens a share', async () => {
    const said = fromCheckout('install', '--database-url-file', join(root, 'database-url'), '--service', service);
    expect(said).toMatch(/^0 /);
    expect(said).toContain('Lockfast Quay is installed and serves');
    expect(fromCheckout('install')).toContain('it is installed already');
    writeFileSync(join(root, 'password'), 'weir-lantern-copper-tide\n', { mode: 0o600 });
    writeFileSync(
      join(root, 'answers.yaml'),
      `office: { name: Saltmarsh Survey, zone: Europe/London }
you: { name: Iris Ward, signInName: iris, email: iris@saltmarsh.example, passwordFile: ${root}/password }
place: { folder: ${root}/bytes, anyway: true }
stores: { names: [Office], homes: true }
mail: { later: true }
wayIn: { kind: inside, inside: "${origin}" }
`,
    );
    const setUp = installed('setup', '--answers', join(root, 'answers.yaml'));
    expect(setUp).toMatch(/^0 /);
    await ready();
    iris = new Client(origin);
    const signIn = { signInName: 'iris', password: 'weir-lantern-copper-tide' };
    await vi.waitFor(async () => expect((await iris.ask('POST', '/api/session', signIn)).status).toBe(204), 60_000);
    expect((await iris.ask<Me>('GET', '/api/session')).body.name).toBe('Iris Ward');
    const [office] = (await iris.ask<StoreSummary[]>('GET', '/api/stores')).body.filter((s) => s.name === 'Office');
    const { id } = (await iris.upload(office?.rootId ?? '', 'plan.bin', bytes)).body;
    const share = await iris.ask<ShareSheet>('POST', '/api/shares', {
      ...{ title: 'Plans', message: '', nodeIds: [id], password: 'gravel-heron-silent-oar', visitLimit: null },
      window: { opensAt: null, closesAt: null },
    });
    link = new URL(share.body.link).pathname;
    await opens();
  });
  it('has units in which systemd-analyze finds nothing, and that it rates 2.0 or better', () => {
    const units = join(root, 'etc/systemd/system');
    for (const name of readdirSync(units)) {
      // The user is made on a real machine.
      const text = readFileSync(join(units, name), 'utf8').replace(
        /^(User|Group|SocketUser|SocketGroup)=quay$/gm,
        '$1=daemon',
      );
      writeFileSync(join(units, name), text);
    }
    const files = readdirSync(units).map((name) => join(units, name));
    const verified = spawnSync('systemd-analyze', ['verify', ...files], { encoding: 'utf8' });
    expect(verified.stdout + verified.stderr).toBe('');
    for (const file of files.filter((f) => f.endsWith('.service'))) {
      const rated = spawnSync('systemd-analyze', ['security', '--offline=true', file], { encoding: 'utf8' });
      expect(Number(/exposure level for .*: ([\d.]+)/.exec(rated.stdout)?.[1])).toBeLessThanOrEqual(2);
    }
  });
  it('answers the commands of whoever has the machine', () => {
    expect(installed('admin', 'list')).toContain('Iris Ward');
    expect(installed('check', '--deep')).toContain('everything holds');
    expect(installed('backup', join(root, 'copies'))).toMatch(/^0 Backed up to/);
    expect(installed('doctor')).toContain('The server answers on port');
  });
  it('is upgraded: program and database together, with everything in it', async () => {
    const before = current();
    const began = performance.now();
    expect(fromCheckout('upgrade')).toMatch(/^0 [^]*serves\. The one before stays/);
    tookMs = Math.ceil(performance.now() - began);
    expect(current()).not.toBe(before);
    expect(databaseOf(current())).not.toBe(databaseOf(before));
    await opens();
    // Who was signed in still is.
    expect((await iris.ask('GET', '/api/session', undefined, apart)).status).toBe(200);
    expect(readdirSync(join(root, 'var/lib/lockfast-quay/before-upgrade'))).toHaveLength(1);
    expect(
      spawnSync('pg_restore', ['--list', join(root, 'var/lib/lockfast-quay/before-upgrade', `${current()}.dump`)])
        .status,
    ).toBe(0);
  });
  it('serves as before when an upgrade fails, and says why', async () => {
    const before = current();
    // Twice at once is once; this process is the other.
    const lock = join(root, 'opt/lockfast-quay/upgrading');
    writeFileSync(lock, String(process.pid));
    expect(fromCheckout('upgrade')).toMatch(/^1 [^]*another upgrade goes on/);
    rmSync(lock);
    const database = databaseOf(before) ?? '';
    await onDatabase(database, `UPDATE store SET used_bytes = used_bytes + 1`);
    const said = fromCheckout('upgrade');
    expect(said).toMatch(/^1 [^]*the upgrade failed, and the old one serves again: .*a store uses what its blobs take/);
    await onDatabase(database, `UPDATE store SET used_bytes = used_bytes - 1`);
    expect(current()).toBe(before);
    await opens();
    const left = await onDatabase(
      database,
      `SELECT 1 FROM pg_database WHERE datname LIKE '${database.replace(/_\d{14}$/, '')}_%'`,
    );
    expect(left).toHaveLength(1);
  });
  it(
    `serves what it served when an upgrade is killed at ${KILLS} moments`,
    { timeout: 120_000 + KILLS * 150_000 },
    async () => {
      for (let n = 0; n < KILLS; n += 1) {
        const upgrade = spawn(join(PROJECT, 'quay'), ['upgrade', '--root', root], { detached: true, stdio: 'ignore' });
        const ended = new Promise((resolve) => upgrade.once('exit', resolve));
        setTimeout(() => upgrade.exitCode === null && process.kill(-(upgrade.pid ?? 0), 'SIGKILL'), randomInt(tookMs));
        await ended;
        // What the guard does on a machine with systemd: it is started, as it is then.
        spawnSync(service, ['start']);
        await ready();
        await opens();
      }
      expect(fromCheckout('upgrade')).toMatch(/^0 /);
      expect(readdirSync(join(root, 'opt/lockfast-quay/releases'))).toHaveLength(2);
      await opens();
      expect(installed('check')).toContain('everything holds');
    },
  );
  it('is taken away, and leaves what is the office’s', async () => {
    // Only so that the next one need not copy them again.
    renameSync(join(root, 'opt/lockfast-quay/packages'), join(root, 'packages'));
    const said = fromCheckout('uninstall');
    expect(said).toContain("What is the office's stays");
    expect(readdirSync(join(root, 'etc/systemd/system'))).toEqual([]);
    expect(readdirSync(join(root, 'opt'))).toEqual([]);
    expect(readdirSync(join(root, 'var/lib/lockfast-quay')).length).toBeGreaterThan(0);
    await expect(fetch(`${origin}/healthz`)).rejects.toThrow();
  });
  it('is brought back on a machine that was just installed, from a backup; the link opens', async () => {
    expect(spawnSync('rm', ['-rf', join(root, 'var/lib/lockfast-quay'), join(root, 'bytes')]).status).toBe(0);
    writeFileSync(join(root, 'database-url'), await freshDatabase({ empty: true }), { mode: 0o600 });
    mkdirSync(join(root, 'opt/lockfast-quay'));
    renameSync(join(root, 'packages'), join(root, 'opt/lockfast-quay/packages'));
    fromCheckout('install', '--database-url-file', join(root, 'database-url'), '--service', service);
    expect(installed('restore', join(root, 'copies'))).toMatch(/^0 [^]*Brought back \d+T\d+: 1 files/);
    await ready();
    await opens();
    expect(installed('restore', join(root, 'copies'))).toContain('there is an office on this server already');
  });
});
