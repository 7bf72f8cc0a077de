import type { QuayEvent } from '@quay/contract';
import type { AccessLevel } from '@quay/core';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { folder, moment, names, trash } from '../_fixtures/acts.js';
import { EXAMPLES, makeThings, request, type Example, type Things } from '../_fixtures/examples.js';
import { endGrants, grantOn, setInherits, setOthersRule } from '../_fixtures/grants.js';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';
import { StaffEars } from '../live/staff-ears.service.js';

// Names are planted wherever somebody must not look; then every route is asked as them, and no answer may hold one.

const PLANTED = 'Umbrella';
let office: TestOffice;
let iris: Client;
let rosa: Client;
let rosaId: string;
/** The folder where Rosa's access begins; above it and in it is what she must not know of. */
let open: string;
let closed: string;
let hidden: string[];
let things: Things;
let early: string;

beforeAll(async () => {
  office = await openOffice();
  [iris, rosa] = await Promise.all([office.signedIn('iris'), office.signedIn('rosa')]);
  rosaId = (await office.db.query<{ id: string }[]>(`SELECT id FROM person WHERE sign_in_name = 'rosa'`))[0]?.id ?? '';
  const { partners } = office.roots;
  await office.db.query('UPDATE node SET name = $2, name_key = $3 WHERE id = $1', [
    partners,
    `${PLANTED} store`,
    `${PLANTED} store`.toLowerCase(),
  ]);
  await office.db.query('UPDATE store SET name = $2 WHERE id = (SELECT store_id FROM node WHERE id = $1)', [
    partners,
    `${PLANTED} store`,
  ]);
});
afterAll(() => office.close());

const file = async (in_: string, name: string) => (await iris.upload(in_, name, Buffer.from(name))).body.id;

beforeEach(async () => {
  await endGrants(office.db, open ?? office.roots.rosa);
  const above = await folder(iris, office.roots.partners, `${PLANTED} above ${Math.random()}`);
  await file(above, `${PLANTED} beside.txt`);
  open = await folder(iris, above, 'Open');
  closed = await folder(iris, open, `${PLANTED} closed`);
  const inside = await folder(iris, closed, `${PLANTED} inside`);
  hidden = [above, closed, inside, await file(inside, `${PLANTED} plan.pdf`), await file(closed, '.DS_Store')];
  const thrown = await file(closed, `${PLANTED} thrown away.txt`);
  early = moment(office);
  await trash(iris, [thrown]);
  things = await makeThings(office, iris, open);
  await office.publish(iris, [closed], { title: `${PLANTED} share of what is closed` });
  await office.publish(iris, [above], { title: `${PLANTED} share of what is above` });
  await setInherits(office.db, office.clock.date(), closed, false);
});

/** What is asked beside the examples, of the store and of the folder. */
function more(t: Things): [method: string, example: Example][] {
  const get = (path: string): [string, Example] => ['GET', { path }];
  return [
    get(`/api/find?text=${PLANTED}`),
    get(`/api/find?text=${PLANTED}&inside=true`),
    get('/api/find?kind=folder'),
    get('/api/find?minBytes=0'),
    get(`/api/folders/${open}`),
    get(`/api/folders/${open}?litter=true`),
    get(`/api/folders/${open}/past?at=${early}`),
    get(`/api/nodes/${open}`),
    get(`/api/shares/of/${open}`),
    get(`/api/archive?ids=${open}`),
    get(`/api/stores/${t.storeId}/usage`),
    ['POST', { path: '/api/shares/affected', body: { nodeIds: [open] } }],
    ['POST', { path: '/api/nodes/copy', body: { nodeIds: [open], toFolderId: office.roots.rosa } }],
    ['POST', { path: `/api/folders/${open}/restore`, body: { at: early, nodeIds: null } }],
    ['POST', { path: `/api/folders/${open}/folders`, body: { name: 'Another' } }],
    ['POST', { path: '/api/trash', body: { nodeIds: [open] } }],
    ...hidden.flatMap((id) => [get(`/api/folders/${id}`), get(`/api/nodes/${id}`), get(`/api/files/${id}/versions`)]),
    ['POST', { path: '/api/sizes', body: { nodeIds: hidden } }],
    ['POST', { path: '/api/shares/marks', body: { nodeIds: hidden } }],
  ];
}

/** Every answer that holds a planted name, or is none at all. */
async function toldTo(by: Client): Promise<string[]> {
  const routes = Object.entries(EXAMPLES).map(([route, example]): [string, Example] => [
    route.split(' ')[0] as string,
    example(things),
  ]);
  const told: string[] = [];
  for (const [method, example] of [...routes, ...more(things)]) {
    if (example.endless || (method === 'DELETE' && example.path === '/api/session')) continue;
    // Whoever holds the link of a share sees what it holds; that is another door.
    if (example.path.startsWith('/s/')) continue;
    const response = await request(by, method, example);
    const answer = Buffer.from(await response.arrayBuffer()).toString('latin1');
    if (response.status === 500 || answer.toLowerCase().includes(PLANTED.toLowerCase()))
      told.push(`${method} ${example.path}`);
  }
  return told;
}

