import { nameKey } from '@quay/core';
import { PAGE_SIZE, type FolderPage, type StoreSummary, type TrashList } from '@quay/contract';
import { randomUUID } from 'node:crypto';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { openOffice, START, type Client, type TestOffice } from '../_fixtures/office.js';

let office: TestOffice;
let iris: Client;
let tomas: Client;
beforeAll(async () => {
  office = await openOffice();
  [iris, tomas] = await Promise.all([office.signedIn('iris'), office.signedIn('tomas')]);
});
afterAll(() => office.close());

const create = (by: Client, parent: string, name: unknown, ifExists = 'refuse') =>
  by.ask<{ id: string; created: boolean }>('POST', `/api/folders/${parent}/folders`, { name, ifExists });
const list = async (by: Client, folder: string) => (await by.ask<FolderPage>('GET', `/api/folders/${folder}`)).body;
const namesIn = async (by: Client, folder: string) => (await list(by, folder)).items.map((i) => i.name);

describe('who sees what', () => {
  it('people see their home and the stores they have a level on', async () => {
    const names = async (by: Client) =>
      (await by.ask<StoreSummary[]>('GET', '/api/stores')).body.map((s) => `${s.name} ${s.level}`);
    expect(await names(iris)).toEqual(['iris manage', 'Partners manage', 'Projects manage']);
    expect(await names(tomas)).toEqual(['tomas manage', 'Partners view', 'Projects edit']);
  });
  it("somebody else's home is not there, for the admin too", async () => {
    for (const by of [iris, tomas])
      expect((await by.ask('GET', `/api/folders/${office.roots.rosa}`)).body.code).toBe('not-found');
    expect((await iris.ask('GET', `/api/folders/${randomUUID()}`)).body).toEqual({
      ...(await iris.ask('GET', `/api/folders/${office.roots.rosa}`)).body,
      requestId: expect.any(String) as string,
    });
  });
  it('whoever may only view changes nothing and downloads nothing', async () => {
    const file = await iris.upload(office.roots.partners, 'fees.csv', Buffer.from('a,b'));
    expect((await create(tomas, office.roots.partners, 'Mine')).body.code).toBe('access.level');
    expect((await tomas.upload(office.roots.partners, 'x.txt', Buffer.from('x'))).status).toBe(403);
    expect((await tomas.ask('PATCH', `/api/nodes/${file.body.id}`, { name: 'y' })).status).toBe(403);
    expect((await tomas.ask('POST', '/api/trash', { nodeIds: [file.body.id] })).status).toBe(403);
    expect((await tomas.ask('GET', `/api/files/${file.body.id}/content`)).status).toBe(403);
    expect((await tomas.ask('GET', `/api/archive?ids=${file.body.id}`)).status).toBe(403);
    expect(
      (
        await tomas.ask('POST', '/api/shares', {
          title: 't',
          nodeIds: [file.body.id],
          window: { opensAt: null, closesAt: null },
          password: null,
          visitLimit: null,
        })
      ).status,
    ).toBe(403);
    expect((await list(tomas, office.roots.partners)).items).toHaveLength(1);
  });
  it('without a session there is nothing', async () => {
    for (const path of [
      '/api/stores',
      `/api/folders/${office.roots.projects}`,
      '/api/shares',
      '/api/ledger',
      '/api/events',
    ])
      expect((await office.client().ask('GET', path)).status).toBe(401);
  });
});

describe('names', () => {
  it.each([
    ['..', 'name.dots'],
    ['a/b', 'name.separator'],
    ['a\\b', 'name.separator'],
    ['a\u0001b', 'name.control-character'],
    ['NUL.txt', 'name.reserved'],
    ['n'.repeat(300), 'name.too-long'],
    ['what?', 'name.forbidden-character'],
    ['end.', 'name.trailing-dot-or-space'],
    ['', 'name.empty'],
  ])("%j is refused everywhere with the rule's code", async (name, code) => {
    const made = await create(iris, office.roots.projects, name);
    expect([made.status, made.body.errors?.[0]?.field]).toEqual([400, 'name']);
    if (name !== '') {
      expect(made.body.code).toBe(code);
      expect((await iris.upload(office.roots.projects, name, Buffer.from('x'))).body.code).toBe(code);
    }
  });
  it.each([[42], [null], [['a']], [{ a: 1 }]])('%j is not a name', async (name) =>
    expect((await create(iris, office.roots.projects, name)).status).toBe(400),
  );
  it('taken names are found whatever their case and composition', async () => {
    const { body } = await create(iris, office.roots.iris, 'Zürich');
    expect((await create(iris, office.roots.iris, 'ZU\u0308RICH')).body.code).toBe('name.taken');
    expect((await create(iris, office.roots.iris, 'zürich', 'use')).body).toMatchObject({
      id: body.id,
      created: false,
    });
  });
  it('what is not JSON, not an id, or too much is refused clearly', async () => {
    const bad = await iris.fetch('/api/trash', {
      method: 'POST',
      body: '{',
      headers: { 'content-type': 'application/json' },
    });
    expect([bad.status, ((await bad.json()) as { code: string }).code, bad.headers.get('content-type')]).toEqual([
      400,
      'request.not-json',
      'application/problem+json; charset=utf-8',
    ]);
    expect((await iris.ask('GET', '/api/folders/not-an-id')).status).toBe(400);
    expect(
      (await iris.ask('POST', '/api/trash', { nodeIds: Array.from({ length: 201 }, () => randomUUID()) })).body.code,
    ).toBe('nodeIds.max');
    expect((await iris.ask('POST', '/api/trash', { nodeIds: ['x'.repeat(300_000)] })).body.code).toBe(
      'request.too-large',
    );
    expect((await iris.ask('GET', `/api/folders/${office.roots.iris}?after=nonsense`)).body.code).toBe('after.invalid');
  });
});

