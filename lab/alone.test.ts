import type { ReachCheck } from '@quay/contract';
import { outsideMark } from '@quay/core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { found } from '../apps/server/src/_fixtures/reach.js';
import { Lab } from './_fixtures/lab.js';
import { WORLD } from './_fixtures/network.js';
import { until } from './_fixtures/office.js';
import { HOST } from './_fixtures/services.js';

// An office that nobody helps: no probe outside, no STUN, a router that speaks UPnP. Whoever comes in from outside is the
// only one who can tell.
let lab: Lab;
beforeAll(async () => {
  lab = await Lab.open({
    router: { upnp: true, pcp: false },
    authority: { nonceReject: 0, sleepSeconds: null },
    reach: { probes: {} },
  });
}, 180_000);
afterAll(() => lab?.close());

const at = () => `/api/reach/addresses/${lab.address.row.id}`;
const hand = (step: string) => lab.office.iris.ask<ReachCheck>('POST', `${at()}/guide`, { step, how: 'hand' });
const outside = (check: ReachCheck) => check.vantages.find((v) => v.vantage === 'outside');

describe('without anybody outside', () => {
  it('nobody knows, and it is said who could tell', async () => {
    const check = await lab.address.check();
    expect([outsideMark(check.vantages), outside(check)?.unavailable]).toEqual([
      'unknown',
      expect.stringMatching(/telephone/) as string,
    ]);
    expect((await hand('certificate')).body).toMatchObject({ code: 'reach.no-vantage' });
  });
  it(
    'a link that somebody elsewhere opens tells all of it, within a minute from nothing',
    { timeout: 120_000 },
    async () => {
      const began = performance.now();
      await lab.tellNameServer();
      for (const act of ['update-record', 'map-port', 'get-certificate', 'redirect-on']) await lab.address.does(act);
      const { body } = await lab.office.iris.ask<{ url: string }>('POST', `${at()}/telephone`);
      const roots = lab.network.world.file('own.pem', (lab.authority?.roots ?? []).join('\n'));
      const page = await lab.network.world.must(
        'curl',
        '-sS',
        '--cacert',
        roots,
        '--resolve',
        `${HOST}:443:${WORLD.line}`,
        body.url,
      );
      expect(page).toContain('You came all the way in, by HTTPS');
      const check = await lab.address.check();
      expect(outsideMark(check.vantages)).toBe('ok');
      expect(outside(check)).toMatchObject({ seen: { by: 'telephone' }, unavailable: null });
      expect(found(check, 'outside', 'router')).toMatchObject({ mark: 'ok', value: '443 → 8443' });
      // The figure that is asked for; how long it may take is not this test's business.
      console.log(`from nothing to a mark from outside: ${((performance.now() - began) / 1000).toFixed(1)} s`);
    },
  );
  it('then steps that were done by hand count', { timeout: 30_000 }, async () =>
    expect((await hand('certificate')).status).toBe(200),
  );
  it('a visitor who opens a share counts as well', async () => {
    const { iris } = lab.office;
    const stores = (await iris.ask<{ rootId: string }[]>('GET', '/api/stores')).body;
    const { body: file } = await iris.upload(stores[0]?.rootId ?? '', 'Plan.txt', Buffer.from('a plan'));
    await iris.ask('PATCH', at(), { isDefault: true });
    const asked = {
      ...{ title: 'Mill Lane', message: '', nodeIds: [file.id], password: null, visitLimit: null },
      window: { opensAt: null, closesAt: new Date(Date.now() + 86_400_000).toISOString() },
    };
    const share = (await iris.ask<{ link: string }>('POST', '/api/shares', asked)).body;
    const opened = await lab.network.world.must(
      'curl',
      ...['-ksS', '-o', '/dev/null', '-w', '%{http_code}', '--resolve', `${HOST}:443:${WORLD.line}`],
      ...['-X', 'POST', '-H', 'content-type: application/json', '-d', '{"password":null}', `${share.link}/open`],
    );
    expect(opened).toBe('200');
    expect(outside(await lab.address.check())).toMatchObject({ seen: { by: 'visitor' } });
  });
  it('a router that was started anew is seen to be, and mended', { timeout: 150_000 }, async () => {
    await lab.restartRouter();
    await until(async () => expect(await lab.fromOutside(443)).toEqual({ status: 200, wrong: 0 }), 120_000);
    expect(found(await lab.address.check(), 'outside', 'router').mark).toBe('ok');
  });
});
