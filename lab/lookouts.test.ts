import type { LookoutCode, ReachCheck, ReachNetwork } from '@quay/contract';
import { outsideMark } from '@quay/core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { found } from '../apps/server/src/_fixtures/reach.js';
import { Lab } from './_fixtures/lab.js';
import { newCable, WORLD } from './_fixtures/network.js';
import { OfficeAddress, openLabOffice, type LabOffice } from './_fixtures/office.js';
import { FAR } from './_fixtures/services.js';

// Two offices, each the product's own server: one behind a router, one elsewhere with an address of its own. Nobody else
// stands outside.
let lab: Lab;
let far: LabOffice;
let north: OfficeAddress;
beforeAll(async () => {
  lab = await Lab.open({
    router: { upnp: true, pcp: true },
    authority: { nonceReject: 0, sleepSeconds: null },
    // Nothing is mended while it is looked at.
    reach: { probes: {}, checkEveryMinutes: 0 },
  });
  await lab.tellNameServer();
  const { directory, roots } = lab.authority ?? { directory: null, roots: [] };
  far = await openLabOffice(
    lab.network,
    {
      ...{ insideAddress: WORLD.far, acmeDirectory: directory, roots, findsNetwork: false },
      tls: { host: WORLD.far, port: 443 },
      plain: { host: WORLD.far, port: 80 },
    },
    { server: lab.network.world, cable: newCable() },
  );
  north = await OfficeAddress.add(far.iris, FAR, { wayIn: 'fixed' });
  await north.does('get-certificate');
}, 180_000);
afterAll(async () => {
  await far?.close();
  await lab?.close();
});

const outside = (check: ReachCheck) => check.vantages.find((v) => v.vantage === 'outside');
const mark = (check: ReachCheck) => outsideMark(check.vantages);
const known = async ({ iris }: LabOffice) => (await iris.ask<ReachNetwork>('GET', '/api/reach/network')).body.lookouts;

describe('two offices that look at each other', () => {
  it('know nothing of outside before', async () => {
    expect([mark(await lab.address.check()), mark(await north.check())]).toEqual(['unknown', 'unknown']);
  });
  it('begin by one code, taken where nobody gets in yet', async () => {
    const { body } = await far.iris.ask<LookoutCode>('POST', '/api/reach/lookouts/code');
    expect((await lab.office.iris.ask('POST', '/api/reach/lookouts', { code: body.code })).status).toBe(204);
    expect([(await known(lab.office)).length, (await known(far)).length]).toEqual([1, 1]);
    const check = await lab.address.check();
    expect([mark(check), found(check, 'outside', 'name').mark]).toEqual(['fail', 'fail']);
  });
  it('one sees the other come up step by step, as curl does', async () => {
    for (const act of ['update-record', 'map-port', 'get-certificate', 'redirect-on']) await lab.address.does(act);
    await lab.forgetNames();
    const check = await lab.address.check();
    expect(outside(check)?.exchange[0]).toMatch(/^asked of /);
    expect(mark(check)).toBe('ok');
    expect(await lab.fromOutside(443)).toEqual({ status: 200, wrong: 0 });
  });
  it('the other way round as well: it calls by the way in that it has now', async () => {
    const check = await north.check();
    expect(outside(check)?.exchange[0]).toMatch(/^asked of /);
    expect(found(check, 'outside', 'page')).toMatchObject({ mark: 'ok', value: 'share page' });
  });
  it('sees a router that forgot its ports', async () => {
    await lab.restartRouter();
    const check = await lab.address.check();
    expect(mark(check)).toBe('fail');
    // And the one that cannot be called any more looks for nobody.
    expect(outside(await north.check())?.unavailable).toMatch(/did not answer/);
  });
});