describe('what somebody must not know of', () => {
  it.each(['view', 'download', 'contribute', 'edit', 'manage'] as AccessLevel[])(
    'is in no answer of any route, whoever may %s in the folder around it',
    async (level) => {
      await grantOn(office.db, open, rosaId, level);
      expect(await names(rosa, open)).not.toEqual([]);
      expect(await toldTo(rosa)).toEqual([]);
    },
  );
  it('is in an answer to whoever does see it, so that this test can fail', async () => {
    await setInherits(office.db, office.clock.date(), closed, true);
    expect((await toldTo(iris)).length).toBeGreaterThan(15);
  });
  it('is what others brought where contributors see nothing of them', async () => {
    const drop = await folder(iris, open, 'Drop');
    await setOthersRule(office.db, office.clock.date(), drop, 'nothing');
    hidden = [await file(drop, `${PLANTED} of others.txt`), await file(drop, `${PLANTED} too.pdf`)];
    await trash(iris, [hidden[1] as string]);
    await grantOn(office.db, drop, rosaId, 'contribute');
    const mine = (await rosa.upload(drop, 'mine.txt', Buffer.from('mine'))).body.id;
    things = { ...things, folder: drop, file: mine };
    open = drop;
    expect(await names(rosa, drop)).toEqual(['mine.txt']);
    expect(await toldTo(rosa)).toEqual([]);
  });
  it('is told by no event', async () => {
    await grantOn(office.db, open, rosaId, 'edit');
    const who = { personId: rosaId, name: 'Rosa Quill', role: 'staff' as const, duties: [] };
    const heard = (event: QuayEvent) => office.app.get(StaffEars).mayHear(who, event);
    for (const id of hidden)
      expect([await heard({ topic: 'node', id }), await heard({ topic: 'preview', id })]).toEqual([false, false]);
    expect(await heard({ topic: 'node', id: open })).toBe(true);
    expect(await heard({ topic: 'store', id: things.storeId })).toBe(true);
  });
  it('keeps its name: what comes under the same one gets a number', async () => {
    await grantOn(office.db, open, rosaId, 'edit');
    const name = `${PLANTED} closed`;
    const upload = await rosa.upload(open, name, Buffer.from('x'));
    expect([upload.status, upload.body.name]).toEqual([201, `${name} (2)`]);
    const made = await rosa.ask<{ name: string }>('POST', `/api/folders/${open}/folders`, { name });
    expect([made.status, made.body.name]).toEqual([201, `${name} (3)`]);
    const renamed = await rosa.ask<{ name: string }>('PATCH', `/api/nodes/${upload.body.id}`, {
      name: name.toUpperCase(),
    });
    expect([renamed.status, renamed.body.name]).toEqual([200, `${name.toUpperCase()} (4)`]);
    const check = await rosa.ask<{ taken: number[] }>('POST', `/api/folders/${open}/check-files`, {
      files: [{ name, sizeBytes: 1 }],
    });
    expect(check.body.taken).toEqual([]);
    expect((await rosa.ask('GET', `/api/folders/${closed}`)).status).toBe(404);
  });
  it('is neither moved, nor thrown away, nor purged with what is around it', async () => {
    await grantOn(office.db, open, rosaId, 'edit');
    for (const [path, body] of [
      ['/api/trash', { nodeIds: [open] }],
      ['/api/nodes/move', { nodeIds: [open], toFolderId: office.roots.rosa }],
    ] as const)
      expect((await rosa.ask('POST', path, body)).body.code).toBe('access.below');
    await setInherits(office.db, office.clock.date(), closed, true);
    expect((await rosa.ask('POST', '/api/trash', { nodeIds: [open] })).status).toBe(200);
  });
});

describe('where access begins deeper down', () => {
  it('is where the store is entered, and its paths begin there', async () => {
    await grantOn(office.db, open, rosaId, 'download');
    const stores = (
      await rosa.ask<{ name: string; rootId: string; part: boolean; itemCount: number }[]>('GET', '/api/stores')
    ).body;
    expect(stores.find((s) => s.part)).toMatchObject({ name: 'Open', rootId: open, itemCount: 2 });
    const { body } = await rosa.ask<{ folder: { path: { name: string }[]; itemCount: number } }>(
      'GET',
      `/api/folders/${things.folder}`,
    );
    expect(body.folder.path.map((p) => p.name).slice(0, 1)).toEqual(['Open']);
    const found = await rosa.ask<{ items: { name: string; path: { name: string }[] }[] }>(
      'GET',
      '/api/find?text=text.txt',
    );
    expect(found.body.items.map((i) => i.path[0]?.name).filter((n) => n !== 'rosa')).toEqual(['Open']);
    const recent = await rosa.ask<{ items: { name: string }[] }>('GET', '/api/recent');
    expect(recent.body.items.map((i) => i.name)).toContain('text.txt');
  });
});
