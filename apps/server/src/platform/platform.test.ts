import { randomBytes } from 'node:crypto';
import { mkdtempSync, readdirSync, rmSync } from 'node:fs';
import type { ChildProcess } from 'node:child_process';
import { request } from 'node:http';
import { tmpdir } from 'node:os';
import { join, resolve } from 'node:path';
import pg from 'pg';
import { verify } from '@node-rs/argon2';
import { afterAll, describe, expect, it } from 'vitest';
import { NO_REACH } from './config.js';
import { Doors } from '../reach/doors.js';
import { officeForServers, startServer } from '../_fixtures/killing.js';
import { freePort } from '../_fixtures/free-port.js';
import { Client, openOffice, PASSWORDS } from '../_fixtures/office.js';
import { loggablePath } from './log/request-log.js';
import { hashPassword, passwordMatches } from './passwords.js';
import { seal, unseal } from './seal.js';

interface Server {
  url: (database: string) => string;
  stop: () => Promise<void>;
}
const scripts = resolve(import.meta.dirname, '../../../../scripts/lib');
const { startPostgres } = (await import(join(scripts, 'postgres.mjs'))) as {
  startPostgres: (folder: string, port: number, options: object) => Promise<Server>;
};
const { VAR } = (await import(join(scripts, 'install.mjs'))) as { VAR: string };

describe('passwords', () => {
  it('verify a hash of the reference implementation (phc-winner-argon2, test.c, Argon2id v19: value from memory)', async () => {
    expect(
      await verify(
        '$argon2id$v=19$m=65536,t=2,p=1$c29tZXNhbHQ$CTFhFdXPJO1aFaMaO6Mm5c8y7cJHAph8ArZWb2GRPPc',
        'password',
      ),
    ).toBe(true);
  });
  it("are hashed with OWASP's minimum, salted, and match only themselves", async () => {
    const [a, b] = [await hashPassword('copper'), await hashPassword('copper')];
    expect(a).toMatch(/^\$argon2id\$v=19\$m=19456,t=2,p=1\$/);
    expect(a).not.toBe(b);
    expect([
      await passwordMatches(a, 'copper'),
      await passwordMatches(a, 'Copper'),
      await passwordMatches(null, 'a password that nobody has'),
    ]).toEqual([true, false, false]);
  });
});

describe('sealing', () => {
  const key = randomBytes(32);
  it('opens with its key alone, and notices a changed bit', () => {
    const sealed = seal(key, 'a token');
    expect(unseal(key, sealed)).toBe('a token');
    expect(() => unseal(randomBytes(32), sealed)).toThrow();
    sealed[sealed.length - 1] = (sealed.at(-1) ?? 0) ^ 1;
    expect(() => unseal(key, sealed)).toThrow();
  });
});

describe('logs', () => {
  it.each([
    ['/s/AbCdEfGhIjKlMnOpQrStUv/files/1?x=secret', '/s/:token/files/1'],
    ['/s/short', '/s/:token'],
    ['/calendar/AbCdEfGhIjKlMnOpQrStUv.ics', '/calendar/:token'],
    ['/api/shares?find=x', '/api/shares'],
  ])('%s is logged as %s', (url, path) => expect(loggablePath(url)).toBe(path));
});

describe('the frame round every answer', () => {
  it('has a strict content security policy, no sniffing, no framing, no referrer', async () => {
    const office = await openOffice();
    const { headers } = await office.client().ask('GET', '/sign-in');
    expect(headers.get('content-security-policy')).toContain("default-src 'none';script-src 'self';style-src 'self'");
    expect(headers.get('content-security-policy')).toContain("frame-ancestors 'none'");
    expect([
      headers.get('x-content-type-options'),
      headers.get('referrer-policy'),
      headers.get('x-powered-by'),
    ]).toEqual(['nosniff', 'no-referrer', null]);
    const iris = await office.signedIn('iris');
    for (const path of ['/api/session', '/api/stores', '/api/ledger', '/api/nothing', '/s/x/door'])
      expect([path, (await iris.ask('GET', path)).headers.get('cache-control')]).toEqual([path, 'no-store']);
    expect((await iris.ask('GET', '/today')).headers.get('cache-control')).toBe('no-cache');
    const unknown = await office.client().ask('GET', '/api/nothing');
    expect([unknown.status, unknown.body.code, unknown.headers.get('content-type')]).toEqual([
      404,
      'not-found',
      'application/problem+json; charset=utf-8',
    ]);
    const docs = (await office.client().ask<{ paths: Record<string, object> }>('GET', '/api/docs-json')).body;
    expect(Object.keys(docs.paths)).toEqual(
      expect.arrayContaining(['/api/shares', '/api/folders/{id}/files', '/s/{token}/open']),
    );
    expect(JSON.stringify(docs.paths['/api/shares'])).toContain('"visitLimit"');
    expect(docs.paths['/api/folders/{id}/batch']).toMatchObject({
      put: { tags: ['transfers'], requestBody: { content: { 'application/x-tar': {} } } },
    });
    const page = await office.client().fetch('/api/docs');
    expect(await page.text()).toContain('swagger-ui-init.js');
    expect((await office.client().fetch('/api/docs/swagger-ui-init.js')).status).toBe(200);
    await office.close();
  });
});

