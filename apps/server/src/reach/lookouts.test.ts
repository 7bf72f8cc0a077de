import type { AddressRow, LookoutCode, ReachCheck, ReachNetwork } from '@quay/contract';
import { execFileSync } from 'node:child_process';
import { mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { request } from 'node:http';
import { createServer as createTls, type Server } from 'node:https';
import { createServer, type AddressInfo } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';
import { found } from '../_fixtures/reach.js';
import { NO_REACH } from '../platform/config.js';
import { readLookoutCode } from './lookout-code.js';

// Two offices that call each other over TLS on this machine: here a web server stands before the one that is called, which
// says where callers come from. How they look at each other over a real network is tested in the laboratory.
const folder = mkdtempSync(join(tmpdir(), 'quay-lookouts-'));
let here: TestOffice;
let there: TestOffice;
let iris: Client;
let admin: Client;
let front: Server;
/** Where callers come from, as the web server says. */
let comesFrom = '203.0.113.9';

beforeAll(async () => {
  const [certificate, key] = [join(folder, 'cert.pem'), join(folder, 'key.pem')];
  execFileSync(
    'openssl',
    [
      ...['req', '-x509', '-newkey', 'ec', '-pkeyopt', 'ec_paramgen_curve:prime256v1', '-nodes', '-days', '2'],
      ...['-subj', '/CN=localhost', '-addext', 'subjectAltName=DNS:localhost', '-keyout', key, '-out', certificate],
    ],
    { stdio: 'ignore' },
  );
  const roots = [readFileSync(certificate, 'utf8')];
  here = await openOffice({ reach: { ...NO_REACH, roots } });
  there = await openOffice({ reach: { ...NO_REACH, trustedProxies: ['127.0.0.1'] } });
  [iris, admin] = [await here.signedIn('iris'), await there.signedIn('iris')];
  front = createTls({ cert: readFileSync(certificate), key: readFileSync(key) }, (req, res) => {
    const headers = { ...req.headers, 'x-forwarded-for': comesFrom };
    const on = request(there.origin + req.url, { method: req.method, headers }, (answer) => {
      res.writeHead(answer.statusCode ?? 502, answer.headers);
      answer.pipe(res);
    });
    req.pipe(on);
  });
  await new Promise<void>((done) => front.listen(0, '127.0.0.1', done));
});
afterAll(async () => {
  front.close();
  await Promise.all([here.close(), there.close()]);
  rmSync(folder, { recursive: true });
});

const lookouts = async (by: Client) => (await by.ask<ReachNetwork>('GET', '/api/reach/network')).body.lookouts;
const makeCode = () => admin.ask<LookoutCode>('POST', '/api/reach/lookouts/code');
const take = (code: string) => iris.ask('POST', '/api/reach/lookouts', { code });
const look = (secret: string, ask: object) =>
  fetch(`${there.origin}/reach/probe/look`, {
    method: 'POST',
    headers: { authorization: `Bearer ${secret}`, 'content-type': 'application/json' },
    body: JSON.stringify({ url: null, ask }),
  });
const HOST = 'files.saltmarsh.example';
let secret: string;

describe('another office that looks from outside', () => {
  it('can be called, or makes no code', async () => {
    expect((await makeCode()).body).toMatchObject({ code: 'lookout.no-address' });
    const { port } = front.address() as AddressInfo;
    const asked = { wayIn: 'fixed', scheme: 'https', host: 'localhost', port, uses: 'visitors' };
    expect((await admin.ask('POST', '/api/reach/addresses', asked)).status).toBe(201);
    expect((await makeCode()).status).toBe(200);
  });
  it('is not one in the same network', async () => {
    comesFrom = '192.168.20.7';
    expect((await take((await makeCode()).body.code)).body.detail).toMatch(/both offices are in one network/);
    comesFrom = '203.0.113.9';
    expect([await lookouts(iris), await lookouts(admin)]).toEqual([[], []]);
  });
  it('is known by one code, from then on both ways; the code counts once', async () => {
    const before = (await makeCode()).body.code;
    const { code } = (await makeCode()).body;
    secret = readLookoutCode(code)?.secret ?? '';
    // Another one takes the place of what nobody took.
    expect((await take(before)).body).toMatchObject({ code: 'lookout.refused' });
    expect((await take(code)).status).toBe(204);
    expect(await lookouts(iris)).toMatchObject([
      { url: new URL(readLookoutCode(code)?.url ?? '').origin, failure: null },
    ]);
    // This office cannot be called: it has no address for outsiders.
    expect(await lookouts(admin)).toMatchObject([{ url: null, askedAt: null }]);
    expect((await take(code)).body).toMatchObject({ code: 'lookout.refused' });
    expect((await take(`${code.slice(0, -3)}AAA`)).body).toMatchObject({ code: 'lookout.unreadable' });
    expect((await admin.ask('POST', '/api/reach/lookouts', { code })).body).toMatchObject({ code: 'lookout.own' });
  });
  it('stands outside at every check from then on', async () => {
    const asked = { wayIn: 'fixed', scheme: 'https', host: HOST, port: null, uses: 'visitors' };
    const { body: address } = await iris.ask<AddressRow>('POST', '/api/reach/addresses', asked);
    const { body: check } = await iris.ask<ReachCheck>('POST', `/api/reach/addresses/${address.id}/check`);
    const outside = check.vantages.find((v) => v.vantage === 'outside');
    expect(outside?.exchange[0]).toMatch(/^asked of /);
    // No resolver of this machine knows the name.
    expect(found(check, 'outside', 'name').mark).toBe('fail');
    expect(await lookouts(admin)).toMatchObject([{ url: `https://${HOST}`, askedAt: expect.any(String) as string }]);
    expect((await lookouts(iris))[0]?.answeredAt).toEqual(expect.any(String));
  });
  it('connects to nothing that is not public', async () => {
    let came = 0;
    const server = createServer((socket) => {
      came += 1;
      socket.destroy();
    });
    await new Promise<void>((done) => server.listen(0, '127.0.0.1', done));
    const { port } = server.address() as AddressInfo;
    for (const ask of [
      { url: `http://127.0.0.1:${port}`, path: '/' },
      { url: `http://[::1]:${port}`, path: '/' },
      { url: `http://localhost:${port}`, path: '/' },
      { url: `http://${HOST}:${port}`, path: '/', address: '127.0.0.1' },
      { url: `http://${HOST}:${port}`, path: '/', address: '::ffff:127.0.0.1' },
    ]) {
      const answer = await look(secret, ask);
      expect(answer.status).toBe(200);
      expect(((await answer.json()) as { page: unknown }).page).toBeNull();
    }
    expect(came).toBe(0);
    server.close();
  });
  it.each([
    ['another page', { url: `https://${HOST}`, path: '/api/shares' }],
    ['another protocol', { url: 'file:///etc', path: '/' }],
    ['a page in the address', { url: `https://${HOST}/?q=`, path: '/' }],
    ['a name for an address', { url: `https://${HOST}`, path: '/', address: 'localhost' }],
    ['too many pages', { url: `https://${HOST}`, path: '/', morePaths: Array(4).fill('/reach/probe/aaaaaaaaaaaa') }],
  ])('is not asked for %s', async (_, ask) => expect((await look(secret, ask)).status).toBe(400));
  it('looks for nobody whom it does not know', async () => {
    for (const wrong of ['x'.repeat(43), '', secret.slice(1)])
      expect((await look(wrong, { url: `https://${HOST}`, path: '/' })).status).toBe(401);
    const tomas = await here.signedIn('tomas');
    expect((await tomas.ask('POST', '/api/reach/lookouts', { code: 'x' })).status).toBe(403);
  });
  it('does so only so often', async () => {
    let refused = 0;
    for (let i = 0; i < 130 && refused === 0; i += 1)
      if ((await look(secret, { url: 'http://127.0.0.1', path: '/' })).status === 429) refused += 1;
    expect(refused).toBe(1);
    there.clock.advance(601_000);
    expect((await look(secret, { url: 'http://127.0.0.1', path: '/' })).status).toBe(200);
  });
  it('that ends it is told as such, and ended here too', async () => {
    const [known] = await lookouts(admin);
    expect((await admin.ask('DELETE', `/api/reach/lookouts/${known?.id}`)).status).toBe(204);
    const [address] = (await iris.ask<AddressRow[]>('GET', '/api/reach/addresses')).body.filter((a) => a.host === HOST);
    const { body } = await iris.ask<ReachCheck>('POST', `/api/reach/addresses/${address?.id}/check`);
    expect(body.vantages.find((v) => v.vantage === 'outside')?.unavailable).toMatch(
      /does not know this office any more/,
    );
    const [gone] = await lookouts(iris);
    expect(gone?.failure).toMatch(/does not know this office/);
    expect((await iris.ask('DELETE', `/api/reach/lookouts/${gone?.id}`)).status).toBe(204);
    expect((await iris.ask('DELETE', `/api/reach/lookouts/${gone?.id}`)).status).toBe(404);
  });
  it('takes no code that has ended', async () => {
    const { code } = (await makeCode()).body;
    there.clock.advance(8 * 86_400_000);
    expect((await take(code)).body.detail).toMatch(/was used, has ended, or is of another office/);
  });
});
