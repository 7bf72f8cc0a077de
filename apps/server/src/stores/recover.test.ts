import type {
  Litter,
  FolderPage,
  PastFolder,
  PolicyEffect,
  PurgeAnswer,
  RestoreAnswer,
  StoreUsage,
  TrashList,
  VersionList,
} from '@quay/contract';
import { createHash, randomBytes } from 'node:crypto';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { checkInvariants } from '../check/invariants.js';
import { BlobKeeper } from '../platform/blobs/blob-keeper.js';
import { BLOBS } from '../platform/blobs/blob-store.js';
import { Housekeeping } from '../platform/housekeeping.js';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';

const MINUTE = 60_000;
const DAY = 86_400_000;
let office: TestOffice;
let iris: Client;
let tomas: Client;
beforeAll(async () => {
  office = await openOffice();
  [iris, tomas] = await Promise.all([office.signedIn('iris'), office.signedIn('tomas')]);
});
afterAll(async () => {
  expect((await checkInvariants(office.db, office.app.get(BLOBS), true)).violations).toEqual([]);
  await office.close();
});

const folder = async (by: Client, parent: string, name: string) =>
  (await by.ask<{ id: string }>('POST', `/api/folders/${parent}/folders`, { name })).body.id;
const storeOf = async (by: Client, id: string) =>
  (await by.ask<FolderPage>('GET', `/api/folders/${id}`)).body.folder?.storeId as string;
const names = async (by: Client, id: string) =>
  (await by.ask<FolderPage>('GET', `/api/folders/${id}`)).body.items.map((i) => i.name);
const content = async (by: Client, id: string, query = '') =>
  Buffer.from(await (await by.fetch(`/api/files/${id}/content${query}`)).arrayBuffer()).toString();
const versions = async (by: Client, id: string) =>
  (await by.ask<VersionList>('GET', `/api/files/${id}/versions`)).body.versions;
const later = (ms: number) => office.clock.advance(ms);

describe('versions', () => {
  it('are kept, downloaded with their own bytes, and come back as new ones', async () => {
    const { body: file } = await tomas.upload(office.roots.tomas, 'levels.csv', Buffer.from('one'));
    await tomas.upload(office.roots.tomas, 'levels.csv', Buffer.from('two'), '&conflict=version');
    expect([await content(tomas, file.id), await content(tomas, file.id, '?version=1')]).toEqual(['two', 'one']);
    expect((await tomas.ask('POST', `/api/files/${file.id}/versions/1/restore`)).body).toMatchObject({
      version: 3,
      sha256: createHash('sha256').update('one').digest('hex'),
    });
    expect((await versions(tomas, file.id)).map((v) => [v.number, v.current])).toEqual([
      [3, true],
      [2, false],
      [1, false],
    ]);
    expect(await content(tomas, file.id)).toBe('one');
    for (const bad of ['0', '9', 'x'])
      expect((await tomas.ask('POST', `/api/files/${file.id}/versions/${bad}/restore`)).status).toBeGreaterThanOrEqual(
        400,
      );
  });
  it("beyond the store's number the oldest goes, but not one that is kept for ever; the effect is told before", async () => {
    const id = await folder(iris, office.roots.projects, 'Many');
    const { body: file } = await iris.upload(id, 'a.txt', Buffer.from('0'));
    for (let n = 1; n < 6; n += 1) await iris.upload(id, 'a.txt', Buffer.from(String(n)), '&conflict=version');
    await iris.ask('PATCH', `/api/files/${file.id}/versions/1`, { kept: true });
    const store = await storeOf(iris, id);
    expect(
      (await iris.ask<PolicyEffect>('GET', `/api/stores/${store}/policy-effect?versionsKept=3`)).body,
    ).toMatchObject({ versions: 2, bytes: 2, examples: [{ name: 'a.txt', reason: 'over-count' }, { name: 'a.txt' }] });
    expect((await iris.ask('PATCH', `/api/stores/${store}`, { versionsKept: 3 })).status).toBe(204);
    // Nothing goes before something new comes.
    expect(await versions(iris, file.id)).toHaveLength(6);
    await iris.upload(id, 'a.txt', Buffer.from('6'), '&conflict=version');
    expect((await versions(iris, file.id)).map((v) => v.number)).toEqual([7, 6, 5, 1]);
    await iris.ask('PATCH', `/api/stores/${store}`, { versionsKept: 32 });
  });
  it('rules of a store are for those who manage it, quotas for the admin', async () => {
    const store = await storeOf(iris, office.roots.projects);
    expect((await tomas.ask('PATCH', `/api/stores/${store}`, { versionsKept: 3 })).body.code).toBe('access.level');
    expect(
      (await tomas.ask('PATCH', `/api/stores/${await storeOf(tomas, office.roots.tomas)}`, { quotaBytes: null })).body
        .code,
    ).toBe('duty.missing');
    for (const bad of [{ versionsKept: 0 }, { quotaBytes: -1 }, { allowedTypes: ['.pdf'] }, {}, { nonsense: 1 }])
      expect((await iris.ask('PATCH', `/api/stores/${store}`, bad)).status).toBe(400);
  });
});