describe('folders, renaming, trash', () => {
  it('renaming changes the name, also only its case, and keeps taken names', async () => {
    const { body } = await create(iris, office.roots.iris, 'plans');
    await create(iris, office.roots.iris, 'Other');
    expect((await iris.ask('PATCH', `/api/nodes/${body.id}`, { name: 'Plans' })).status).toBe(200);
    expect((await iris.ask('PATCH', `/api/nodes/${body.id}`, { name: 'other' })).body.code).toBe('name.taken');
    expect((await iris.ask('PATCH', `/api/nodes/${office.roots.iris}`, { name: 'Mine' })).body.code).toBe('store.root');
    expect(await namesIn(iris, office.roots.iris)).toContain('Plans');
  });
  it('what goes to the trash with its contents comes back with them', async () => {
    const { body: folder } = await create(tomas, office.roots.tomas, 'Weir');
    await tomas.upload(folder.id, 'a.txt', Buffer.from('a'));
    await tomas.ask('POST', '/api/trash', { nodeIds: [folder.id] });
    expect(await namesIn(tomas, office.roots.tomas)).not.toContain('Weir');
    expect((await tomas.ask('GET', `/api/folders/${folder.id}`)).body.code).toBe('node.trashed');
    const storeId = (await list(tomas, office.roots.tomas)).folder?.storeId;
    expect((await tomas.ask<TrashList>('GET', `/api/stores/${storeId}/trash`)).body.items).toMatchObject([
      { name: 'Weir', sizeBytes: 1, trashedBy: 'Tomas Osei', from: 'tomas', placeIsThere: true },
    ]);
    await tomas.ask('POST', '/api/trash/put-back', { nodeIds: [folder.id] });
    expect(await namesIn(tomas, folder.id)).toEqual(['a.txt']);
  });
  it('it comes back beside a name that was taken meanwhile, and not into a folder that is in the trash itself', async () => {
    const { body: folder } = await create(tomas, office.roots.tomas, 'Levels');
    const { body: file } = await tomas.upload(folder.id, 'week.csv', Buffer.from('1'));
    await tomas.ask('POST', '/api/trash', { nodeIds: [file.id] });
    await tomas.upload(folder.id, 'Week.CSV', Buffer.from('2'));
    await tomas.ask('POST', '/api/trash/put-back', { nodeIds: [file.id] });
    expect(await namesIn(tomas, folder.id)).toEqual(['week (2).csv', 'Week.CSV']);
    await tomas.ask('POST', '/api/trash', { nodeIds: [file.id] });
    await tomas.ask('POST', '/api/trash', { nodeIds: [folder.id] });
    expect((await tomas.ask('POST', '/api/trash/put-back', { nodeIds: [file.id] })).body.code).toBe('trash.place-gone');
  });
  it('nothing is added to a folder that is in the trash', async () => {
    const { body: folder } = await create(tomas, office.roots.tomas, 'Gone');
    await tomas.ask('POST', '/api/trash', { nodeIds: [folder.id] });
    expect((await create(tomas, folder.id, 'x')).body.code).toBe('node.trashed');
    expect((await tomas.upload(folder.id, 'x', Buffer.from('x'))).body.code).toBe('node.trashed');
  });
  it('two people making the same folder at once: one is made, the other told', async () => {
    const answers = await Promise.all(Array.from({ length: 8 }, () => create(iris, office.roots.projects, 'Together')));
    expect(answers.map((a) => a.status).sort()).toEqual([201, ...Array<number>(7).fill(409)]);
  });
  it('desktop litter is hidden unless asked for', async () => {
    await tomas.upload(office.roots.tomas, 'Thumbs.db', Buffer.from('x'));
    expect(await namesIn(tomas, office.roots.tomas)).not.toContain('Thumbs.db');
    expect(
      (await tomas.ask<FolderPage>('GET', `/api/folders/${office.roots.tomas}?litter=true`)).body.items.map(
        (i) => i.name,
      ),
    ).toContain('Thumbs.db');
  });
});

describe('a long folder', () => {
  it('comes in pages, in order, each item once, also while others are added', async () => {
    const { body: folder } = await create(iris, office.roots.projects, 'Long');
    const storeId = (await list(iris, folder.id)).folder?.storeId;
    const values = Array.from({ length: 1100 }, (_, i) => `Folder ${String(i).padStart(4, '0')}`);
    for (const name of values)
      await office.db.query(
        `INSERT INTO node (id, store_id, parent_id, kind, name, name_key, created_at, changed_at) VALUES ($1, $2, $3, 'folder', $4, $5, $6, $6)`,
        [randomUUID(), storeId, folder.id, name, nameKey(name), new Date(START)],
      );
    const seen: string[] = [];
    for (let after: string | null = ''; after !== null;) {
      const { body }: { body: FolderPage } = await iris.ask<FolderPage>(
        'GET',
        `/api/folders/${folder.id}${after ? `?after=${after}` : ''}`,
      );
      seen.push(...body.items.map((i) => i.name));
      if (seen.length === PAGE_SIZE) await create(iris, folder.id, 'AAA before the page');
      after = body.next;
    }
    expect(seen).toEqual(values);
  });
});
