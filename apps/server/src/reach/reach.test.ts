import type { AddressRow, AddressSheet, ReachCheck, VantageResult } from '@quay/contract';
import type { Stage, StageResult, Vantage } from '@quay/core';
import { execFile, execFileSync } from 'node:child_process';
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { request } from 'node:https';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';
import { openOutside, type Outside } from '../_fixtures/outside.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Doors } from './doors.js';
import { UpkeepService } from './upkeep.service.js';

let outside: Outside;
let office: TestOffice;
let doors: Doors;
let iris: Client;
let address: AddressRow;

beforeAll(async () => {
  outside = await openOutside();
  office = await openOffice({ reach: outside.reach });
  // Certificates are from an authority whose clock is this machine's.
  office.clock.at = Date.now();
  doors = await Doors.open(office.app, office.config);
  iris = await office.signedIn('iris');
});
afterAll(async () => {
  await doors?.close();
  await office?.close();
  await outside?.close();
});

const at = (check: ReachCheck | VantageResult[], vantage: Vantage, stage: Stage): StageResult => {
  const found = (Array.isArray(check) ? check : check.vantages)
    .find((v) => v.vantage === vantage)
    ?.trace?.find((s) => s.stage === stage);
  if (!found) throw new Error(`nothing was found at ${stage} from ${vantage}`);
  return found;
};
/** The clock goes back to the machine's; what was found in days to come is forgotten. */
const backToday = async () => {
  office.clock.at = Date.now();
  await office.db.query('DELETE FROM reach_check WHERE at > $1', [office.clock.date()]);
};
const check = async () => (await iris.ask<ReachCheck>('POST', `/api/reach/addresses/${address.id}/check`)).body;
const remedy = (act: string, vantage: Vantage = 'outside') =>
  iris.ask<ReachCheck>('POST', `/api/reach/addresses/${address.id}/remedies/${vantage}`, { act });

describe('the way in, set up step by step by the program', () => {
  it('an address is added and checked from every vantage: nothing is mapped yet', async () => {
    const added = await iris.ask<AddressRow>('POST', '/api/reach/addresses', {
      wayIn: 'mapping',
      scheme: 'https',
      host: 'Files.Saltmarsh.example',
      port: 443,
      uses: 'visitors',
    });
    expect([added.status, added.body.text]).toEqual([201, 'https://files.saltmarsh.example']);
    address = added.body;
    const found = await check();
    expect(found.vantages.map((v) => v.vantage)).toEqual(['outside', 'office', 'guest', 'tunnel']);
    expect(at(found, 'outside', 'name')).toMatchObject({ mark: 'ok', value: '198.51.100.24', note: 'ttl 300' });
    expect(at(found, 'outside', 'line')).toMatchObject({ mark: 'ok', value: 'public' });
    expect(at(found, 'outside', 'router')).toMatchObject({ mark: 'fail', value: 'no mapping' });
    expect(at(found, 'outside', 'router').remedies.map((r) => r.act)).toContain('map-port');
    expect(found.mark).toBe('fail');
  });

  it('opens the ports at the router, where others see them too', async () => {
    const { status, body } = await remedy('map-port');
    expect(status).toBe(200);
    expect(at(body, 'outside', 'router')).toMatchObject({ mark: 'ok', value: '443 → 8443' });
    expect(at(body, 'outside', 'port').mark).toBe('ok');
    // Without a certificate there is nothing to agree on.
    expect(at(body, 'outside', 'certificate').mark).toBe('fail');
    expect((await outside.state()).mappings).toMatchObject([
      { external: 443, to: '192.168.20.10:8443', by: 'PCP' },
      { external: 80, to: '192.168.20.10:8080' },
    ]);
  });

  it('gets a certificate by HTTP-01, through the mapped port 80', async () => {
    const { status, body } = await remedy('get-certificate');
    expect([status, body.detail]).toEqual([200, undefined]);
    expect(at(body, 'outside', 'certificate')).toMatchObject({
      value: expect.stringMatching(/^[67] days left$/) as string,
    });
    expect(at(body, 'outside', 'redirect')).toMatchObject({ mark: 'warn' });
    expect(at(body, 'outside', 'page')).toMatchObject({ mark: 'ok' });
    expect((await outside.state()).certificates.at(-1)?.names).toEqual(['files.saltmarsh.example']);
    const secret = JSON.stringify((await iris.ask('GET', `/api/reach/addresses/${address.id}`)).body);
    expect(secret).not.toMatch(/PRIVATE KEY|sealed/i);
  }, 60_000);

  it('turns on the redirect and HSTS', async () => {
    const { body } = await remedy('redirect-on');
    expect(at(body, 'outside', 'redirect')).toMatchObject({ mark: 'ok', value: 'http → https', note: '301' });
    expect(at(body, 'tunnel', 'page').mark).toBe('ok');
  });

  it('remembers the steps, so that a half-finished guide resumes, and tells the ledger', async () => {
    const { body } = await iris.ask<AddressSheet>('GET', `/api/reach/addresses/${address.id}`);
    expect(body.guide.map((g) => [g.step, g.done?.by ?? null])).toEqual([
      ['record', null],
      ['mapping', 'program'],
      ['certificate', 'program'],
      ['redirect', 'program'],
      ['closed', null],
    ]);
    expect(body.upkeep.map((u) => u.kind).sort()).toEqual(['certificate', 'mapping', 'mapping']);
    const words = (await iris.ask<{ entries: { words: string }[] }>('GET', '/api/ledger?limit=10')).body.entries.map(
      (e) => e.words,
    );
    expect(words).toEqual(
      expect.arrayContaining([
        expect.stringMatching(/^got a certificate for files.saltmarsh.example/),
        'opened port 443 on the router for https://files.saltmarsh.example',
      ]),
    );
  });

  it('a step that was done by hand counts when it is seen, and not before', async () => {
    const hand = (step: string) => iris.ask('POST', `/api/reach/addresses/${address.id}/guide`, { step, how: 'hand' });
    expect((await hand('record')).status).toBe(200);
    await outside.faults({ 'router.firewall': true });
    const refused = await hand('mapping');
    expect([refused.status, refused.body.code]).toEqual([409, 'reach.step-not-seen']);
    await outside.faults({});
  }, 30_000);
});

