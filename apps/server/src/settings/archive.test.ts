import type { FolderAccess, FolderPage, StoreSettings, StoreSummary, WouldDo } from '@quay/contract';
import type { Act } from '@quay/core';
import { randomBytes } from 'node:crypto';
import { request as httpRequest } from 'node:http';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { folder, move, names, past, rename } from '../_fixtures/acts.js';
import { EXAMPLES, makeThings, request, type Things } from '../_fixtures/examples.js';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';
import { declaredRoutes, type Allowed } from '../platform/for.js';

let office: TestOffice;
let iris: Client;
let tomas: Client;
let projects: string;
let things: Things;

beforeAll(async () => {
  office = await openOffice();
  [iris, tomas] = [await office.signedIn('iris'), await office.signedIn('tomas')];
  projects = await idOf('Projects');
  things = await makeThings(office, iris, office.roots.projects);
});
afterAll(() => office.close());

const list = async () => (await iris.ask<StoreSettings[]>('GET', '/api/settings/stores')).body;
const idOf = async (name: string) => (await list()).find((s) => s.name === name)?.id as string;
const archive = (archived: boolean, by = iris) =>
  by.ask<StoreSettings[]>('PUT', `/api/settings/stores/${projects}/archive`, { archived });
const lastWords = async () =>
  (await iris.ask<{ entries: { words: string }[] }>('GET', '/api/ledger?limit=1')).body.entries[0]?.words;

/** What a route asks for, where it is an act that an archived store has nobody do. */
const CHANGING: readonly Allowed[] = ['add', 'change', 'remove'] satisfies Act[];
/** It tells what an act would do; the act itself is refused. */
const ASKS_ONLY = 'POST /api/shares/affected';
const CHANGING_ROUTES = [...declaredRoutes()]
  .filter(([route, { allowed }]) => CHANGING.includes(allowed) && route !== ASKS_ONLY)
  .map(([route]) => route);

