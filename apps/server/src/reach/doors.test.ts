import { execFileSync } from 'node:child_process';
import { randomUUID } from 'node:crypto';
import { mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { request } from 'node:https';
import { connect } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { connect as connectTls } from 'node:tls';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { openOffice, PASSWORDS, type TestOffice } from '../_fixtures/office.js';
import { NO_REACH } from '../platform/config.js';
import { CertificatesService } from './certificates.service.js';
import { Doors } from './doors.js';

const FILES = 'files.saltmarsh.example';
const DESK = 'desk.saltmarsh.example';
const INNER = 'quay.office.example';

let office: TestOffice;
let doors: Doors;
const keys = mkdtempSync(join(tmpdir(), 'keys-'));

beforeAll(async () => {
  const door = { host: '127.0.0.1', port: 0 };
  // A proxy that is named may say where somebody comes from: so the tests can come from anywhere.
  office = await openOffice({ reach: { ...NO_REACH, tls: door, plain: door, trustedProxies: ['127.0.0.1'] } });
  for (const [host, uses, wayIn] of [
    [FILES, 'visitors', 'mapping'],
    [DESK, 'sign-in', 'mapping'],
    [INNER, 'sign-in', 'office'],
  ] as const) {
    await office.db.query(
      `INSERT INTO address (id, scheme, host, port, is_default, way_in, uses, redirect) VALUES ($1, 'https', $2, NULL, false, $3, $4, true)`,
      [randomUUID(), host, wayIn, uses],
    );
    const [key, cert] = [join(keys, `${host}.key`), join(keys, `${host}.pem`)];
    const subject = ['-subj', `/CN=${host}`, '-addext', `subjectAltName=DNS:${host}`];
    execFileSync(
      'openssl',
      [
        'req',
        '-x509',
        '-newkey',
        'ec',
        '-pkeyopt',
        'ec_paramgen_curve:P-256',
        '-nodes',
        '-days',
        '9',
        '-keyout',
        key,
        '-out',
        cert,
        ...subject,
      ],
      { stdio: 'ignore' },
    );
    await office.app.get(CertificatesService).keep(host, readFileSync(cert, 'utf8'), readFileSync(key, 'utf8'));
  }
  // Not before the certificates are valid.
  office.clock.at = Date.now();
  doors = office.app.get(Doors);
});
afterAll(async () => {
  await office.close();
  rmSync(keys, { recursive: true });
});

interface Asked {
  servername?: string;
  host?: string;
  path?: string;
  method?: string;
  from?: string;
  body?: object;
}

function ask({ servername = FILES, host = FILES, path = '/', method = 'GET', from = '203.0.113.9', body }: Asked) {
  return new Promise<{ status: number; code?: string }>((resolve, reject) => {
    const headers = { host, 'x-forwarded-for': from, ...(body && { 'content-type': 'application/json' }) };
    const req = request({
      port: doors.ports[0],
      servername,
      path,
      method,
      headers,
      rejectUnauthorized: false,
      agent: false,
    });
    req.on('error', reject);
    req.on('response', (res) => {
      let text = '';
      res.on('data', (piece: Buffer) => (text += piece.toString()));
      res.on('end', () => resolve({ status: res.statusCode ?? 0, code: /"code":"([^"]+)"/.exec(text)?.[1] }));
    });
    req.end(body && JSON.stringify(body));
  });
}

const signIn = { path: '/api/session', method: 'POST', body: { signInName: 'iris', password: PASSWORDS.iris } };

describe('the encrypted door', () => {
  it('lets people sign in where that is what the address is for', async () => {
    expect((await ask({ servername: DESK, host: DESK, ...signIn })).status).toBe(204);
    expect((await ask({ servername: INNER, host: INNER, from: '192.168.20.5', ...signIn })).status).toBe(204);
  });
  it.each([
    ['the handshake of the visitors, the Host of another', { servername: FILES, host: DESK }],
    ['the handshake of the visitors, the Host of an inner one', { servername: FILES, host: INNER }],
    ['the same from inside', { servername: FILES, host: INNER, from: '192.168.20.5' }],
    ['an inner one from outside', { servername: INNER, host: INNER }],
    ['another port', { servername: DESK, host: `${DESK}:8443` }],
    ['a Host that nobody bears', { servername: DESK, host: 'elsewhere.example' }],
  ])('%s: 421, and nobody is signed in', async (_, asked) => {
    expect(await ask({ ...asked, ...signIn })).toEqual({ status: 421, code: 'address.unknown' });
  });
  it.each([
    '/reach/plan',
    '/reach/addresses/1',
    '/API/session',
    '/sign-in',
    '/Sign-In',
    '//api/session',
    '/s/../api/session',
    '/assets/..%2findex.html',
    '/api/docs',
  ])('visitors get nothing of %s', async (path) => expect([400, 404]).toContain((await ask({ path })).status));
  it('a target that is a whole URL gets nothing', async () =>
    expect((await ask({ path: `https://${FILES}/api/session` })).status).toBe(421));
  it('proofs and links are answered to visitors', async () => {
    expect((await ask({ path: '/reach/probe' })).status).toBe(200);
    expect((await ask({ path: `/s/${'A'.repeat(22)}` })).status).toBe(200);
    expect((await ask({ path: `/h/${'A'.repeat(22)}` })).status).toBe(200);
  });
  it('a handshake for a name that is no address is refused', async () =>
    expect(
      await ask({ servername: 'elsewhere.example' }).then(
        () => 'answered',
        () => 'refused',
      ),
    ).toBe('refused'));
});

describe('the doors and what is strange', () => {
  const raw = (bytes: string, plain: boolean) =>
    new Promise<string>((resolve) => {
      const socket = plain
        ? connect({ port: doors.ports[1] as number })
        : connectTls({ port: doors.ports[0] as number, servername: FILES, rejectUnauthorized: false });
      let text = '';
      socket.on('data', (piece: Buffer) => (text += piece.toString()));
      socket.on('close', () => resolve(text));
      socket.on('error', () => resolve(text));
      socket.end(bytes);
    });
  it.each([true, false])('answer garbage with a refusal and go on (plain: %s)', async (plain) => {
    for (const bytes of [
      '\0\0\0',
      'GET / HTTP/1.1\r\n\r\n',
      'GET * HTTP/1.1\r\nHost: x\r\n\r\n',
      `GET /%00 HTTP/1.1\r\nHost: ${FILES}\r\nConnection: close\r\n\r\n`,
      `GET /reach/probe/%ff HTTP/1.1\r\nHost: ${FILES}\r\nConnection: close\r\n\r\n`,
    ])
      expect(await raw(bytes, plain)).not.toMatch(/^HTTP\/1.1 5/);
    expect((await ask({ path: '/reach/probe' })).status).toBe(200);
  });
});