describe('what goes wrong, and what mends it', () => {
  it('a router without loopback stops the guest Wi-Fi; a record of its own lets it in', async () => {
    await outside.faults({ 'router.noLoopback': true });
    const found = await check();
    expect(at(found, 'guest', 'router')).toMatchObject({ mark: 'fail', value: 'no loopback' });
    expect([at(found, 'outside', 'page').mark, found.mark]).toEqual(['ok', 'warn']);
    const key = {
      address: '192.168.40.1',
      zone: 'saltmarsh.example',
      keyName: 'quay-update',
      secret: outside.updateSecret,
    };
    expect((await remedy('office-record', 'guest')).body.code).toBe('reach.no-name-server');
    expect((await iris.ask('PUT', '/api/reach/name-servers/guest', key)).status).toBe(204);
    const mended = await remedy('office-record', 'guest');
    expect(at(mended.body, 'guest', 'name').value).toBe('192.168.20.10');
    expect(at(mended.body, 'guest', 'page').mark).toBe('ok');
    expect(JSON.stringify((await iris.ask('GET', '/api/reach/network')).body)).not.toContain(outside.updateSecret);
    await outside.faults({});
  }, 30_000);

  it('another address of the line makes the record stale; it is changed by a signed update, and by itself from then on', async () => {
    await outside.faults({ 'line.changed': true });
    const stale = at(await check(), 'outside', 'name');
    expect(stale).toMatchObject({ mark: 'fail', value: '198.51.100.24' });
    expect(stale.reason).toContain('198.51.100.77');
    const wrong = {
      address: '203.0.113.53',
      zone: 'saltmarsh.example',
      keyName: 'quay-update',
      secret: Buffer.from('another key of 32 bytes or so.').toString('base64'),
    };
    await iris.ask('PUT', '/api/reach/name-servers/public', wrong);
    expect((await remedy('update-record')).body).toMatchObject({
      code: 'reach.update-refused',
      detail: expect.stringContaining('BADSIG') as string,
    });
    await iris.ask('PUT', '/api/reach/name-servers/public', { ...wrong, secret: outside.updateSecret });
    expect(at((await remedy('update-record')).body, 'outside', 'page').mark).toBe('ok');
    await outside.faults({});
    await office.app.get(UpkeepService).round();
    expect(
      (await outside.state()).records.find((r) => r.network === 'public' && r.name === 'files.saltmarsh.example')
        ?.value,
    ).toBe('198.51.100.24');
  }, 30_000);

  it.each([
    ['router.carrierGrade', 'line', /RFC 6598/],
    ['router.doubleNat', 'line', /second router/],
  ] as const)(
    '%s is told at the stage %s',
    async (fault, stage, reason) => {
      await outside.faults({ [fault]: true });
      const found = at(await check(), 'outside', stage);
      expect([found.mark, found.reason]).toEqual(['fail', expect.stringMatching(reason)]);
      await outside.faults({});
    },
    30_000,
  );

  it('a port that another device has is told by name, and nothing of that device is changed', async () => {
    await outside.faults({ 'router.portTaken': true });
    const found = at(await check(), 'outside', 'router');
    expect(found).toMatchObject({
      mark: 'fail',
      value: '443 taken',
      reason: expect.stringContaining('192.168.20.55') as string,
    });
    expect((await remedy('map-port')).body).toMatchObject({ code: 'reach.port-taken' });
    expect((await outside.state()).mappings.find((m) => m.external === 443)?.to).toBe('192.168.20.55:443');
    await outside.faults({});
    await remedy('map-port');
  }, 30_000);

  it('four vantages are done in under five seconds when nothing answers', async () => {
    await outside.faults({ 'router.firewall': true, 'names.silent': true, 'stun.silent': true });
    const found = await check();
    expect(found.tookMs).toBeLessThan(5500);
    expect(at(found, 'outside', 'name')).toMatchObject({ mark: 'fail', value: 'no answer' });
    await outside.faults({});
  }, 30_000);

  it('mappings are renewed at half of their lease, also by NAT-PMP and UPnP when that is all there is', async () => {
    for (const [faults, by] of [
      [{ 'router.noPcp': true }, 'NAT-PMP'],
      [{ 'router.noPcp': true, 'router.noPmp': true }, 'Lockfast Quay'],
    ] as const) {
      await outside.faults(faults);
      office.clock.advance(3_700_000);
      await office.app.get(UpkeepService).round();
      expect((await outside.state()).mappings.map((m) => m.by)).toEqual([by, by]);
    }
    await outside.faults({ 'router.noPcp': true, 'router.noPmp': true, 'router.noUpnp': true });
    expect((await remedy('map-port')).body.code).toBe('reach.no-mapping-protocol');
    await outside.faults({});
    await backToday();
  }, 60_000);

  it('a failed renewal leaves the old certificate serving, and says so', async () => {
    await iris.ask('POST', `/api/reach/addresses/${address.id}/guide`, { step: 'certificate', how: 'program' });
    const day = 86_400_000;
    office.clock.advance(5.5 * day);
    await outside.faults({ 'authority.down': true });
    await office.app.get(UpkeepService).round();
    const { body } = await iris.ask<AddressSheet>('GET', `/api/reach/addresses/${address.id}`);
    expect(body.upkeep.find((u) => u.kind === 'certificate')?.failure).toMatch(/gave no certificate/);
    expect(at(await check(), 'outside', 'certificate')).toMatchObject({ mark: 'warn', value: '1 day left' });
    await outside.faults({});
    await backToday();
  }, 90_000);
});