describe('an archived store', () => {
  it('is told of before: what stays, and what ends', async () => {
    const { body } = await iris.ask<WouldDo>('GET', `/api/settings/stores/${projects}/archive`);
    expect(body.words).toEqual([
      'Nothing is added, changed or thrown away in Projects any more. Whoever looks at it goes on doing so.',
      '1 share from it stays open.',
      '1 upload that is under way ends.',
    ]);
  });

  it('lets nobody add, change or throw away anything in it, by any route', async () => {
    expect(CHANGING_ROUTES.length).toBeGreaterThan(10);
    expect((await archive(true)).status).toBe(200);
    expect(await lastWords()).toBe('archived the store Projects');
    const before = await office.db.query('SELECT count(*) FROM node UNION ALL SELECT count(*) FROM file_version');
    for (const by of [iris, tomas])
      for (const route of CHANGING_ROUTES) {
        const example = (EXAMPLES[route] as (t: Things) => { path: string })(things);
        const response = await request(by, route.split(' ')[0] as string, example);
        const { code } = (await response.json()) as { code?: string };
        expect([route, response.status, code]).toEqual([route, 403, 'store.archived']);
      }
    expect(await office.db.query('SELECT count(*) FROM node UNION ALL SELECT count(*) FROM file_version')).toEqual(
      before,
    );
  });
  it('is looked at, downloaded, published and granted as before', async () => {
    const { folder: head } = (await tomas.ask<FolderPage>('GET', `/api/folders/${office.roots.projects}`)).body;
    expect(head).toMatchObject({ archivedAt: office.clock.date().toISOString(), acts: ['see', 'read', 'publish'] });
    expect((await tomas.fetch(`/api/files/${things.file}/content`)).status).toBe(200);
    expect((await office.publish(tomas, [things.file])).token).toBeDefined();
    expect((await office.client().ask('GET', `/s/${things.share.token}/door`)).body).toMatchObject({ state: 'open' });
    const grant = { subject: { kind: 'staff' }, level: 'edit', until: null };
    expect((await iris.ask('POST', `/api/folders/${things.folder}/grants`, grant)).status).toBe(201);
    expect((await tomas.upload(things.folder, 'new.txt', Buffer.from('new'))).body.code).toBe('store.archived');
    const { people } = (await iris.ask<FolderAccess>('GET', `/api/folders/${things.folder}/access`)).body;
    expect(people[0]?.why.at(-1)).toBe('Nothing is added or changed: the store is archived.');
  });
  it('takes nothing in from elsewhere, and gives nothing away', async () => {
    const elsewhere = await folder(iris, office.roots.iris, 'Elsewhere');
    expect((await move(iris, [elsewhere], office.roots.projects)).body.code).toBe('store.archived');
    expect((await move(iris, [things.file], elsewhere)).body.code).toBe('store.archived');
    const copied = await iris.ask('POST', '/api/nodes/copy', { nodeIds: [things.file], toFolderId: elsewhere });
    expect(copied.status).toBe(201);
  });
  it('stands last among the stores, and its past is told as it was', async () => {
    const seen = (await tomas.ask<StoreSummary[]>('GET', '/api/stores')).body;
    expect(seen.at(-1)).toMatchObject({ name: 'Projects', archivedAt: office.clock.date().toISOString() });
    const at = office.clock.date().toISOString();
    office.clock.advance(60_000);
    expect((await past(tomas, things.folder, at)).status).toBe(200);
  });
  it('is brought back by whoever runs the server, with all that was granted', async () => {
    expect((await archive(false, tomas)).status).toBe(403);
    expect((await archive(false)).body.find((s) => s.id === projects)?.archivedAt).toBeNull();
    expect(await lastWords()).toBe('brought the store Projects back from the archive');
    expect((await rename(tomas, things.file, 'Renamed.txt')).status).toBe(200);
    expect(await office.db.query('SELECT until IS NOT NULL AS over FROM store_archived')).toEqual([{ over: true }]);
    await archive(false);
    expect(await lastWords()).not.toContain('brought the store');
  });
  it('ends an upload that is under way, which leaves nothing', async () => {
    const url = new URL(`/api/folders/${things.folder}/files?name=half.bin`, office.origin);
    const headers = { cookie: tomas.cookieHeader(url.pathname), 'content-length': '200000' };
    const outgoing = httpRequest(url, { method: 'PUT', headers });
    const ended = new Promise<string>((resolve) => {
      outgoing.once('response', (r) => resolve(String(r.statusCode)));
      outgoing.once('error', () => resolve('cut'));
    });
    outgoing.write(randomBytes(100_000));
    await new Promise((r) => setTimeout(r, 200));
    await archive(true);
    expect(await ended).not.toBe('201');
    outgoing.destroy();
    await archive(false);
    expect(await names(iris, things.folder)).not.toContain('half.bin');
  });
  it('is a common one: nobody archives a home', async () => {
    const home = (await tomas.ask<StoreSummary[]>('GET', '/api/stores')).body.find((s) => s.kind === 'home');
    const asked = await iris.ask('PUT', `/api/settings/stores/${home?.id}/archive`, { archived: true });
    expect(asked.status).toBe(404);
  });
});

describe('the order of stores', () => {
  const seen = async () =>
    (await tomas.ask<StoreSummary[]>('GET', '/api/stores')).body.filter((s) => s.kind === 'common').map((s) => s.name);
  it('is the one that was chosen, for everybody; what comes later stands at its end', async () => {
    const [partners] = [await idOf('Partners')];
    expect(await seen()).toEqual(['Partners', 'Projects']);
    const order = (storeIds: string[]) => iris.ask('PUT', '/api/settings/stores/order', { storeIds });
    expect((await order([projects, partners])).status).toBe(200);
    expect(await seen()).toEqual(['Projects', 'Partners']);
    expect(await lastWords()).toBe('put the stores in this order: Projects, Partners');
    await iris.ask('POST', '/api/settings/stores', { name: 'Annexe' });
    expect(await seen()).toEqual(['Projects', 'Partners', 'Annexe']);
    expect((await order([projects, projects])).status).toBe(400);
    expect((await order([things.storeId, crypto.randomUUID()])).status).toBe(404);
    expect(await seen()).toEqual(['Projects', 'Partners', 'Annexe']);
  });
});
