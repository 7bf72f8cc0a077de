import acme from 'acme-client';
import { execFileSync, spawn } from 'node:child_process';
import { X509Certificate } from 'node:crypto';
import { mkdirSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { createServer, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Authority } from './server.js';
import { nameFault, NO_FAULTS, orderStatus, type Authorization, type Order } from './state.js';

// That client tries again for minutes where it is told to come back later.
(acme.axios.defaults as unknown as { acmeSettings: { retryMaxAttempts: number } }).acmeSettings.retryMaxAttempts = 0;

const folder = mkdtempSync(join(tmpdir(), 'quay-acme-'));
const proofs = new Map<string, string>();
const txt = new Map<string, string[]>();
let authority: Authority;
let web: Server;
let directoryUrl = '';
beforeAll(async () => {
  mkdirSync(join(folder, 'challenges'));
  web = createServer((req, res) => {
    const token = (req.url ?? '').split('/').at(-1) ?? '';
    const proof = proofs.get(token) ?? readOr(join(folder, 'challenges', token));
    res.writeHead(proof === null ? 404 : 200).end(proof ?? '');
  }).listen(0, '127.0.0.1');
  await new Promise((resolve) => web.once('listening', resolve));
  const place = { host: '127.0.0.1', port: (web.address() as AddressInfo).port };
  authority = await Authority.create({
    web: (host) => Promise.resolve(host.endsWith('saltmarsh.example') ? place : null),
    txt: (name) => Promise.resolve(txt.get(name) ?? []),
  });
  directoryUrl = `http://127.0.0.1:${await authority.listen('127.0.0.1', 0)}/directory`;
});
afterAll(async () => {
  await authority.close();
  web.close();
  rmSync(folder, { recursive: true });
});
const readOr = (path: string): string | null => {
  try {
    return readFileSync(path, 'utf8');
  } catch {
    return null;
  }
};
const client = async () =>
  new acme.Client({
    directoryUrl,
    accountKey: await acme.crypto.createPrivateEcdsaKey(),
    backoffMin: 50,
    backoffMax: 200,
  });
const order = async (names: string[], prefer: ('http-01' | 'dns-01')[] = ['http-01'], keep = true) => {
  const [, csr] = await acme.crypto.createCsr(
    { commonName: names[0] as string, altNames: names },
    await acme.crypto.createPrivateEcdsaKey(),
  );
  return (await client()).auto({
    csr,
    email: 'iris@saltmarsh.example',
    termsOfServiceAgreed: true,
    skipChallengeVerification: true,
    challengePriority: prefer,
    challengeCreateFn: async (authz, challenge, keyAuthorization) => {
      if (!keep) return;
      if (challenge.type === 'http-01') proofs.set(challenge.token, keyAuthorization);
      else txt.set(`_acme-challenge.${authz.identifier.value}`, [keyAuthorization]);
    },
    challengeRemoveFn: async () => undefined,
  });
};

// acme-client is a client from npm; dehydrated is Debian's; certificates are judged by OpenSSL.
describe('the certificate authority', () => {
  it('issues by HTTP-01 what OpenSSL verifies against its root', async () => {
    const pem = await order(['files.saltmarsh.example', 'www.saltmarsh.example']);
    writeFileSync(join(folder, 'root.pem'), authority.rootPem);
    const [leaf, intermediate] = pem.split(/(?<=-----END CERTIFICATE-----)\s*/).filter(Boolean) as [string, string];
    writeFileSync(join(folder, 'leaf.pem'), leaf);
    writeFileSync(join(folder, 'intermediate.pem'), intermediate);
    expect(
      execFileSync(
        'openssl',
        [
          'verify',
          '-x509_strict',
          '-CAfile',
          'root.pem',
          '-untrusted',
          'intermediate.pem',
          '-verify_hostname',
          'www.saltmarsh.example',
          '-purpose',
          'sslserver',
          'leaf.pem',
        ],
        { cwd: folder },
      ).toString(),
    ).toBe('leaf.pem: OK\n');
    const certificate = new X509Certificate(leaf);
    expect(certificate.checkHost('other.example')).toBeUndefined();
    expect(Date.parse(certificate.validTo) - Date.now()).toBeLessThan(8 * 86_400_000);
  });
  it('issues wildcards by DNS-01 only', async () => {
    const certificate = new X509Certificate(await order(['*.saltmarsh.example'], ['http-01', 'dns-01']));
    expect(certificate.checkHost('anything.saltmarsh.example')).toBe('*.saltmarsh.example');
  });
  it('issues nothing without the proof, for a name without an address, or for what is no name', async () => {
    await expect(order(['unproven.saltmarsh.example'], ['http-01'], false)).rejects.toThrow(/could not be fetched/);
    await expect(order(['files.elsewhere.example'])).rejects.toThrow(/has no address/);
    await expect(order(['localhost'])).rejects.toThrow(/not a name/);
    await expect(order(['192.0.2.1'])).rejects.toThrow(/not a name/);
  });
  it('takes an update of an account that says what it changes, and no other', async () => {
    const known = await client();
    await known.createAccount({ termsOfServiceAgreed: true });
    expect((await known.updateAccount({ contact: ['mailto:iris@saltmarsh.example'] })).status).toBe('valid');
    await expect(known.updateAccount({ termsOfServiceAgreed: true })).rejects.toThrow(/names what it changes/);
  });
  it('fails as real ones do: limits, validation, a forgotten nonce, out of order', async () => {
    authority.faults = { ...NO_FAULTS, rateLimited: true };
    await expect(order(['files.saltmarsh.example'])).rejects.toThrow(/Try again tomorrow/);
    authority.faults = { ...NO_FAULTS, failValidation: true };
    await expect(order(['files.saltmarsh.example'])).rejects.toThrow(/made to fail/);
    authority.faults = { ...NO_FAULTS, badNonceOnce: true };
    expect(await order(['files.saltmarsh.example'])).toContain('BEGIN CERTIFICATE');
    authority.faults = { ...NO_FAULTS, down: true };
    expect((await fetch(directoryUrl)).status).toBe(503);
    authority.faults = NO_FAULTS;
  });
  it('wants signatures that hold (RFC 8555 §6.2): plain JSON, a foreign address and a second use of a nonce are refused', async () => {
    const account = `${directoryUrl.replace('/directory', '')}/account`;
    expect((await fetch(account, { method: 'POST', body: '{}' })).status).toBe(415);
    const { protected: head, ...rest } = {
      protected: Buffer.from(JSON.stringify({ alg: 'none', nonce: 'x', url: account })).toString('base64url'),
      payload: '',
      signature: '',
    };
    const answer = await fetch(account, {
      method: 'POST',
      headers: { 'content-type': 'application/jose+json' },
      body: JSON.stringify({ protected: head, ...rest }),
    });
    expect(((await answer.json()) as { type: string }).type).toBe('urn:ietf:params:acme:error:badSignatureAlgorithm');
    expect((await fetch(account)).status).toBe(405);
  });
  it("serves Debian's dehydrated", { timeout: 60_000 }, async () => {
    writeFileSync(
      join(folder, 'config'),
      `CA="${directoryUrl}"\nBASEDIR="${folder}/d"\nWELLKNOWN="${folder}/challenges"\nKEY_ALGO=prime256v1\nCONTACT_EMAIL=iris@saltmarsh.example\n`,
    );
    mkdirSync(join(folder, 'd'), { recursive: true });
    const run = (...args: string[]) =>
      new Promise<{ status: number | null; said: string }>((resolve) => {
        const child = spawn('dehydrated', ['--config', join(folder, 'config'), ...args]);
        let said = '';
        for (const stream of [child.stdout, child.stderr])
          stream.on('data', (piece: Buffer) => (said += piece.toString()));
        child.on('close', (status) => resolve({ status, said }));
      });
    expect(await run('--register', '--accept-terms')).toMatchObject({ status: 0 });
    expect((await run('--cron', '--domain', 'debian.saltmarsh.example')).said).toContain('Done!');
    expect(
      new X509Certificate(readFileSync(join(folder, 'd/certs/debian.saltmarsh.example/cert.pem'))).checkHost(
        'debian.saltmarsh.example',
      ),
    ).toBe('debian.saltmarsh.example');
  });
});

describe('orders', () => {
  const base: Order = {
    id: 'o',
    accountId: 'a',
    names: ['x.example'],
    authorizationIds: [],
    status: 'pending',
    expires: '',
    certificateId: null,
    error: null,
  };
  const authz = (status: Authorization['status']): Authorization => ({
    id: 'z',
    accountId: 'a',
    name: 'x.example',
    wildcard: false,
    status,
    expires: '',
    challenges: [],
  });
  it('follow their authorizations (RFC 8555 §7.1.6)', () =>
    expect([
      orderStatus(base, [authz('valid'), authz('pending')]),
      orderStatus(base, [authz('valid')]),
      orderStatus(base, [authz('valid'), authz('invalid')]),
      orderStatus({ ...base, status: 'valid' }, [authz('invalid')]),
    ]).toEqual(['pending', 'ready', 'invalid', 'valid']));
  it.each([
    ['files.saltmarsh.example', true],
    ['*.saltmarsh.example', true],
    ['a..b', false],
    ['-a.example', false],
    ['a_b.example', false],
    ['*.*.example', false],
  ])('%s: %s', (name, sound) => expect(nameFault(name) === null).toBe(sound));
});