describe('the trash', () => {
  it('gives back to another place when the old one is gone', async () => {
    const id = await folder(tomas, office.roots.tomas, 'Short-lived');
    const { body: file } = await tomas.upload(id, 'keep.txt', Buffer.from('keep'));
    await tomas.ask('POST', '/api/trash', { nodeIds: [file.id] });
    await tomas.ask('POST', '/api/trash', { nodeIds: [id] });
    expect(
      (
        await tomas.ask<TrashList>('GET', `/api/stores/${await storeOf(tomas, office.roots.tomas)}/trash`)
      ).body.items.find((t) => t.name === 'keep.txt'),
    ).toMatchObject({ placeIsThere: false, from: 'tomas / Short-lived' });
    expect((await tomas.ask('POST', '/api/trash/put-back', { nodeIds: [file.id] })).body.code).toBe('trash.place-gone');
    await tomas.ask('POST', '/api/trash/purge', { nodeIds: [id] });
    // Removing the folder for good took what was in it, in the trash or not.
    expect(
      (await tomas.ask('POST', '/api/trash/put-back', { nodeIds: [file.id], toFolderId: office.roots.tomas })).body,
    ).toEqual({ nodeIds: [] });
    const other = await folder(tomas, office.roots.tomas, 'Second');
    const { body: again } = await tomas.upload(other, 'keep.txt', Buffer.from('keep'));
    await tomas.ask('POST', '/api/trash', { nodeIds: [again.id] });
    await tomas.ask('POST', '/api/trash', { nodeIds: [other] });
    expect(
      (await tomas.ask('POST', '/api/trash/put-back', { nodeIds: [again.id], toFolderId: office.roots.tomas })).status,
    ).toBe(200);
    expect(await content(tomas, again.id)).toBe('keep');
  });
  it('removes for good what is old, frees the bytes, and keeps what a live share or a kept version needs', async () => {
    const id = await folder(iris, office.roots.projects, 'To purge');
    const bytes = randomBytes(30_000);
    const { body: plain } = await iris.upload(id, 'plain.bin', bytes);
    const { body: shared } = await iris.upload(id, 'shared.bin', randomBytes(1000));
    const { body: held } = await iris.upload(id, 'held.bin', randomBytes(1000));
    await iris.ask('PATCH', `/api/files/${held.id}/versions/1`, { kept: true });
    const share = await office.publish(iris, [shared.id], { window: { opensAt: null, closesAt: null } });
    await iris.ask('POST', '/api/trash', { nodeIds: [plain.id, shared.id, held.id] });
    expect(
      (await iris.ask<PurgeAnswer>('POST', '/api/trash/purge', { nodeIds: [shared.id, held.id] })).body,
    ).toMatchObject({
      files: 0,
      kept: [
        { id: shared.id, why: expect.stringContaining('still needs it') as string },
        { id: held.id, why: expect.stringContaining('kept for ever') as string },
      ],
    });
    later(91 * DAY);
    [iris, tomas] = await Promise.all([office.signedIn('iris'), office.signedIn('tomas')]);
    await office.app.get(Housekeeping).tidy();
    const left = (await iris.ask<TrashList>('GET', `/api/stores/${await storeOf(iris, id)}/trash`)).body.items.map(
      (t) => t.name,
    );
    expect(left).toEqual(expect.arrayContaining(['shared.bin', 'held.bin']));
    expect(left).not.toContain('plain.bin');
    expect(
      await office.app
        .get<{ stat: (sha: Buffer) => Promise<unknown> }>(BLOBS)
        .stat(createHash('sha256').update(bytes).digest()),
    ).toBeNull();
    await iris.ask('PATCH', `/api/shares/${share.id}`, { withdrawn: true });
    expect((await iris.ask<PurgeAnswer>('POST', '/api/trash/purge', { nodeIds: [shared.id] })).body.files).toBe(1);
  });
});