/** A request through the router's public side, as a stranger makes it. */
function fromOutside(
  path: string,
  host = 'files.saltmarsh.example',
  body: object | null = null,
): Promise<{ status: number; headers: Record<string, unknown>; text: string }> {
  return new Promise((resolve, reject) => {
    request(
      {
        ...outside.publicSide(443),
        agent: false,
        servername: host,
        ca: outside.reach.roots,
        path,
        method: body ? 'POST' : 'GET',
        headers: { host, ...(body && { 'content-type': 'application/json' }) },
      },
      (res) => {
        let text = '';
        res.on('data', (piece) => (text += String(piece)));
        res.on('end', () => resolve({ status: res.statusCode ?? 0, headers: res.headers, text }));
      },
    )
      .on('error', reject)
      .end(body ? JSON.stringify(body) : undefined);
  });
}

/** What OpenSSL's client says of a handshake. The door is in this very process, so it must not wait. */
function handshake(...args: string[]): Promise<string> {
  return new Promise((resolve) => {
    const child = execFile('openssl', ['s_client', ...args], { timeout: 8000 }, (_, said) => resolve(said));
    child.stdin?.end();
  });
}

describe('the door', () => {
  it('shows visitors what they were given, with HSTS, and nothing of the rest', async () => {
    await iris.ask('PATCH', `/api/reach/addresses/${address.id}`, { isDefault: true });
    const { body: file } = await iris.upload(office.roots.projects, 'Plan.txt', Buffer.from('a plan'));
    const share = await office.publish(iris, [file.id]);
    expect(share.link).toMatch(/^https:\/\/files\.saltmarsh\.example\/s\/\w{22}$/);
    const door = await fromOutside(`/s/${share.token}/door`);
    expect([door.status, door.headers['strict-transport-security']]).toEqual([200, 'max-age=15552000']);
    expect(door.text).toContain('Mill Lane drawings');
    for (const path of ['/api/session', '/sign-in', '/api/docs', '/'])
      expect((await fromOutside(path)).status).toBe(404);
    await iris.ask('PATCH', `/api/reach/addresses/${address.id}`, { uses: 'sign-in' });
    expect((await fromOutside('/api/session')).status).toBe(401);
    await iris.ask('PATCH', `/api/reach/addresses/${address.id}`, { uses: 'visitors' });
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
    const page = await fromOutside(`/office/files/s/${share.token}`);
    expect(page.text).not.toMatch(/(src|href)="\//);
    const script = /src="\.\.(\/assets\/[^"]+\.js)"/.exec(page.text)?.[1];
    expect((await fromOutside(`/office/files${script}`)).status).toBe(200);
    const opened = await fromOutside(`/office/files/s/${share.token}/open`, 'files.saltmarsh.example', {
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
    await expect(fromOutside('/reach/probe')).rejects.toThrow(/self.signed/i);
    expect(
      await handshake(
        '-connect',
        `127.0.0.1:${office.config.reach.tls?.port}`,
        '-servername',
        'files.saltmarsh.example',
      ),
    ).toContain('O = By hand');
    await office.db.query(`DELETE FROM certificate WHERE issuer = 'By hand'`);
    await remedy('get-certificate');
    rmSync(folder, { recursive: true });
  }, 30_000);

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
    await expect(fromOutside('/', 'other.saltmarsh.example')).rejects.toThrow();
  });

  it('a new certificate serves from the next handshake on, while connections that stand go on', async () => {
    const { Agent } = await import('node:https');
    const agent = new Agent({ keepAlive: true, maxSockets: 1 });
    const serial = () =>
      new Promise<string>((resolve, reject) => {
        request(
          {
            ...outside.publicSide(443),
            agent,
            servername: 'files.saltmarsh.example',
            ca: outside.reach.roots,
            path: '/reach/probe',
            headers: { host: 'files.saltmarsh.example' },
          },
          (res) => {
            const { serialNumber } = (res.socket as import('node:tls').TLSSocket).getPeerCertificate();
            res.resume().on('end', () => resolve(serialNumber));
          },
        )
          .on('error', reject)
          .end();
      });
    const before = await serial();
    await remedy('get-certificate');
    expect(await serial()).toBe(before);
    agent.destroy();
    const fresh = new Agent({ keepAlive: false });
    const after = await new Promise<string>((resolve, reject) => {
      request(
        {
          ...outside.publicSide(443),
          agent: fresh,
          servername: 'files.saltmarsh.example',
          ca: outside.reach.roots,
          path: '/reach/probe',
          headers: { host: 'files.saltmarsh.example' },
        },
        (res) => {
          resolve((res.socket as import('node:tls').TLSSocket).getPeerCertificate().serialNumber);
          res.resume();
        },
      )
        .on('error', reject)
        .end();
    });
    expect(after).not.toBe(before);
  }, 60_000);
});

