import type { ReachNetwork } from '@quay/contract';
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';
import { openOutside, type Outside } from '../_fixtures/outside.js';
import { OwnNetwork } from '../platform/own-network.js';

// What is typed in of the network, where the file does not say it: here the file says nothing of router, STUN and authority.
let outside: Outside;
let office: TestOffice;
let iris: Client;
beforeAll(async () => {
  outside = await openOutside();
  office = await openOffice({ reach: { ...outside.reach, gateway: null, stun: null, acmeDirectory: null } });
  iris = await office.signedIn('iris');
});
afterAll(async () => {
  await office.close();
  await outside.close();
});

const network = async (by = iris) => (await by.ask<ReachNetwork>('GET', '/api/reach/network')).body;
const say = (name: string, ...value: string[]) => iris.ask('PUT', `/api/reach/network/${name}`, { value });

describe('what the server goes by in its network', () => {
  it('nobody knows, until it is said; then the line is known from there', async () => {
    const before = await network();
    expect([before.own.stun, before.own.gateway, before.publicAddress]).toEqual([
      { value: [], from: 'nobody' },
      { value: [], from: 'nobody' },
      null,
    ]);
    expect((await say('stun', '203.0.113.34:3478')).status).toBe(204);
    const seen = await network();
    expect(seen.own.stun).toEqual({ value: ['203.0.113.34:3478'], from: 'settings' });
    expect(seen.publicAddress).toMatch(/^198\.51\.100\./);
    expect(seen.advice.words).toMatch(/The router opens no ports by itself/);
    expect((await say('gateway', '192.168.20.1')).status).toBe(204);
    expect((await network()).advice.words).toMatch(/the program does everything/);
  });
  it('is forgotten again, and found by itself from then on', async () => {
    expect((await iris.ask('DELETE', '/api/reach/network/gateway')).status).toBe(204);
    expect((await network()).own.gateway).toEqual({ value: [], from: 'nobody' });
  });
  it('is heard by other processes, and stays after a restart', async () => {
    const { config } = office;
    const other = await openOffice(
      {
        databaseUrl: config.databaseUrl,
        blobRoot: config.blobRoot,
        sealingKey: config.sealingKey,
        reach: config.reach,
      },
      false,
    );
    const there = await other.signedIn('iris');
    expect((await network(there)).own.stun.from).toBe('settings');
    await say('authority', 'https://acme.example/directory');
    await vi.waitFor(async () => expect((await network(there)).authority?.directory).toMatch(/acme\.example/), 60_000);
    await iris.ask('DELETE', '/api/reach/network/authority');
    await vi.waitFor(async () => expect((await network(there)).authority).toBeNull(), 60_000);
    await other.close();
  });
  it('what the file says is changed there, and said to be', async () => {
    expect((await network()).own.insideAddress).toEqual({ value: ['192.168.20.10'], from: 'file' });
    expect(await say('insideAddress', '192.168.20.11')).toMatchObject({ status: 409, body: { code: 'reach.in-file' } });
  });
  it.each([
    ['gateway', ['127.0.0.1'], 'value.0'],
    ['gateway', ['2001:db8::1'], 'value.0'],
    ['gateway', ['192.168.20.1', '192.168.20.2'], 'value'],
    ['gateway', ['router.lan'], 'value.0'],
    ['insideAddress6', ['192.168.20.10'], 'value.0'],
    ['resolvers', [], 'value'],
    ['resolvers', ['192.168.20.1', '192.168.20.1'], 'value.1'],
    ['resolvers', ['0.0.0.0'], 'value.0'],
    ['stun', ['stun.example:99x'], 'value.0'],
    ['stun', ['stun example'], 'value.0'],
    ['authority', ['http://acme.example/directory'], 'value.0'],
    ['authority', ['file:///etc/passwd'], 'value.0'],
  ])('%s: %j is refused, with the place', async (name, value, field) => {
    const { status, body } = await iris.ask<{ errors: { field: string }[] }>('PUT', `/api/reach/network/${name}`, {
      value,
    });
    expect([status, body.errors.map((e) => e.field)]).toEqual([400, [field]]);
  });
  it('nobody says what nobody knows of, and nobody else says anything', async () => {
    expect((await say('roots', 'x')).status).toBe(400);
    const tomas = await office.signedIn('tomas');
    expect((await tomas.ask('PUT', '/api/reach/network/stun', { value: ['203.0.113.9'] })).status).toBe(403);
    expect((await network()).own.stun.value).toEqual(['203.0.113.34:3478']);
  });
  it('says nothing of who is inside: whoever looks after the way in cannot let themselves in', async () => {
    expect((await say('insideAddress6', '2001:db8:20::10')).status).toBe(204);
    const own = office.app.get(OwnNetwork);
    expect([own.insideAddress6, own.isOutside('2001:db8:20::50')]).toEqual(['2001:db8:20::10', true]);
    await iris.ask('DELETE', '/api/reach/network/insideAddress6');
  });
  it('is in the ledger, in words', async () => {
    const { body } = await iris.ask<{ entries: { words: string }[] }>('GET', '/api/ledger');
    const words = JSON.stringify(body);
    expect(words).toContain('said of the network: Router 192.168.20.1');
    expect(words).toContain('said of the network: Router as it is found');
  });
});