describe('a folder as it was', () => {
  it('shows names, versions and places of that moment, and what became of them', async () => {
    const id = await folder(tomas, office.roots.tomas, 'History');
    const other = await folder(tomas, office.roots.tomas, 'Aside');
    const { body: a } = await tomas.upload(id, 'a.txt', Buffer.from('a1'));
    const { body: b } = await tomas.upload(id, 'b.txt', Buffer.from('b1'));
    const { body: c } = await tomas.upload(id, 'c.txt', Buffer.from('c1'));
    later(MINUTE);
    const then = new Date(office.clock.now()).toISOString();
    later(MINUTE);
    await tomas.upload(id, 'a.txt', Buffer.from('a2'), '&conflict=version');
    await tomas.ask('PATCH', `/api/nodes/${a.id}`, { name: 'renamed.txt' });
    await tomas.ask('POST', '/api/trash', { nodeIds: [b.id] });
    await tomas.ask('POST', '/api/nodes/move', { nodeIds: [c.id], toFolderId: other, widens: true });
    await tomas.upload(id, 'new.txt', Buffer.from('n'));
    const { body: past } = await tomas.ask<PastFolder>('GET', `/api/folders/${id}/past?at=${then}`);
    expect(past.items.map((i) => [i.name, i.now, i.versionNumber])).toEqual([
      ['a.txt', 'changed', 1],
      ['b.txt', 'trashed', 1],
      ['c.txt', 'moved', 1],
    ]);
    expect(past.moments.length).toBeGreaterThanOrEqual(2);
    expect((await tomas.ask<PastFolder>('GET', `/api/folders/${id}/past?at=2020-01-01T00:00:00Z`)).body.items).toEqual(
      [],
    );
    const { body: answer } = await tomas.ask<RestoreAnswer>('POST', `/api/folders/${id}/restore`, {
      at: then,
      nodeIds: null,
    });
    expect(answer).toEqual({ restored: 3, same: 0, lost: [], refused: [] });
    // The renamed file keeps its name and gets the bytes of then; the moved one stays where it is and is there again.
    expect(await names(tomas, id)).toEqual(['b.txt', 'c.txt', 'new.txt', 'renamed.txt']);
    expect(await content(tomas, a.id)).toBe('a1');
    expect(await names(tomas, other)).toEqual(['c.txt']);
    expect(
      (await tomas.ask('POST', `/api/folders/${id}/restore`, { at: '2099-01-01T00:00:00Z', nodeIds: null })).body.code,
    ).toBe('at.future');
  });
  it('brings whole folders back, with everything in them, and says what is lost', async () => {
    const id = await folder(tomas, office.roots.tomas, 'Site');
    const inner = await folder(tomas, id, 'Photographs');
    const { body: one } = await tomas.upload(inner, '1.jpg', Buffer.from('1'));
    await tomas.upload(inner, '2.jpg', Buffer.from('2'));
    later(MINUTE);
    const then = new Date(office.clock.now()).toISOString();
    later(MINUTE);
    await tomas.ask('POST', '/api/trash', { nodeIds: [one.id] });
    await tomas.ask('POST', '/api/trash/purge', { nodeIds: [one.id] });
    await tomas.ask('POST', '/api/trash', { nodeIds: [inner] });
    const { body } = await tomas.ask<RestoreAnswer>('POST', `/api/folders/${id}/restore`, {
      at: then,
      nodeIds: [inner],
    });
    expect(body).toEqual({ restored: 1, same: 1, lost: ['1.jpg'], refused: [] });
    expect(await names(tomas, inner)).toEqual(['2.jpg']);
  });
  it('a clock that is put back makes no past that ends before it began', async () => {
    const id = await folder(tomas, office.roots.tomas, 'Clock');
    later(-3 * DAY);
    await tomas.ask('PATCH', `/api/nodes/${id}`, { name: 'Clock, later' });
    later(3 * DAY + MINUTE);
    await tomas.ask('PATCH', `/api/nodes/${id}`, { name: 'Clock, latest' });
    expect(await office.db.query<unknown[]>('SELECT 1 FROM node_past WHERE until < since')).toEqual([]);
  });
});

