import { randomBytes } from 'node:crypto';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { bringBack, folder, moment, move, names, past, purge, storeOf, trash } from '../_fixtures/acts.js';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';

let office: TestOffice;
let iris: Client;
let tomas: Client;
let rosa: Client;
beforeAll(async () => {
  office = await openOffice();
  [iris, tomas, rosa] = await Promise.all([office.signedIn('iris'), office.signedIn('tomas'), office.signedIn('rosa')]);
});
afterAll(() => office.close());

const text = async (by: Client, folderId: string, name: string, words: string) =>
  (await by.upload(folderId, name, Buffer.from(words))).body.id;
const read = async (by: Client, id: string) => (await by.fetch(`/api/files/${id}/content`)).text();

describe('as it was, by the rights of today', () => {
  it('what was moved into a home is not pulled out of it, nor what was put into it there', async () => {
    const shared = await folder(rosa, office.roots.projects, 'Tender');
    await text(rosa, shared, 'offer.txt', 'public');
    const at = moment(office);
    await move(rosa, [shared], office.roots.rosa);
    await text(rosa, shared, 'salary.txt', 'secret');
    await trash(rosa, [shared]);
    const shown = await past(tomas, office.roots.projects, at);
    expect(shown.body.items.map((i) => i.name)).not.toContain('Tender');
    expect((await bringBack(tomas, office.roots.projects, at, [shared])).status).toBe(404);
    await bringBack(tomas, office.roots.projects, at);
    expect(await names(tomas, office.roots.projects)).not.toContain('Tender');
    expect(await names(rosa, office.roots.rosa)).not.toContain('Tender');
  });
  it('of what lies elsewhere now, and may be read there, only the version of that moment comes', async () => {
    const place = await folder(rosa, office.roots.projects, 'Plans');
    const plan = await text(rosa, place, 'plan.txt', 'first');
    const at = moment(office);
    const other = await folder(rosa, office.roots.projects, 'Elsewhere');
    await move(rosa, [plan], other);
    await rosa.upload(other, 'plan.txt', Buffer.from('second'), '&conflict=version');
    const answer = (await bringBack(tomas, place, at)).body;
    expect(answer).toMatchObject({ restored: 1, refused: [] });
    const [back] = (await tomas.ask<{ items: { id: string }[] }>('GET', `/api/folders/${place}`)).body.items;
    expect(await read(tomas, back?.id as string)).toBe('first');
    const { versions } = (await tomas.ask<{ versions: object[] }>('GET', `/api/files/${back?.id}/versions`)).body;
    expect(versions).toHaveLength(1);
    expect(await read(tomas, plan)).toBe('second');
  });
  it('what may be looked at there and not read is named, and not brought', async () => {
    const place = await folder(iris, office.roots.projects, 'Looked at');
    const sign = await text(iris, place, 'sign.txt', 'sign');
    const at = moment(office);
    await move(iris, [sign], office.roots.partners);
    const { body } = await bringBack(tomas, place, at);
    expect(body).toMatchObject({
      restored: 0,
      refused: [{ name: 'sign.txt', why: expect.stringContaining('may not read') as string }],
    });
    expect(await names(tomas, place)).toEqual([]);
  });
  it('a folder that moved to another store keeps the past of what was removed for good to itself', async () => {
    const hidden = await folder(rosa, office.roots.rosa, 'Drafts');
    const gone = await text(rosa, hidden, 'gone.txt', 'gone');
    const at = moment(office);
    await trash(rosa, [gone]);
    await purge(rosa, [gone]);
    await move(rosa, [hidden], office.roots.projects);
    expect((await past(tomas, hidden, at)).body.items).toEqual([]);
    expect((await past(tomas, hidden, at)).body.moments).toEqual([]);
    expect((await past(rosa, hidden, at)).body.items.map((i) => i.name)).toEqual(['gone.txt']);
  });
  it('everything below a folder that moves lies in its new store, in the trash or not', async () => {
    const top = await folder(tomas, office.roots.tomas, 'Branch');
    const inner = await folder(tomas, top, 'Inner');
    const thrown = await folder(tomas, inner, 'Thrown');
    await text(tomas, thrown, 'x.txt', 'x');
    await trash(tomas, [thrown]);
    await move(tomas, [top], office.roots.projects);
    const stores = await office.db.query<{ store_id: string }[]>(
      'SELECT DISTINCT store_id FROM node WHERE id = ANY($1) OR parent_id = $2',
      [[top, inner, thrown], thrown],
    );
    expect(stores.map((s) => s.store_id)).toEqual([await storeOf(tomas, office.roots.projects)]);
    const other = await storeOf(tomas, office.roots.tomas);
    await expect(office.db.query('UPDATE node SET store_id = $2 WHERE id = $1', [inner, other])).rejects.toThrow(
      'node_branch_has_one_store',
    );
  });
  it('a folder of more than is shown says so, and comes back whole', async () => {
    const id = await folder(tomas, office.roots.tomas, 'Thousands');
    const storeId = await storeOf(tomas, id);
    await office.db.query(
      `INSERT INTO node (id, store_id, parent_id, kind, name, name_key, created_at, changed_at) SELECT gen_random_uuid(), $1, $2, 'folder', 'n ' || i, 'n ' || i, $3, $3 FROM generate_series(1, 20500) i`,
      [storeId, id, office.clock.date()],
    );
    const at = moment(office);
    await office.db.query('UPDATE node SET trashed_at = $2 WHERE parent_id = $1', [id, office.clock.date()]);
    office.clock.advance(1000);
    const shown = (await past(tomas, id, at)).body;
    expect([shown.items.length, shown.more]).toEqual([20_000, true]);
    expect((await bringBack(tomas, id, at)).body.restored).toBe(20_500);
  });
  it('the rules of the store hold for what comes back', async () => {
    const id = await folder(iris, office.roots.projects, 'Rules');
    await iris.upload(id, 'tool.exe', randomBytes(50));
    await iris.upload(id, 'large.bin', randomBytes(5000));
    const at = moment(office);
    const items = (await iris.ask<{ items: { id: string }[] }>('GET', `/api/folders/${id}`)).body.items.map(
      (i) => i.id,
    );
    await trash(iris, items);
    await purge(iris, items);
    const kept = await folder(iris, office.roots.projects, 'Kept copies');
    await iris.upload(kept, 'tool.exe', randomBytes(50));
    const store = await storeOf(iris, id);
    const back = await folder(iris, office.roots.projects, 'Back');
    const one = await iris.upload(back, 'one.exe', randomBytes(40));
    const later = moment(office);
    await move(iris, [one.body.id], kept);
    await iris.ask('PATCH', `/api/stores/${store}`, { allowedTypes: ['bin'], largestFileBytes: 1000 });
    expect((await bringBack(iris, id, at)).body).toMatchObject({ lost: ['large.bin', 'tool.exe'], restored: 0 });
    expect((await bringBack(iris, back, later)).body.refused).toMatchObject([{ name: 'one.exe' }]);
    await iris.ask('PATCH', `/api/stores/${store}`, { allowedTypes: [], largestFileBytes: null });
  });
});
