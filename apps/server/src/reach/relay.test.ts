import type { AddressRow, AddressSheet } from '@quay/contract';
import { afterAll, expect, it } from 'vitest';
import { askAt, found, openReach, updateKey } from '../_fixtures/reach.js';
import { CONFIG, type Config } from '../platform/config.js';

const reach = await openReach('set up');
const { outside, office, iris, address } = reach;
await iris.ask('PUT', '/api/reach/name-servers/public', updateKey(outside, '203.0.113.53'));
afterAll(() => reach.close());

it('an address whose own way fails goes through the relay, with no port open; the relay cannot read what passes', async () => {
  await outside.faults({ 'router.carrierGrade': true });
  expect((await reach.check()).mark).toBe('fail');
  const mended = await reach.remedy('use-relay');
  expect([mended.status, mended.body.detail]).toEqual([200, undefined]);
  expect(found(mended.body, 'outside', 'name').value).toBe('203.0.113.40');
  expect(found(mended.body, 'outside', 'page').mark).toBe('ok');
  expect(found(mended.body, 'outside', 'redirect')).toMatchObject({ mark: 'ok', note: '301' });
  const world = await outside.state();
  expect([world.relayed.names, world.mappings]).toEqual([['files.saltmarsh.example'], []]);
  const relay = { host: '127.0.0.1', port: (await outside.state()).places.relay.tls };
  expect((await askAt(outside, relay, '/reach/probe')).text).toContain('Lockfast Quay');
});

it('where the relay does not answer everything stays as it was', async () => {
  await outside.faults({});
  await iris.ask('PATCH', `/api/reach/addresses/${address.id}`, { wayIn: 'mapping' });
  await reach.remedy('update-record');
  await reach.remedy('map-port');
  await outside.faults({ 'relay.down': true });
  const before = (await outside.state()).mappings;
  expect((await reach.remedy('use-relay')).body.code).toBe('reach.relay-away');
  expect((await iris.ask<AddressSheet>('GET', `/api/reach/addresses/${address.id}`)).body.wayIn).toBe('mapping');
  expect((await outside.state()).mappings.map((m) => m.to)).toEqual(before.map((m) => m.to));
  expect(found(await reach.check(), 'outside', 'page').mark).toBe('ok');
});

it('falls back to it by itself, where that was chosen, after two checks that failed, and comes back', async () => {
  await outside.faults({});
  await iris.ask('PATCH', `/api/reach/addresses/${address.id}`, { wayIn: 'mapping', fallback: 'auto' });
  await reach.remedy('update-record');
  await reach.remedy('map-port');
  await outside.faults({ 'router.firewall': true });
  office.app.get<Config>(CONFIG).reach.checkEveryMinutes = 10;
  const wayIn = async () =>
    (await iris.ask<AddressRow[]>('GET', '/api/reach/addresses')).body.find((a) => a.id === address.id)?.wayIn;
  for (const expected of ['mapping', 'relay']) {
    office.clock.advance(700_000);
    await reach.round();
    expect(await wayIn()).toBe(expected);
  }
  expect((await iris.ask<AddressSheet>('GET', `/api/reach/addresses/${address.id}`)).body.trouble).toBeNull();
  // The own way works again: it is taken, and the relay is not needed any more.
  await outside.faults({});
  office.clock.advance(700_000);
  await reach.round();
  expect(await wayIn()).toBe('mapping');
  // What the program got and keeps up it goes on keeping up, whichever way was taken meanwhile.
  const { guide, upkeep } = (await iris.ask<AddressSheet>('GET', `/api/reach/addresses/${address.id}`)).body;
  expect(guide.find((g) => g.step === 'certificate')?.done?.by).toBe('program');
  expect(upkeep.find((u) => u.kind === 'certificate')?.renewsAt).not.toBeNull();
  expect(found(await reach.check(), 'outside', 'name').value).toBe('198.51.100.24');
  await reach.backToday();
  await iris.ask('PATCH', `/api/reach/addresses/${address.id}`, { fallback: 'offer' });
});

it('a line that breaks comes back by itself', async () => {
  await reach.remedy('use-relay');
  await outside.faults({ 'router.carrierGrade': true, 'relay.down': true });
  expect(found(await reach.check(), 'outside', 'page').mark).toBe('not-reached');
  await outside.faults({});
  await expect
    .poll(async () => (await outside.state()).relayed.names, { timeout: 60_000 })
    .toEqual(['files.saltmarsh.example']);
  await iris.ask('PATCH', `/api/reach/addresses/${address.id}`, { wayIn: 'mapping' });
  await reach.remedy('update-record');
  await expect.poll(async () => (await outside.state()).relayed.names, { timeout: 60_000 }).toEqual([]);
});