describe('when the database goes away and comes back', () => {
  it('the server says so, and serves again without a restart', async () => {
    const folder = join(VAR, 'test-postgres-away');
    const port = await freePort();
    let server = await startPostgres(folder, port, { fast: true });
    const admin = new pg.Client({ connectionString: server.url('postgres') });
    await admin.connect();
    await admin.query('DROP DATABASE IF EXISTS away');
    await admin.query('CREATE DATABASE away');
    await admin.end();
    const door = { host: '127.0.0.1', port: 0 };
    const office = await openOffice({
      databaseUrl: server.url('away'),
      reach: { ...NO_REACH, tls: door, plain: door },
    });
    const doors = office.app.get(Doors);
    const iris = await office.signedIn('iris');
    await server.stop();
    const away = await iris.ask('GET', '/api/stores');
    expect([away.status, away.body.code, away.headers.get('retry-after')]).toEqual([503, 'database.unavailable', '2']);
    expect((await iris.upload(office.roots.projects, 'x.txt', Buffer.from('x'))).status).toBe(503);
    // A proof is asked for by anybody, at every door: it is told like everything else, and ends nothing.
    for (const origin of [office.origin, `http://127.0.0.1:${doors.ports[1]}`])
      expect((await fetch(`${origin}/reach/probe/${'n'.repeat(24)}`)).status).toBe(503);
    expect((await fetch(`http://127.0.0.1:${doors.ports[1]}/`)).status).toBe(503);
    server = await startPostgres(folder, port, { fast: true });
    let status = 0;
    for (let i = 0; i < 60 && status !== 200; i += 1) {
      status = (await iris.ask('GET', '/api/stores')).status;
      await new Promise((r) => setTimeout(r, 100));
    }
    expect(status).toBe(200);
    expect((await iris.upload(office.roots.projects, 'x.txt', Buffer.from('x'))).status).toBe(201);
    await office.close();
    await server.stop();
  });
});

describe('when the database was killed', () => {
  it('it is waited for until it has put itself right, and what was committed is there', async () => {
    const [folder, port] = [join(VAR, 'test-postgres-away'), await freePort()];
    const killed = (await startPostgres(folder, port, {})) as Server & { child: ChildProcess };
    const client = new pg.Client({ connectionString: killed.url('postgres') });
    client.on('error', () => undefined);
    await client.connect();
    await client.query('DROP TABLE IF EXISTS kept; CREATE TABLE kept AS SELECT g FROM generate_series(1, 100000) g');
    killed.child.kill('SIGKILL');
    await new Promise((ended) => killed.child.once('exit', ended));
    const again = await startPostgres(folder, await freePort(), {});
    // At once, without a second try: it is ready when it is said to be.
    const next = new pg.Client({ connectionString: again.url('postgres') });
    await next.connect();
    expect((await next.query<{ n: string }>('SELECT count(*) AS n FROM kept')).rows[0]?.n).toBe('100000');
    await next.end();
    await again.stop();
  });
});

describe('when the server is killed in the middle of an upload', () => {
  const folder = mkdtempSync(join(tmpdir(), 'killed-'));
  afterAll(() => rmSync(folder, { recursive: true, force: true }));
  it('there is neither a half file nor a lost one after the restart', async () => {
    // Furnished by an application in this process; then the real program serves the same database and blobs.
    const { env, port, roots } = await officeForServers(folder);
    let server = await startServer(env);
    const iris = new Client(`http://127.0.0.1:${port}`);
    await iris.ask('POST', '/api/session', { signInName: 'iris', password: PASSWORDS.iris });
    const kept = await iris.upload(roots.projects, 'kept.bin', randomBytes(500_000));
    expect(kept.status).toBe(201);
    await new Promise<void>((done) => {
      const half = request({
        port,
        host: '127.0.0.1',
        method: 'PUT',
        path: `/api/folders/${roots.projects}/files?name=half.bin`,
        headers: { cookie: iris.cookieHeader('/'), 'content-length': 9_000_000 },
      });
      half.on('error', () => done());
      half.write(randomBytes(2_000_000), () => setTimeout(() => server.kill('SIGKILL'), 150));
    });
    server = await startServer(env);
    const names = (
      await iris.ask<{ items: { name: string }[] }>('GET', `/api/folders/${roots.projects}`)
    ).body.items.map((i) => i.name);
    expect(names).toEqual(['kept.bin']);
    expect((await iris.fetch(`/api/files/${kept.body.id}/content`)).status).toBe(200);
    const named = readdirSync(join(folder, 'blobs')).filter((n) => n !== 'tmp');
    expect(named).toHaveLength(1);
    expect((await iris.upload(roots.projects, 'half.bin', randomBytes(9000))).status).toBe(201);
    server.kill('SIGTERM');
    await new Promise((done) => server.once('exit', done));
  });
});
