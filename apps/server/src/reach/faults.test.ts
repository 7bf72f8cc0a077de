import type { AddressSheet } from '@quay/contract';
import { afterAll, expect, it, vi } from 'vitest';
import { found, openReach, updateKey } from '../_fixtures/reach.js';

const reach = await openReach('set up');
const { outside, office, iris, address } = reach;
afterAll(() => reach.close());
const sheet = async () => (await iris.ask<AddressSheet>('GET', `/api/reach/addresses/${address.id}`)).body;

it('a router without loopback stops the guest Wi-Fi; a record of its own lets it in', async () => {
  await outside.faults({ 'router.noLoopback': true });
  const all = await reach.check();
  expect(found(all, 'guest', 'router')).toMatchObject({ mark: 'fail', value: 'no loopback' });
  expect([found(all, 'outside', 'page').mark, all.mark]).toEqual(['ok', 'warn']);
  const key = updateKey(outside, '192.168.40.1');
  expect((await reach.remedy('office-record', 'guest')).body.code).toBe('reach.no-name-server');
  expect((await iris.ask('PUT', '/api/reach/name-servers/guest', key)).status).toBe(204);
  const mended = await reach.remedy('office-record', 'guest');
  expect(found(mended.body, 'guest', 'name').value).toBe('192.168.20.10');
  expect(found(mended.body, 'guest', 'page').mark).toBe('ok');
  expect(JSON.stringify((await iris.ask('GET', '/api/reach/network')).body)).not.toContain(outside.updateSecret);
  await outside.faults({});
});

it('who asks while a check is under way is told of what changed after that began; all who ask meanwhile are told of one', async () => {
  const began = reach.check();
  // It has looked, and has not come to its end.
  await new Promise((resolve) => setTimeout(resolve, 20));
  await outside.faults({ 'router.carrierGrade': true });
  const [first, second, third] = await Promise.all([began, reach.check(), reach.check()]);
  expect(found(second, 'outside', 'line').mark).toBe('fail');
  expect([second.id === first.id, third.id === second.id]).toEqual([false, true]);
  await outside.faults({});
});

it('another address of the line makes the record stale; it is changed by a signed update, and by itself from then on', async () => {
  await outside.faults({ 'line.changed': true });
  const stale = found(await reach.check(), 'outside', 'name');
  expect(stale).toMatchObject({ mark: 'fail', value: '198.51.100.24' });
  expect(stale.reason).toContain('198.51.100.77');
  const right = updateKey(outside, '203.0.113.53');
  const wrong = { ...right, secret: Buffer.from('another key of 32 bytes or so.').toString('base64') };
  await iris.ask('PUT', '/api/reach/name-servers/public', wrong);
  expect((await reach.remedy('update-record')).body).toMatchObject({
    code: 'reach.update-refused',
    detail: expect.stringContaining('BADSIG') as string,
  });
  await iris.ask('PUT', '/api/reach/name-servers/public', right);
  expect(found((await reach.remedy('update-record')).body, 'outside', 'page').mark).toBe('ok');
  await outside.faults({});
  await reach.round();
  expect(
    (await outside.state()).records.find((r) => r.network === 'public' && r.name === 'files.saltmarsh.example')?.value,
  ).toBe('198.51.100.24');
});

it.each([
  ['router.carrierGrade', 'line', /RFC 6598/],
  ['router.doubleNat', 'line', /second router/],
] as const)(
  '%s is told at the stage %s',
  async (fault, stage, reason) => {
    await outside.faults({ [fault]: true });
    const seen = found(await reach.check(), 'outside', stage);
    expect([seen.mark, seen.reason]).toEqual(['fail', expect.stringMatching(reason)]);
    await outside.faults({});
  },
  30_000,
);

it('a port that another device has is told by name, and nothing of that device is changed', async () => {
  await outside.faults({ 'router.portTaken': true });
  const seen = found(await reach.check(), 'outside', 'router');
  expect(seen).toMatchObject({
    mark: 'fail',
    value: '443 taken',
    reason: expect.stringContaining('192.168.20.55') as string,
  });
  expect((await reach.remedy('map-port')).body).toMatchObject({ code: 'reach.port-taken' });
  expect((await outside.state()).mappings.find((m) => m.external === 443)?.to).toBe('192.168.20.55:443');
  await outside.faults({});
  await reach.remedy('map-port');
});