describe('behind a proxy', () => {
  it('a proxy that was named is believed where a visitor comes from, and nobody else is', async () => {
    const { reach } = outside;
    const behind = await openOffice(
      {
        databaseUrl: office.config.databaseUrl,
        blobRoot: office.config.blobRoot,
        sealingKey: office.config.sealingKey,
        reach: { ...reach, tls: null, plain: null, trustedProxies: ['127.0.0.1'] },
      },
      false,
    );
    behind.clock.at = office.clock.at;
    const { url } = (await iris.ask<{ url: string }>('POST', `/api/reach/addresses/${address.id}/telephone`)).body;
    const said = await (
      await fetch(behind.origin + new URL(url).pathname, {
        headers: { 'x-forwarded-for': '198.51.100.9, 203.0.113.77', 'x-forwarded-proto': 'https' },
      })
    ).text();
    // The last hop that is no proxy of ours; what it says of those before it may be made up.
    expect(said).toContain('by HTTPS, from <span class="mono">203.0.113.77</span>');
    const other = (await iris.ask<{ url: string }>('POST', `/api/reach/addresses/${address.id}/telephone`)).body;
    expect(
      await (
        await fetch(office.origin + new URL(other.url).pathname, {
          headers: { 'x-forwarded-for': '203.0.113.77', 'x-forwarded-proto': 'https' },
        })
      ).text(),
    ).toContain('by HTTP, from <span class="mono">127.0.0.1</span>');
    await behind.close();
  });
});

