import type { AddressRow } from '@quay/contract';
import { execFile, execFileSync } from 'node:child_process';
import { existsSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { Agent } from 'node:https';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, expect, it } from 'vitest';
import { askAt, HOST, openReach } from '../_fixtures/reach.js';

const reach = await openReach('set up');
const { outside, office, iris, address } = reach;
afterAll(() => reach.close());

/** What OpenSSL's client says of a handshake. The door is in this very process, so it must not wait. */
function handshake(...args: string[]): Promise<string> {
  return new Promise((resolve) => {
    const child = execFile('openssl', ['s_client', ...args], { timeout: 8000 }, (_, said) => resolve(said));
    child.stdin?.end();
  });
}

it('shows visitors what they were given, with HSTS, and nothing of the rest', async () => {
  await iris.ask('PATCH', `/api/reach/addresses/${address.id}`, { isDefault: true });
  const { body: file } = await iris.upload(office.roots.projects, 'Plan.txt', Buffer.from('a plan'));
  const share = await office.publish(iris, [file.id]);
  expect(share.link).toMatch(/^https:\/\/files\.saltmarsh\.example\/s\/\w{22}$/);
  const door = await reach.fromOutside(`/s/${share.token}/door`);
  expect([door.status, door.headers['strict-transport-security']]).toEqual([200, 'max-age=15552000']);
  expect(door.text).toContain('Mill Lane drawings');
  for (const path of ['/api/session', '/sign-in', '/api/docs', '/'])
    expect((await reach.fromOutside(path)).status).toBe(404);
  await iris.ask('PATCH', `/api/reach/addresses/${address.id}`, { uses: 'sign-in' });
  expect((await reach.fromOutside('/api/session')).status).toBe(401);
  await iris.ask('PATCH', `/api/reach/addresses/${address.id}`, { uses: 'visitors' });
});

it.each(['-tls1_2', '-tls1_3'])('lets in who comes again with the session of before (OpenSSL %s)', async (version) => {
  const { host, port } = outside.publicSide(443);
  const session = join(mkdtempSync(join(tmpdir(), 'session-')), 'kept');
  const asks = (...more: string[]) =>
    new Promise<string>((resolve) => {
      const args = ['-connect', `${host}:${port}`, '-servername', HOST, version, '-quiet', ...more];
      const child = execFile('openssl', ['s_client', ...args], { timeout: 8000 }, (_, said) => resolve(said));
      child.stdin?.write(`GET /reach/probe HTTP/1.1\r\nHost: ${HOST}\r\nConnection: close\r\n\r\n`);
    });
  expect(await asks('-sess_out', session)).toContain('Lockfast Quay');
  expect(await asks(...(existsSync(session) ? ['-sess_in', session] : []))).toContain('Lockfast Quay');
});

it('under a path prefix the visitor gets page, parts and a cookie that is sent back there, and nothing beside it', async () => {
  const added = (
    await iris.ask<AddressRow>('POST', '/api/reach/addresses', {
      wayIn: 'mapping',
      scheme: 'https',
      host: 'files.saltmarsh.example',
      pathPrefix: '/office/files',
    })
  ).body;
  const { body: file } = await iris.upload(office.roots.projects, 'Under a prefix.txt', Buffer.from('a plan'));
  const share = await office.publish(iris, [file.id], { addressId: added.id });
  expect(share.link).toBe(`https://files.saltmarsh.example/office/files/s/${share.token}`);
  const page = await reach.fromOutside(`/office/files/s/${share.token}`);
  expect(page.text).not.toMatch(/(src|href)="\//);
  const script = /src="\.\.(\/assets\/[^"]+\.js)"/.exec(page.text)?.[1];
  expect((await reach.fromOutside(`/office/files${script}`)).status).toBe(200);
  const opened = await reach.fromOutside(`/office/files/s/${share.token}/open`, 'files.saltmarsh.example', {
    password: null,
  });
  expect([opened.status, String(opened.headers['set-cookie'])]).toEqual([
    200,
    expect.stringContaining(`Path=/office/files/s/${share.token}`),
  ]);
  await iris.ask('PATCH', `/api/shares/${share.id}`, { withdrawn: true });
  expect((await iris.ask('DELETE', `/api/reach/addresses/${added.id}`)).status).toBe(204);
});

it('serves a certificate that was got by hand, when it fits the address and its key', async () => {
  const folder = mkdtempSync(join(tmpdir(), 'certificate-'));
  const make = (name: string) => {
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
        'chain',
        '-subj',
        '/O=By hand',
        '-addext',
        `subjectAltName=DNS:${name}`,
        '-days',
        '400',
      ],
      { cwd: folder, stdio: 'ignore' },
    );
    return { chain: readFileSync(join(folder, 'chain'), 'utf8'), key: readFileSync(join(folder, 'key'), 'utf8') };
  };
  const put = (asked: object) => iris.ask('PUT', `/api/reach/addresses/${address.id}/certificate`, asked);
  const good = make('files.saltmarsh.example');
  expect((await put(make('other.example'))).body.code).toBe('certificate.other-name');
  expect((await put({ ...good, key: make('x.example').key })).body.code).toBe('certificate.other-key');
  expect((await put({ ...good, chain: 'nonsense' })).body.code).toBe('certificate.unreadable');
  office.clock.at = Date.now();
  expect((await put(good)).status).toBe(204);
  await expect(reach.fromOutside('/reach/probe')).rejects.toThrow(/self.signed/i);
  expect(
    await handshake('-connect', `127.0.0.1:${office.config.reach.tls?.port}`, '-servername', 'files.saltmarsh.example'),
  ).toContain('O = By hand');
  await office.db.query(`DELETE FROM certificate WHERE issuer = 'By hand'`);
  await reach.remedy('get-certificate');
  rmSync(folder, { recursive: true });
});

it('is verified by OpenSSL: the chain up to the root, and nothing older than TLS 1.2 (RFC 8996)', async () => {
  const folder = mkdtempSync(join(tmpdir(), 'root-'));
  writeFileSync(join(folder, 'root.pem'), outside.reach.roots[0] ?? '');
  const { host, port } = outside.publicSide(443);
  const ask = (...more: string[]) =>
    handshake(
      '-connect',
      `${host}:${port}`,
      '-servername',
      'files.saltmarsh.example',
      '-CAfile',
      join(folder, 'root.pem'),
      '-verify_hostname',
      'files.saltmarsh.example',
      ...more,
    );
  expect(await ask()).toMatch(/Verify return code: 0 \(ok\)/);
  expect(await ask('-tls1_1', '-cipher', 'DEFAULT@SECLEVEL=0')).toMatch(/Cipher is \(NONE\)/);
  rmSync(folder, { recursive: true });
});

it('is chosen by name: a name without a certificate gets no handshake, a certificate for one name does not open another', async () => {
  await expect(reach.fromOutside('/', 'other.saltmarsh.example')).rejects.toThrow();
});

it('a new certificate serves from the next handshake on, while connections that stand go on', async () => {
  const agent = new Agent({ keepAlive: true, maxSockets: 1 });
  const serial = async (of: Agent) =>
    (await askAt(outside, outside.publicSide(443), '/reach/probe', { agent: of })).serialNumber;
  const before = await serial(agent);
  await reach.remedy('get-certificate');
  expect(await serial(agent)).toBe(before);
  agent.destroy();
  expect(await serial(new Agent({ keepAlive: false }))).not.toBe(before);
});
