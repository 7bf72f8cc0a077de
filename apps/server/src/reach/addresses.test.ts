import type { AddressRow } from '@quay/contract';
import { afterAll, expect, it } from 'vitest';
import { openOffice } from '../_fixtures/office.js';
import { openReach } from '../_fixtures/reach.js';

const reach = await openReach('set up');
const { outside, office, iris, address } = reach;
afterAll(() => reach.close());

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

it('a proof by telephone tells address and protocol, and counts once', async () => {
  const { body } = await iris.ask<{ url: string }>('POST', `/api/reach/addresses/${address.id}/telephone`);
  const path = new URL(body.url).pathname;
  expect((await reach.fromOutside(path)).text).toContain('You came all the way in, by HTTPS');
  expect((await reach.fromOutside(path)).status).toBe(410);
  expect(
    (await iris.ask<{ seen: { protocol: string } }>('GET', `/api/reach/addresses/${address.id}/telephone`)).body.seen,
  ).toMatchObject({ protocol: 'HTTPS' });
});

it('links are listed before their address changes or goes, and can be moved', async () => {
  await iris.ask('PATCH', `/api/reach/addresses/${address.id}`, { isDefault: true });
  const { body: file } = await iris.upload(office.roots.projects, 'Plan.txt', Buffer.from('a plan'));
  await office.publish(iris, [file.id]);
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
      'duty.missing',
    );
  expect((await office.client().ask('GET', '/api/reach/addresses')).status).toBe(401);
});
