import { rootCertificates } from 'node:tls';
import { execFileSync, spawn } from 'node:child_process';
import { mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { createServer as createPlain, type Server } from 'node:http';
import { createServer as createTls } from 'node:https';
import { createServer as createTcp, type AddressInfo, type Server as TcpServer } from 'node:net';
import { tmpdir } from 'node:os';
import { join, resolve } from 'node:path';
import fc from 'fast-check';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { measure, PLAIN_WAY, probeServer, readAsk, trusted, type Way } from './probe.js';

let folder = '';
const open: (Server | TcpServer)[] = [];
const listen = async <T extends Server | TcpServer>(server: T): Promise<number> => {
  open.push(server);
  await new Promise<void>((done) => server.listen(0, '127.0.0.1', done));
  return (server.address() as AddressInfo).port;
};
let root = '';
let secure = 0;
let plain = 0;

beforeAll(async () => {
  folder = mkdtempSync(join(tmpdir(), 'probe-'));
  execFileSync(
    'openssl',
    [
      'req',
      '-x509',
      '-newkey',
      'ec',
      '-pkeyopt',
      'ec_paramgen_curve:prime256v1',
      '-nodes',
      '-keyout',
      'key',
      '-out',
      'cert',
      '-subj',
      '/O=Probe test',
      '-addext',
      'subjectAltName=DNS:files.saltmarsh.example',
      '-days',
      '30',
    ],
    { cwd: folder, stdio: 'ignore' },
  );
  root = readFileSync(join(folder, 'cert'), 'utf8');
  secure = await listen(
    createTls({ cert: root, key: readFileSync(join(folder, 'key')) }, (req, res) =>
      res
        .writeHead(200, { 'strict-transport-security': 'max-age=15552000; includeSubDomains' })
        .end(`asked for ${req.url}`),
    ) as unknown as Server,
  );
  plain = await listen(
    createPlain((_req, res) => res.writeHead(301, { location: 'https://files.saltmarsh.example/' }).end()),
  );
});
afterAll(() => {
  for (const server of open) {
    server.close();
    if ('closeAllConnections' in server) server.closeAllConnections();
  }
  rmSync(folder, { recursive: true, force: true });
});

/** Every address leads to these ports of this machine. */
const wayTo = (ports: Record<number, number | null>): Way => ({
  resolvers: ['127.0.0.1:9'],
  place: (_, port) => (ports[port] ? { host: '127.0.0.1', port: ports[port] as number } : null),
});
const ask = {
  url: 'https://files.saltmarsh.example',
  path: '/reach/probe/abc',
  address: '198.51.100.24',
  roots: [] as string[],
};

it('roots that are named are trusted besides the usual ones', () => {
  expect(trusted(['one'])).toEqual([...rootCertificates, 'one']);
  expect(rootCertificates.length).toBeGreaterThan(50);
});

describe('measuring', () => {
  it('follows connection, encryption, page, redirect and HSTS, and trusts only who is to be trusted', async () => {
    const found = await measure({ ...ask, roots: [root] }, wayTo({ 443: secure, 80: plain }));
    expect(found.connect?.outcome).toBe('connected');
    expect(found.tls).toMatchObject({
      outcome: 'agreed',
      protocol: 'TLSv1.3',
      names: ['files.saltmarsh.example'],
      trusted: true,
      issuer: 'Probe test',
    });
    expect(found.page).toMatchObject({ outcome: 'answered', status: 200, body: 'asked for /reach/probe/abc' });
    expect(found.redirect).toEqual({
      outcome: 'redirects',
      status: 301,
      location: 'https://files.saltmarsh.example/',
      hstsSeconds: 15_552_000,
    });
    expect((await measure(ask, wayTo({ 443: secure, 80: plain }))).tls?.trusted).toBe(false);
  });
  it.each([
    ['nothing listens', 1, 'refused'],
    ['there is no way', null, 'unreachable'],
  ] as const)('%s', async (_, port, outcome) => {
    const found = await measure(ask, wayTo({ 443: port }));
    expect([found.connect?.outcome, found.tls, found.page]).toEqual([outcome, null, null]);
  });
  it('plain HTTP where TLS should be, and old TLS, are told apart', async () => {
    expect((await measure(ask, wayTo({ 443: plain }))).tls?.outcome).toBe('no-tls');
    const old = await listen(
      createTls(
        {
          cert: root,
          key: readFileSync(join(folder, 'key')),
          minVersion: 'TLSv1',
          maxVersion: 'TLSv1.1',
          ciphers: 'DEFAULT@SECLEVEL=0',
        },
        (_req, res) => res.end(),
      ) as unknown as Server,
    );
    expect((await measure(ask, wayTo({ 443: old }))).tls?.outcome).toMatch(/old-protocol|failed/);
  });
  it('whoever accepts and says nothing, or never ends, is left in time', async () => {
    const silent = await listen(createTcp(() => undefined));
    const began = Date.now();
    const found = await measure(ask, wayTo({ 443: silent }));
    expect([found.connect?.outcome, found.tls]).toEqual(['timeout', null]);
    expect(Date.now() - began).toBeLessThan(6000);
    const endless = await listen(
      createPlain((_req, res) => {
        const timer = setInterval(() => res.write('x'.repeat(10_000)), 5);
        res.on('close', () => clearInterval(timer));
      }),
    );
    const page = (await measure({ ...ask, url: 'http://files.saltmarsh.example' }, wayTo({ 80: endless }))).page;
    expect([page?.outcome, page?.body.length]).toEqual(['answered', 2000]);
  }, 20_000);
  it('a name server that does not answer is given up in time', async () => {
    const found = await measure({ ...ask, address: null }, wayTo({}));
    expect(found.lookup?.outcome).toMatch(/timeout|refused/);
    expect(found.connect).toBeNull();
  }, 20_000);
});

describe('the standing probe', () => {
  it('answers who has the token, and refuses others and what it cannot read', async () => {
    const port = await listen(probeServer('token-of-sixteen-or-more', PLAIN_WAY));
    const post = (authorization: string, body: string) =>
      fetch(`http://127.0.0.1:${port}/`, { method: 'POST', headers: { authorization }, body });
    expect((await post('Bearer another', '{}')).status).toBe(401);
    expect((await post('Bearer token-of-sixteen-or-more', '{"url":"file:///etc/passwd","path":"/"}')).status).toBe(400);
    const answer = await post(
      'Bearer token-of-sixteen-or-more',
      JSON.stringify({ url: `http://127.0.0.1:${plain}`, path: '/x' }),
    );
    expect(await answer.json()).toMatchObject({ connect: { outcome: 'connected' }, page: { status: 301 } });
  });
  it('what it is asked is never taken for more than it is', () => {
    fc.assert(
      fc.property(fc.string(), (text) => {
        expect(readAsk(text)).toBeNull();
      }),
    );
    for (const bad of [
      { url: 'https://a b', path: '/' },
      { url: 'https://a', path: 'x' },
      { url: 'https://a', path: '/\r\nHost: b' },
      { url: 'https://a', path: '/', address: 'b' },
    ])
      expect(readAsk(JSON.stringify(bad))).toBeNull();
  });
});

describe('as a program', () => {
  it('is one file that needs nothing, and says in words and by its code what it found', async () => {
    const file = resolve(import.meta.dirname, '../dist/probe.js');
    const run = (...args: string[]) =>
      new Promise<{ code: number | null; said: string }>((done) => {
        const child = spawn(process.execPath, [file, ...args], { cwd: folder });
        let said = '';
        child.stdout.on('data', (piece) => (said += String(piece)));
        child.on('close', (code) => done({ code, said }));
      });
    expect(readFileSync(file, 'utf8')).not.toMatch(/from '(?!node:)/);
    expect(await run('nonsense')).toMatchObject({ code: 1 });
    expect(await run(`https://127.0.0.1:${secure}`)).toMatchObject({
      code: 2,
      said: expect.stringContaining('not trusted') as string,
    });
    expect(await run('http://127.0.0.1:1')).toMatchObject({
      code: 2,
      said: expect.stringContaining('No connection.') as string,
    });
  });
});
