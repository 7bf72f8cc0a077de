import type { AddressSheet } from '@quay/contract';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { found } from '../apps/server/src/_fixtures/reach.js';
import { Lab } from './_fixtures/lab.js';
import { WORLD } from './_fixtures/network.js';
import { until } from './_fixtures/office.js';
import { HOST, lookedUp } from './_fixtures/services.js';

// Every daemon that the office depends on ends and begins again, with nothing of what it had been told. A second name
// server of the zone hears of changes late, as those of providers do.
let lab: Lab;
beforeAll(async () => {
  lab = await Lab.open({
    router: { upnp: true, pcp: true },
    authority: { nonceReject: 5, sleepSeconds: null },
    secondNames: true,
    reach: { stun: { address: WORLD.stun, port: 3478 } },
  });
  await lab.tellNameServer();
}, 120_000);
afterAll(() => lab?.close());

const at = (server: string): string => lookedUp(lab.network.world, server, HOST);
const sheet = (): Promise<AddressSheet> => lab.address.sheet();

describe('a zone of two name servers', () => {
  it('has the record at once at one, and later at the other', async () => {
    await lab.address.does('update-record');
    expect(at(WORLD.names)).toBe(WORLD.line);
    await until(() => expect(at(WORLD.names2)).toBe(WORLD.line), 30_000);
    await lab.forgetNames();
    await lab.address.does('map-port');
  });
  it('is asked at both before the authority is called', { timeout: 120_000 }, async () => {
    const asked = await lab.office.iris.ask('POST', `/api/reach/addresses/${lab.address.row.id}/remedies/outside`, {
      act: 'get-certificate',
    });
    expect(asked.status).toBe(200);
    const seen = new Set<string>();
    await until(async () => {
      const { order } = await sheet();
      if (order) seen.add(order.failure ?? order.words);
      expect(order).toBeNull();
    }, 90_000);
    expect([...seen].join('\n')).toMatch(/name server/);
    // The authority found the proof the first time that it looked.
    expect(lab.authority?.running.said()).not.toMatch(/challenge .*(failed|invalid)/i);
    expect(await lab.fromOutside(443)).toEqual({ status: 200, wrong: 0 });
  });
});

describe('what begins again knowing nothing', () => {
  it('a name server: the record is set again', { timeout: 150_000 }, async () => {
    await lab.restartNames();
    expect(at(WORLD.names)).toBe('');
    await until(() => expect(at(WORLD.names)).toBe(WORLD.line), 120_000);
  });
  it('the resolvers: the name is found as before', async () => {
    await lab.forgetNames();
    await until(async () => expect(await lab.fromOutside(443, null)).toEqual({ status: 200, wrong: 0 }));
    expect(found(await lab.address.check(), 'outside', 'name')).toMatchObject({ mark: 'ok', value: WORLD.line });
  });
  it('who tells the address of the line, while a router that knows it is there', async () => {
    await lab.restartStun();
    expect(found(await lab.address.check(), 'outside', 'line')).toMatchObject({ mark: 'ok', value: 'public' });
  });
  it('an authority: the office gets an account there anew', { timeout: 120_000 }, async () => {
    const before = await lab.serial();
    await lab.restartAuthority();
    const { body } = await lab.address.act('get-certificate');
    // It gave one, by a root that this authority alone has. What visitors trust stays.
    expect(body.detail).toMatch(/signed by Pebble.*nobody trusts yet/);
    expect(lab.authority?.running.said()).toMatch(/There are now 1 accounts/);
    expect(await lab.serial()).toBe(before);
  });
});
