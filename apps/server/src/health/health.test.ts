import { execFileSync, spawnSync } from 'node:child_process';
import { chmodSync, readFileSync, renameSync } from 'node:fs';
import { resolve } from 'node:path';
import type { Health } from '@quay/contract';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';
import { Gauges } from './gauges.service.js';

const TOKEN = 'a-token-of-thirty-two-characters';
const DOCS = resolve(import.meta.dirname, '../../../../docs/metrics');
let office: TestOffice;
let iris: Client;
beforeAll(async () => {
  office = await openOffice({ metrics: { listen: { host: '127.0.0.1', port: 0 }, token: TOKEN } });
  iris = await office.signedIn('iris');
});
afterAll(() => office.close());

/** What Prometheus' own tool says of figures (Debian package prometheus). */
function promtool(input: string): string {
  const { status, stdout, stderr } = spawnSync('promtool', ['check', 'metrics'], { input, encoding: 'utf8' });
  return status === 0 ? '' : stdout + stderr;
}

describe('health for machines', () => {
  it('lives, and is ready while database and files are there', async () => {
    const stranger = office.client();
    expect((await stranger.fetch('/healthz')).status).toBe(200);
    expect((await stranger.fetch('/readyz')).status).toBe(200);
    const { blobRoot } = office.config;
    renameSync(blobRoot, `${blobRoot}.away`);
    const away = await stranger.fetch('/readyz');
    renameSync(`${blobRoot}.away`, blobRoot);
    expect([away.status, await away.text()]).toEqual([503, 'not ready: files\n']);
    expect((await stranger.fetch('/healthz')).status).toBe(200);
  });
  it('gives figures to whoever has the token, and to nobody else', async () => {
    const stranger = office.client();
    const asked = (authorization?: string) =>
      stranger.fetch('/metrics', authorization ? { headers: { authorization } } : {});
    for (const wrong of [undefined, 'Bearer', `Bearer ${TOKEN}x`, `Basic ${TOKEN}`, TOKEN])
      expect((await asked(wrong)).status).toBe(404);
    const told = await asked(`Bearer ${TOKEN}`);
    expect(told.headers.get('content-type')).toMatch(/^text\/plain; version=0\.0\.4/);
  });
  it('counts what happens, by names that promtool accepts and without anything secret', async () => {
    const { body } = await iris.upload(office.roots.projects, 'plan.bin', Buffer.alloc(200_000, 7));
    const share = await office.publish(iris, [body.id], { password: 'gravel-heron-silent-oar' });
    const visitor = office.client();
    await visitor.ask('POST', `/s/${share.token}/open`, { password: 'wrong' });
    office.clock.advance(2000);
    await visitor.ask('POST', `/s/${share.token}/open`, { password: 'gravel-heron-silent-oar' });
    await (await visitor.fetch(`/s/${share.token}/files/${body.id}`)).arrayBuffer();
    for (const n of [1, 2, 3]) await visitor.ask('POST', `/s/${share.token}/open`, { [`evil key ${n}`]: n });
    const port = office.app.get(Gauges).port;
    const text = await (await fetch(`http://127.0.0.1:${port}/metrics`)).text();
    expect(promtool(text)).toBe('');
    const value = (line: RegExp) => Number(new RegExp(`^${line.source} ([\\d.e+-]+)$`, 'm').exec(text)?.[1]);
    expect(value(/quay_visits_total/)).toBeGreaterThanOrEqual(1);
    expect(value(/quay_refusals_total\{code="share\.wrong-password"\}/)).toBeGreaterThanOrEqual(1);
    expect(value(/quay_refusals_total\{code="invalid"\}/)).toBeGreaterThanOrEqual(3);
    expect(value(/quay_transferred_bytes_total\{direction="out"\}/)).toBeGreaterThan(200_000);
    expect(value(/quay_database_up/)).toBe(1);
    expect(value(/quay_disk_free_bytes/)).toBeGreaterThan(0);
    expect(value(/quay_backup_findings\{kind="none"\}/)).toBe(1);
    for (const secret of [
      share.token,
      'plan.bin',
      'gravel-heron',
      'evil key',
      office.config.sealingKey.toString('hex'),
    ])
      expect(text).not.toContain(secret);
    const open = await fetch(`http://127.0.0.1:${port}/metrics`, {
      headers: { accept: 'application/openmetrics-text;version=1.0.0,text/plain;q=0.5' },
    });
    expect(open.headers.get('content-type')).toMatch(/^application\/openmetrics-text/);
    expect(await open.text()).toMatch(/# TYPE quay_visits counter\n[^]*quay_visits_total \d+[^]*# EOF\n$/);
    expect((await fetch(`http://127.0.0.1:${port}/`)).status).toBe(404);
  });
  it('rules for alerts are ones, and ask for figures that there are', () => {
    const rules = `${DOCS}/alerts.yaml`;
    expect(execFileSync('promtool', ['check', 'rules', rules], { encoding: 'utf8' })).toMatch(
      /SUCCESS: \d+ rules found/,
    );
    execFileSync('promtool', ['test', 'rules', `${DOCS}/alerts.test.yaml`], { stdio: 'pipe' });
  });
  it('rules and the dashboard ask only for figures that are given out', async () => {
    const port = office.app.get(Gauges).port;
    const text = await (await fetch(`http://127.0.0.1:${port}/metrics`)).text();
    // What only shows with certificates and backups.
    const given = new Set([...text.matchAll(/^# TYPE (\w+) /gm)].map(([, name]) => name));
    for (const file of ['alerts.yaml', 'dashboard.json'])
      for (const [, name = ''] of readFileSync(`${DOCS}/${file}`, 'utf8').matchAll(
        /\b(quay_\w+?)(?:_bucket)?\b(?=[[{\s)"\\]|$)/gm,
      ))
        expect([...given], `${name} in ${file}`).toContain(name);
  });
});

describe('the doctor', () => {
  it('looks at everything for whoever runs the server, each with a remedy where something is wrong', async () => {
    const { status, body } = await iris.ask<Health>('GET', '/api/health');
    expect(status).toBe(200);
    const ids = body.lines.map((l) => l.id);
    for (const id of [
      'disk.files',
      'disk.database',
      'backup.none',
      'clock',
      'queue',
      'mail',
      'files',
      'memory',
      'node',
    ])
      expect(ids).toContain(id);
    for (const line of body.lines.filter((l) => l.mark === 'warn' || l.mark === 'fail'))
      expect(line.remedy).toBeTruthy();
    const rosa = await office.signedIn('rosa');
    expect((await rosa.ask('GET', '/api/health')).status).toBe(403);
  });
  it('on the machine says the same, as lines and as JSON, and ends with 1 when something fails', () => {
    const { config } = office;
    const doctor = (...args: string[]) =>
      spawnSync(process.execPath, [resolve(import.meta.dirname, '../../dist/health/main.js'), ...args], {
        encoding: 'utf8',
        env: {
          ...process.env,
          QUAY_DATABASE_URL: config.databaseUrl,
          QUAY_BLOBS: config.blobRoot,
          QUAY_KEY_FILE: config.keyFile,
          QUAY_PORT: new URL(office.origin).port,
          QUAY_LOG: 'silent',
        },
      });
    // The databases of tests write without waiting for the disk, and the doctor notices.
    const asJson = JSON.parse(doctor('--json').stdout) as Health;
    expect(asJson.lines.find((l) => l.id.startsWith('port.'))?.mark).toBe('ok');
    expect(asJson.lines.find((l) => l.id === 'secrets')?.mark).toBe('ok');
    chmodSync(config.keyFile, 0o644);
    const loose = doctor();
    chmodSync(config.keyFile, 0o600);
    expect(loose.status).toBe(1);
    expect(loose.stdout).toContain(`chmod 600 ${config.keyFile}`);
  });
});
