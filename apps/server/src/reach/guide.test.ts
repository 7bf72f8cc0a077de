import type { AddressSheet } from '@quay/contract';
import { afterAll, expect, it } from 'vitest';
import { found, openReach } from '../_fixtures/reach.js';

const reach = await openReach('added');
const { outside, iris, address } = reach;
afterAll(() => reach.close());

it('an address is added and checked from every vantage: nothing is mapped yet', async () => {
  expect(address.text).toBe('https://files.saltmarsh.example');
  const all = await reach.check();
  expect(all.vantages.map((v) => v.vantage)).toEqual(['outside', 'office', 'guest', 'tunnel']);
  expect(found(all, 'outside', 'name')).toMatchObject({ mark: 'ok', value: '198.51.100.24', note: 'ttl 300' });
  expect(found(all, 'outside', 'line')).toMatchObject({ mark: 'ok', value: 'public' });
  expect(found(all, 'outside', 'router')).toMatchObject({ mark: 'fail', value: 'no mapping' });
  expect(found(all, 'outside', 'router').remedies.map((r) => r.act)).toContain('map-port');
  expect(all.mark).toBe('fail');
});

it('opens the ports at the router, where others see them too', async () => {
  const { status, body } = await reach.remedy('map-port');
  expect(status).toBe(200);
  expect(found(body, 'outside', 'router')).toMatchObject({ mark: 'ok', value: '443 → 8443' });
  expect(found(body, 'outside', 'port').mark).toBe('ok');
  // Without a certificate there is nothing to agree on.
  expect(found(body, 'outside', 'certificate').mark).toBe('fail');
  expect((await outside.state()).mappings).toMatchObject([
    { external: 443, to: '192.168.20.10:8443', by: 'PCP' },
    { external: 80, to: '192.168.20.10:8080' },
  ]);
});

it('gets a certificate by HTTP-01, through the mapped port 80', async () => {
  const { status, body } = await reach.remedy('get-certificate');
  expect([status, body.detail]).toEqual([200, undefined]);
  expect(found(body, 'outside', 'certificate')).toMatchObject({
    value: expect.stringMatching(/^[67] days left$/) as string,
  });
  expect(found(body, 'outside', 'redirect')).toMatchObject({ mark: 'warn' });
  expect(found(body, 'outside', 'page')).toMatchObject({ mark: 'ok' });
  expect((await outside.state()).certificates.at(-1)?.names).toEqual(['files.saltmarsh.example']);
  const secret = JSON.stringify((await iris.ask('GET', `/api/reach/addresses/${address.id}`)).body);
  expect(secret).not.toMatch(/PRIVATE KEY|sealed/i);
});

it('turns on the redirect and HSTS', async () => {
  const { body } = await reach.remedy('redirect-on');
  expect(found(body, 'outside', 'redirect')).toMatchObject({ mark: 'ok', value: 'http → https', note: '301' });
  expect(found(body, 'tunnel', 'page').mark).toBe('ok');
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
      expect.stringMatching(/^got a certificate for files.saltmarsh.example until \w{3} \d{1,2} \w{3}/),
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
});