describe('proofs', () => {
  it('a proof by telephone tells address and protocol, and counts once', async () => {
    const { body } = await iris.ask<{ url: string }>('POST', `/api/reach/addresses/${address.id}/telephone`);
    const path = new URL(body.url).pathname;
    expect((await fromOutside(path)).text).toContain('You came all the way in, by HTTPS');
    expect((await fromOutside(path)).status).toBe(410);
    expect(
      (await iris.ask<{ seen: { protocol: string } }>('GET', `/api/reach/addresses/${address.id}/telephone`)).body.seen,
    ).toMatchObject({ protocol: 'HTTPS' });
  });
});

describe('through the relay', () => {
  it('an address whose own way fails goes through the relay, with no port open; the relay cannot read what passes', async () => {
    await outside.faults({ 'router.carrierGrade': true });
    expect((await check()).mark).toBe('fail');
    const mended = await remedy('use-relay');
    expect([mended.status, mended.body.detail]).toEqual([200, undefined]);
    expect(at(mended.body, 'outside', 'name').value).toBe('203.0.113.40');
    expect(at(mended.body, 'outside', 'page').mark).toBe('ok');
    expect(at(mended.body, 'outside', 'redirect')).toMatchObject({ mark: 'ok', note: '301' });
    const world = await outside.state();
    expect([world.relayed.names, world.mappings]).toEqual([['files.saltmarsh.example'], []]);
    const { places } = await outside.state();
    const body = await new Promise<string>((resolve, reject) => {
      request(
        {
          host: '127.0.0.1',
          port: places.relay.tls,
          servername: 'files.saltmarsh.example',
          ca: outside.reach.roots,
          path: '/reach/probe',
          headers: { host: 'files.saltmarsh.example' },
        },
        (res) => {
          let text = '';
          res.on('data', (piece) => (text += String(piece)));
          res.on('end', () => resolve(text));
        },
      )
        .on('error', reject)
        .end();
    });
    expect(body).toContain('Lockfast Quay');
  }, 30_000);

  it('falls back to it by itself, where that was chosen, after two checks that failed', async () => {
    await outside.faults({});
    await iris.ask('PATCH', `/api/reach/addresses/${address.id}`, { wayIn: 'mapping', fallback: 'auto' });
    await remedy('update-record');
    await remedy('map-port');
    await outside.faults({ 'router.firewall': true });
    office.app.get<Config>(CONFIG).reach.checkEveryMinutes = 10;
    const wayIn = async () =>
      (await iris.ask<AddressRow[]>('GET', '/api/reach/addresses')).body.find((a) => a.id === address.id)?.wayIn;
    for (const expected of ['mapping', 'relay']) {
      office.clock.advance(700_000);
      await office.app.get(UpkeepService).round();
      expect(await wayIn()).toBe(expected);
    }
    expect((await iris.ask<AddressSheet>('GET', `/api/reach/addresses/${address.id}`)).body.trouble).toBeNull();
    await backToday();
    await iris.ask('PATCH', `/api/reach/addresses/${address.id}`, { fallback: 'offer' });
  }, 60_000);

  it('a line that breaks comes back by itself', async () => {
    await outside.faults({ 'router.carrierGrade': true, 'relay.down': true });
    expect(at(await check(), 'outside', 'page').mark).toBe('not-reached');
    await outside.faults({});
    await expect
      .poll(async () => (await outside.state()).relayed.names, { timeout: 8000 })
      .toEqual(['files.saltmarsh.example']);
    await iris.ask('PATCH', `/api/reach/addresses/${address.id}`, { wayIn: 'mapping' });
    await remedy('update-record');
    await expect.poll(async () => (await outside.state()).relayed.names, { timeout: 8000 }).toEqual([]);
  }, 30_000);
});

