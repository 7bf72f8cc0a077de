import type { FindAnswer, FolderPage, Tag } from '@quay/contract';
import { randomBytes } from 'node:crypto';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { PreviewsService } from '../previews/previews.service.js';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';

let office: TestOffice;
let iris: Client;
let tomas: Client;
const ids: Record<string, string> = {};
beforeAll(async () => {
  office = await openOffice();
  [iris, tomas] = await Promise.all([office.signedIn('iris'), office.signedIn('tomas')]);
  const { body: folder } = await iris.ask<{ id: string }>('POST', `/api/folders/${office.roots.projects}/folders`, {
    name: 'Mill Lane',
  });
  for (const [name, size] of [
    ['ML-101 ground floor.pdf', 9000],
    ['ML-102 first floor.pdf', 7000],
    ['North elevation.png', 500],
    ['100% done_.txt', 10],
    ['Überhang.dxf', 20],
    ['floor', 30],
  ] as const) {
    office.clock.advance(60_000);
    ids[name] = (await iris.upload(folder.id, name, randomBytes(size))).body.id;
  }
  ids['notes'] = (
    await tomas.upload(office.roots.tomas, 'floor notes.txt', Buffer.from('The theodolite stood on the north pier.'))
  ).body.id;
  ids['folder'] = folder.id;
});
afterAll(() => office.close());

const find = async (by: Client, query: string) => (await by.ask<FindAnswer>('GET', `/api/find?${query}`)).body;
const found = async (by: Client, query: string) => (await find(by, query)).items.map((i) => i.name);

describe('finding', () => {
  it('by name: words in any order and case, the best first, with the way there', async () => {
    expect(await found(iris, 'text=floor')).toEqual(['floor', 'ML-101 ground floor.pdf', 'ML-102 first floor.pdf']);
    expect(await found(iris, 'text=FLOOR%20ml-10')).toEqual(['ML-101 ground floor.pdf', 'ML-102 first floor.pdf']);
    expect((await find(iris, 'text=elevation')).items[0]?.path.map((p) => p.name)).toEqual(['Projects', 'Mill Lane']);
    expect(await found(iris, `text=${encodeURIComponent('u\u0308berhang')}`)).toEqual(['Überhang.dxf']);
  });
  it('signs of the pattern language are only letters here', async () => {
    expect(await found(iris, `text=${encodeURIComponent('100% done_')}`)).toEqual(['100% done_.txt']);
    expect(await found(iris, `text=${encodeURIComponent('100%%')}`)).toEqual([]);
  });
  it('two letters find beginnings', async () => expect(await found(iris, 'text=ml')).toHaveLength(2));
  it('only what one may see, and nothing in the trash', async () => {
    expect(await found(tomas, 'text=floor')).toContain('floor notes.txt');
    expect(await found(iris, 'text=notes')).toEqual([]);
    await iris.ask('POST', '/api/trash', { nodeIds: [ids['folder']] });
    expect(await found(iris, 'text=elevation')).toEqual([]);
    await iris.ask('POST', '/api/trash/put-back', { nodeIds: [ids['folder']] });
  });
  it('by kind, size, date and person, together', async () => {
    expect(await found(iris, 'kind=pdf&minBytes=8000')).toEqual(['ML-101 ground floor.pdf']);
    expect(await found(iris, 'kind=folder&text=mill')).toEqual(['Mill Lane']);
    expect(await found(iris, `from=${new Date(office.clock.now() - 30_000).toISOString()}&kind=other`)).toEqual([
      'floor',
    ]);
    const { body: me } = await iris.ask<{ id: string }>('GET', '/api/session');
    expect(await found(iris, `personId=${me.id}&kind=image`)).toEqual(['North elevation.png']);
    expect((await iris.ask('GET', '/api/find')).body.code).toBe('find.nothing');
    expect((await iris.ask('GET', '/api/find?kind=sound')).status).toBe(400);
  });
  it('inside texts', async () => {
    await office.app.get(PreviewsService).settled();
    expect(await found(tomas, 'text=theodolite&inside=true')).toEqual(['floor notes.txt']);
    expect(await found(tomas, 'text=theodolite')).toEqual([]);
    expect(await found(iris, 'text=theodolite&inside=true')).toEqual([]);
  });
});

describe('labels', () => {
  it("tags are the office's, set by those who may edit, and found by", async () => {
    const { body: tag } = await tomas.ask<Tag>('POST', '/api/tags', { name: 'Urgent', colour: 'buoy' });
    expect((await tomas.ask('POST', '/api/tags', { name: 'urgent', colour: 'ink' })).body.code).toBe('tag.taken');
    expect((await tomas.ask('POST', '/api/tags', { name: 'x', colour: 'pink' })).status).toBe(400);
    expect(
      (await tomas.ask('POST', '/api/nodes/tags', { nodeIds: [ids['floor']], tagId: tag.id, on: true })).status,
    ).toBe(204);
    expect(await found(iris, `tagId=${tag.id}`)).toEqual(['floor']);
    const { body: page } = await iris.ask<FolderPage>('GET', `/api/folders/${ids['folder']}`);
    expect(page.items.find((i) => i.name === 'floor')?.tags).toEqual([tag.id]);
    expect((await tomas.ask('DELETE', `/api/tags/${tag.id}`)).body.code).toBe('duty.missing');
    await iris.ask('POST', '/api/nodes/tags', { nodeIds: [ids['floor']], tagId: tag.id, on: false });
    expect(await found(iris, `tagId=${tag.id}`)).toEqual([]);
  });
  it("pins are one's own", async () => {
    await iris.ask('POST', '/api/pins', { nodeIds: [ids['folder']], on: true });
    expect((await iris.ask<FindAnswer>('GET', '/api/pins')).body.items.map((i) => i.name)).toEqual(['Mill Lane']);
    expect((await tomas.ask<FindAnswer>('GET', '/api/pins')).body.items).toEqual([]);
  });
  it('recent: the newest first, litter left out', async () => {
    await tomas.upload(office.roots.tomas, 'Thumbs.db', Buffer.from('x'));
    expect(
      (await tomas.ask<FindAnswer>('GET', '/api/recent')).body.items
        .map((i) => i.name)
        .slice(0, 2)
        .sort(),
    ).toEqual(['floor', 'floor notes.txt']);
  });
});