describe('blobs that nothing refers to', () => {
  it('are never taken from under an upload, however the two interleave', async () => {
    const keeper = office.app.get(BlobKeeper);
    const id = await folder(tomas, office.roots.tomas, 'Race');
    // Few contents, many uploads and removals of them, and a collector that never rests.
    const contents = Array.from({ length: 4 }, () => randomBytes(5000));
    let collecting = true;
    let collected = 0;
    const collectors = [0, 1].map(async () => {
      while (collecting) {
        collected += (await keeper.collect()).removed;
        await keeper.sweepStrays();
      }
    });
    const workers = Array.from({ length: 4 }, async (_, worker) => {
      for (let round = 0; round < 25; round += 1) {
        const bytes = contents[(worker + round) % contents.length] as Buffer;
        const { body, status } = await tomas.upload(id, `${worker}.bin`, bytes, '&conflict=keep-both');
        expect(status).toBe(201);
        expect(
          Buffer.from(await (await tomas.fetch(`/api/files/${body.id}/content`)).arrayBuffer()).equals(bytes),
        ).toBe(true);
        await tomas.ask('POST', '/api/trash', { nodeIds: [body.id] });
        await tomas.ask('POST', '/api/trash/purge', { nodeIds: [body.id] });
      }
    });
    await Promise.all(workers);
    collecting = false;
    await Promise.all(collectors);
    expect(collected).toBeGreaterThan(0);
    await keeper.collect();
    expect((await checkInvariants(office.db, office.app.get(BLOBS), true)).violations).toEqual([]);
  });
});

describe('what a store uses', () => {
  it('is told by folder, with versions and trash apart, and adds up', async () => {
    const id = await folder(tomas, office.roots.rosa, 'x');
    expect(id).toBeUndefined();
    const rosa = await office.signedIn('rosa');
    const store = await storeOf(rosa, office.roots.rosa);
    const sub = await folder(rosa, office.roots.rosa, 'Sub');
    await rosa.upload(sub, 'a.bin', randomBytes(1000));
    await rosa.upload(sub, 'a.bin', randomBytes(2000), '&conflict=version');
    const { body: gone } = await rosa.upload(office.roots.rosa, 'b.bin', randomBytes(400));
    await rosa.ask('POST', '/api/trash', { nodeIds: [gone.id] });
    const { body } = await rosa.ask<StoreUsage>('GET', `/api/stores/${store}/usage`);
    expect(body.tree.children.map((c) => [c.name, c.bytes])).toEqual([
      ['Sub', 2000],
      ['Earlier versions', 1000],
      ['Trash', 400],
    ]);
    expect([body.tree.bytes, body.store.usedBytes]).toEqual([3400, 3400]);
    expect(body.growth?.people).toEqual([{ name: 'Rosa Quill', usedBytes: 3400 }]);
    expect(body.growth?.forecast).toBeNull();
  });
  it('litter is listed, and goes to the trash when it is told to', async () => {
    const store = await storeOf(tomas, office.roots.tomas);
    const id = await folder(tomas, office.roots.tomas, 'Littered');
    for (const name of ['Thumbs.db', '.DS_Store', 'real.txt']) await tomas.upload(id, name, Buffer.from(name));
    const { body: left } = await tomas.ask<Litter>('GET', `/api/stores/${store}/litter`);
    const body = left.items;
    expect([left.total, left.totalBytes]).toEqual([body.length, body.reduce((sum, i) => sum + i.sizeBytes, 0)]);
    expect(
      body
        .filter((l) => ['Thumbs.db', '.DS_Store', 'real.txt'].includes(l.name))
        .map((l) => l.name)
        .sort(),
    ).toEqual(['.DS_Store', 'Thumbs.db']);
    await tomas.ask('POST', '/api/trash', { nodeIds: body.map((l) => l.id) });
    expect((await tomas.ask<Litter>('GET', `/api/stores/${store}/litter`)).body.total).toBe(0);
  });
});
