import type { AddressRow } from '@quay/contract';
import { invitationText } from '@quay/relay';
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
  // The newest is told; this clock stands still otherwise.
  office.clock.advance(1000);
  const { body } = await iris.ask<{ url: string }>('POST', `/api/reach/addresses/${address.id}/telephone`);
  const path = new URL(body.url).pathname;
  expect((await reach.fromOutside(path)).text).toContain('You came all the way in, by HTTPS');
  expect((await reach.fromOutside(path)).status).toBe(410);
  expect(
    (await iris.ask<{ seen: { protocol: string } }>('GET', `/api/reach/addresses/${address.id}/telephone`)).body.seen,
  ).toMatchObject({ protocol: 'HTTPS' });
});

it('another port closes the one of before; what another address needs stays open, and a refusal closes nothing', async () => {
  const at = `/api/reach/addresses/${address.id}`;
  const open = async () => (await outside.state()).mappings.map((m) => m.external).sort((a, b) => a - b);
  await reach.remedy('map-port');
  expect(await open()).toEqual([80, 443]);
  await iris.ask('PATCH', at, { port: 8450, linksSeen: true });
  expect(await open()).toEqual([80]);
  await iris.ask('PATCH', at, { port: 443, linksSeen: true });
  await reach.remedy('map-port');
  const asked = { wayIn: 'mapping', scheme: 'https', host: 'plans.saltmarsh.example', port: 443, uses: 'visitors' };
  const second = (await iris.ask<AddressRow>('POST', '/api/reach/addresses', asked)).body;
  await iris.ask('POST', `/api/reach/addresses/${second.id}/remedies/outside`, { act: 'map-port' });
  expect(await open()).toEqual([80, 443]);
  // The first goes its own way: the second goes on needing both.
  await iris.ask('PATCH', at, { wayIn: 'fixed' });
  expect(await open()).toEqual([80, 443]);
  await iris.ask('PATCH', at, { wayIn: 'mapping' });
  await reach.remedy('map-port');
  await iris.ask('PATCH', `/api/reach/addresses/${second.id}`, { isDefault: true });
  expect((await iris.ask('DELETE', `/api/reach/addresses/${second.id}`)).body.code).toBe('address.is-default');
  expect(await open()).toEqual([80, 443]);
  await iris.ask('PATCH', at, { isDefault: true });
  expect((await iris.ask('DELETE', `/api/reach/addresses/${second.id}`)).status).toBe(204);
  expect(await open()).toEqual([80, 443]);
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

it.each(['https://dns.example:99999/u', 'https://1.2.3.999/u', 'https://dns.example/{token}', 'http://dns.example/u'])(
  'an address of an update that nobody can ask for is refused: %s',
  async (url) => {
    const asked = { name: address.host, url, user: '', secret: '' };
    expect((await iris.ask('PUT', '/api/reach/name-update', asked)).status).toBe(400);
  },
);

it('what is typed in once is sealed, and never told again', async () => {
  const code = invitationText({ host: '203.0.113.40', port: 7443, office: 'typed-in', secret: Buffer.alloc(32, 9) });
  const typed = [
    ['authority/binding', { id: 'office-7', key: 'a-key-of-the-account-of-the-office' }, 'a-key-of-the-account'],
    [
      'name-update',
      { name: address.host, url: 'https://dns.example/u?a={ipv4}', user: 'u', secret: 'typed-secret' },
      'typed-secret',
    ],
    ['relay', { code }, code],
  ] as const;
  for (const [path, body] of typed) expect((await iris.ask('PUT', `/api/reach/${path}`, body)).status).toBe(204);
  const told = JSON.stringify([
    (await iris.ask('GET', '/api/reach/network')).body,
    (await iris.ask('GET', `/api/reach/addresses/${address.id}`)).body,
    (await iris.ask('GET', '/api/ledger?limit=10')).body,
    await office.db.query('SELECT * FROM acme_account'),
    await office.db.query('SELECT * FROM name_update'),
    await office.db.query('SELECT * FROM relay_invitation'),
  ]);
  for (const [, , secret] of typed) expect(told).not.toContain(secret);
  for (const path of ['name-update', 'relay'])
    expect((await iris.ask('DELETE', `/api/reach/${path}`)).status).toBe(204);
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