it('when nothing answers, every vantage still says what it found', async () => {
  await outside.faults({ 'router.firewall': true, 'names.silent': true, 'stun.silent': true });
  const all = await reach.check();
  expect(all.vantages.map((v) => v.trace?.length ?? 0)).not.toContain(0);
  expect(found(all, 'outside', 'name')).toMatchObject({ mark: 'fail', value: 'no answer' });
  await outside.faults({});
});

it('mappings are renewed at half of their lease, also by NAT-PMP and UPnP when that is all there is', async () => {
  for (const [faults, by] of [
    [{ 'router.noPcp': true }, 'NAT-PMP'],
    [{ 'router.noPcp': true, 'router.noPmp': true }, 'Lockfast Quay'],
  ] as const) {
    await outside.faults(faults);
    office.clock.advance(3_700_000);
    await reach.round();
    expect((await outside.state()).mappings.map((m) => m.by)).toEqual([by, by]);
  }
  await outside.faults({ 'router.noPcp': true, 'router.noPmp': true, 'router.noUpnp': true });
  expect((await reach.remedy('map-port')).body.code).toBe('reach.no-mapping-protocol');
  await outside.faults({});
  await reach.backToday();
});

it('an authority that calls certificates back has them renewed at once, long before their time', async () => {
  const serial = async () => (await reach.fromOutside('/')).serialNumber;
  const first = await serial();
  await reach.round();
  await reach.round();
  expect(await serial()).toBe(first);
  await outside.faults({ 'authority.callsBack': true });
  // It is asked again when it said, which is after six hours (RFC 9773 §4.3.2).
  office.clock.advance(6.1 * 3_600_000);
  await reach.round();
  await reach.round();
  await vi.waitFor(async () => expect(await serial()).not.toBe(first), 60_000);
  await vi.waitFor(async () => expect((await sheet()).order).toBeNull(), 60_000);
  await outside.faults({});
  await reach.backToday();
});

it('a failed renewal leaves the old certificate serving, and says so', async () => {
  const day = 86_400_000;
  office.clock.advance(5.5 * day);
  await outside.faults({ 'authority.down': true });
  await reach.round();
  await vi.waitFor(async () => {
    const { upkeep, order } = await sheet();
    expect(upkeep.find((u) => u.kind === 'certificate')?.failure).toMatch(/gave no certificate/);
    expect(order?.failure).toMatch(/gave no certificate/);
  }, 60_000);
  expect(found(await reach.check(), 'outside', 'certificate')).toMatchObject({ mark: 'warn', value: '1 day left' });
  await outside.faults({});
  await reach.backToday();
});

it('a router that gives mappings for good only is asked that way, and asked to end them', async () => {
  await outside.faults({
    'router.noPcp': true,
    'router.noPmp': true,
    'router.permanentOnly': true,
    'router.restarted': true,
  });
  expect(found(await reach.check(), 'outside', 'router')).toMatchObject({ mark: 'fail', value: 'no mapping' });
  const { body } = await reach.remedy('map-port');
  expect(found(body, 'outside', 'router')).toMatchObject({ mark: 'ok', note: '' });
  const mapped = async () => (await outside.state()).mappings.map((m) => m.external).sort((a, b) => a - b);
  expect(await mapped()).toEqual([80, 443]);
  await iris.ask('PATCH', `/api/reach/addresses/${address.id}`, { wayIn: 'fixed' });
  expect(await mapped()).toEqual([]);
  await iris.ask('PATCH', `/api/reach/addresses/${address.id}`, { wayIn: 'mapping' });
  await outside.faults({});
  await reach.remedy('map-port');
});

it('a router that was switched off and on counts from the beginning, which tells what it forgot', async () => {
  office.clock.advance(3_600_000);
  await outside.faults({ 'router.noUpnp': true, 'router.restarted': true });
  expect(found(await reach.check(), 'outside', 'router')).toMatchObject({ mark: 'fail', value: 'no mapping' });
  await reach.round();
  expect(found(await reach.check(), 'outside', 'router').mark).toBe('ok');
  await outside.faults({});
});

it('a name server that remembers says for a while what is not so any more', async () => {
  const at = async () => found(await reach.check(), 'guest', 'name').value;
  await outside.faults({ 'names.caches': true });
  const before = await at();
  await outside.faults({ 'names.caches': true, 'line.changed': true });
  await reach.remedy('update-record');
  expect(found(await reach.check(), 'outside', 'name').value).toBe('198.51.100.77');
  expect(await at()).toBe(before);
  await outside.faults({});
  await reach.remedy('update-record');
});
