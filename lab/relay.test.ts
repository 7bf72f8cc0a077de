import type { AddressSheet, ReachNetwork } from '@quay/contract';
import { mkdirSync, writeFileSync } from 'node:fs';
import { resolve } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { found } from '../apps/server/src/_fixtures/reach.js';
import { Lab } from './_fixtures/lab.js';
import type { Running } from './_fixtures/net.js';
import { WORLD } from './_fixtures/network.js';
import { OfficeAddress, until } from './_fixtures/office.js';
import { BELOW_RELAY, RELAY_DOMAIN } from './_fixtures/services.js';

// A line that lets nobody in, and the relay as it stands on a rented machine, with its real ports.
const MAIN = resolve(import.meta.dirname, '../packages/relay/dist/main.js');
let lab: Lab;
let relay: Running;
let folder: string;
const iris = () => lab.office.iris;
const begin = () =>
  lab.network.world.start(process.execPath, [MAIN, 'serve', '--folder', folder], { ready: /A relay:/ });

beforeAll(async () => {
  lab = await Lab.open({ router: null, authority: { nonceReject: 5, sleepSeconds: null } });
  folder = `${lab.network.world.folder}/relay`;
  mkdirSync(folder);
  writeFileSync(
    `${folder}/relay.json`,
    JSON.stringify({ host: WORLD.relay, listen: WORLD.relay, domain: RELAY_DOMAIN, leaveSeconds: 30 }),
  );
  relay = await begin();
}, 180_000);
afterAll(async () => {
  await relay?.end();
  await lab?.close();
});

const network = async (): Promise<ReachNetwork> => (await iris().ask<ReachNetwork>('GET', '/api/reach/network')).body;
/** What somebody elsewhere gets under a name that leads to the relay: status, and what is wrong with the certificate. */
const visit = (host: string) => lab.fromOutside(443, WORLD.relay, host);

describe('a relay on a rented machine', () => {
  it('invites the office by one word, and its line stands', async () => {
    const code = await lab.network.world.must(process.execPath, MAIN, 'invite', 'saltmarsh', '--folder', folder);
    const damaged = await iris().ask('PUT', '/api/reach/relay', { code: code.trim().slice(0, -3) });
    expect([damaged.status, damaged.body.code]).toEqual([400, 'reach.invitation-unreadable']);
    expect((await iris().ask('PUT', '/api/reach/relay', { code })).status).toBe(204);
    await until(async () =>
      expect((await network()).relay).toMatchObject({
        ...{ host: WORLD.relay, office: 'saltmarsh', trouble: null, names: [BELOW_RELAY], addresses: [WORLD.relay] },
      }),
    );
    expect(JSON.stringify(await network())).not.toContain(code.trim().slice(20, 60));
  });
  it(
    'gives an office without a name one below its own, with a certificate; no port is open',
    { timeout: 120_000 },
    async () => {
      const address = await OfficeAddress.add(iris(), BELOW_RELAY, { wayIn: 'relay' });
      const step = (body: object) => iris().ask('POST', `/api/reach/addresses/${address.row.id}/guide`, body);
      expect((await step({ step: 'relay', how: 'program' })).status).toBe(200);
      await address.does('get-certificate');
      expect(await visit(BELOW_RELAY)).toEqual({ status: 200, wrong: 0 });
      const check = await address.check();
      expect(found(check, 'outside', 'page').mark).toBe('ok');
      expect(await lab.fromOutside(443)).toMatchObject({ status: 0 });
    },
  );
  it('takes the office’s own name too, and the name follows by a signed update', { timeout: 120_000 }, async () => {
    await lab.tellNameServer();
    const { body } = await lab.address.act('use-relay');
    expect(found(body, 'outside', 'name').value).toBe(WORLD.relay);
    await lab.forgetNames();
    await lab.address.does('get-certificate');
    expect(await lab.fromOutside(443, null)).toEqual({ status: 200, wrong: 0 });
  });
  it('is put anew without a visitor noticing', async () => {
    const seen: { status: number }[] = [];
    let goOn = true;
    const visits = (async () => {
      while (goOn) seen.push(await visit(BELOW_RELAY));
    })();
    relay.signal('SIGHUP');
    await new Promise((done) => setTimeout(done, 6000));
    goOn = false;
    await visits;
    expect(seen.length).toBeGreaterThan(3);
    expect(seen.filter((s) => s.status !== 200)).toEqual([]);
  });
  it('comes back by itself after it was killed', async () => {
    await relay.end('SIGKILL');
    expect((await visit(BELOW_RELAY)).status).toBe(0);
    relay = await begin();
    await until(async () => expect(await visit(BELOW_RELAY)).toEqual({ status: 200, wrong: 0 }), 60_000);
  });
  it('that removes the office is told so', async () => {
    await lab.network.world.must(process.execPath, MAIN, 'remove', 'saltmarsh', '--folder', folder);
    await until(async () => expect((await network()).relay?.trouble).toMatch(/new invitation/), 30_000);
    const sheet = (await iris().ask<AddressSheet>('GET', `/api/reach/addresses/${lab.address.row.id}`)).body;
    expect(sheet.wayIn).toBe('relay');
  });
});