describe('addresses', () => {
  it('links are listed before their address changes or goes, and can be moved', async () => {
    const change = { host: 'share.saltmarsh.example' };
    expect((await iris.ask('PATCH', `/api/reach/addresses/${address.id}`, change)).body).toMatchObject({
      code: 'address.in-use',
    });
    expect((await iris.ask('DELETE', `/api/reach/addresses/${address.id}`)).body.code).toBe('address.in-use');
    const links = (await iris.ask<{ link: string }[]>('GET', `/api/reach/addresses/${address.id}/links`)).body;
    expect(links).toMatchObject([{ title: 'Mill Lane drawings', handedOver: false }]);
    const other = (await iris.ask<AddressRow[]>('GET', '/api/reach/addresses')).body.find(
      (a) => a.id !== address.id,
    ) as AddressRow;
    expect((await iris.ask('POST', `/api/reach/addresses/${address.id}/links/move`, { to: other.id })).body).toEqual({
      moved: 1,
    });
    expect((await iris.ask('DELETE', `/api/reach/addresses/${address.id}`)).body.code).toBe('address.is-default');
    await iris.ask('PATCH', `/api/reach/addresses/${other.id}`, { isDefault: true });
    expect((await iris.ask('DELETE', `/api/reach/addresses/${address.id}`)).status).toBe(204);
    expect((await outside.state()).mappings).toEqual([]);
  });

  it.each([
    [{ wayIn: 'mapping', scheme: 'http', host: 'a.example' }, 'address.not-encrypted'],
    [{ wayIn: 'mapping', scheme: 'https', host: 'a b' }, 'host.malformed'],
    [{ wayIn: 'mapping', scheme: 'https', host: 'a.example', port: 0 }, 'port.min'],
    [{ wayIn: 'mapping', scheme: 'https', host: 'a.example', pathPrefix: 'files/' }, 'pathPrefix.pattern.base'],
  ])('%j is refused', async (asked, code) => {
    const { status, body } = await iris.ask('POST', '/api/reach/addresses', asked);
    expect([status, body.errors?.[0]?.code ?? body.code]).toEqual([400, code]);
  });

  it('only the admin looks after them: nobody else can make the server ask others', async () => {
    const tomas = await office.signedIn('tomas');
    for (const [method, path] of [
      ['GET', 'addresses'],
      ['POST', 'addresses'],
      ['GET', 'network'],
      ['POST', 'compare'],
    ] as const)
      expect((await tomas.ask(method, `/api/reach/${path}`, method === 'POST' ? {} : undefined)).body.code).toBe(
        'reach.admin-only',
      );
    expect((await office.client().ask('GET', '/api/reach/addresses')).status).toBe(401);
  });
});
