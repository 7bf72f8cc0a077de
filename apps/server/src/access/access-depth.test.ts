import type { FindAnswer, FolderPage } from '@quay/contract';
import type { OthersRule } from '@quay/core';
import { randomUUID } from 'node:crypto';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { copy, folder, names, rename, trash } from '../_fixtures/acts.js';
import { endGrants, grantOn, setInherits, setOthersRule } from '../_fixtures/grants.js';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';

let office: TestOffice;
let iris: Client;
let tomas: Client;
let rosa: Client;
let rosaId: string;
let tomasId: string;
/** A folder in a store where Rosa has nothing, with a file in it; Tomas views that store. */
let place: string;
let file: string;

beforeAll(async () => {
  office = await openOffice();
  [iris, tomas, rosa] = await Promise.all([office.signedIn('iris'), office.signedIn('tomas'), office.signedIn('rosa')]);
  const people = await office.db.query<{ id: string; name: string }[]>('SELECT id, sign_in_name AS name FROM person');
  [rosaId, tomasId] = ['rosa', 'tomas'].map((n) => people.find((p) => p.name === n)?.id as string) as [string, string];
});
beforeEach(async () => {
  place = await folder(iris, office.roots.partners, `Place ${randomUUID()}`);
  file = (await iris.upload(place, 'levels.csv', Buffer.from('1,2\n'))).body.id;
});
afterAll(() => office.close());

const status = async (by: Client, path: string): Promise<number> => (await by.fetch(path)).status;
const statuses = (by: Client, id = file): Promise<number[]> =>
  Promise.all(
    [`/api/folders/${place}`, `/api/nodes/${id}`, `/api/files/${id}/content`].map((path) => status(by, path)),
  );
const stop = (id: string, inherits = false) => setInherits(office.db, office.clock.date(), id, inherits);
const rule = (id: string, others: OthersRule) => setOthersRule(office.db, office.clock.date(), id, others);

describe('a grant on a folder', () => {
  it('holds there and below, and nowhere above or beside; it is another level that does more', async () => {
    const below = await folder(iris, place, 'Below');
    const beside = await folder(iris, office.roots.partners, `Beside ${randomUUID()}`);
    expect(await statuses(rosa)).toEqual([404, 404, 404]);
    await grantOn(office.db, place, rosaId, 'view');
    expect(await statuses(rosa)).toEqual([200, 200, 403]);
    expect(await status(rosa, `/api/folders/${below}`)).toBe(200);
    expect(await status(rosa, `/api/folders/${beside}`)).toBe(404);
    expect(await status(rosa, `/api/folders/${office.roots.partners}`)).toBe(404);
    await grantOn(office.db, below, rosaId, 'contribute');
    expect((await rosa.upload(below, 'mine.txt', Buffer.from('x'))).status).toBe(201);
    expect((await rosa.upload(place, 'mine.txt', Buffer.from('x'))).body.code).toBe('access.level');
    await grantOn(office.db, place, rosaId, 'download');
    expect(await statuses(rosa)).toEqual([200, 200, 200]);
  });
  it('that ends, ends at once; one with an end ends by itself, without anybody writing anything', async () => {
    await grantOn(office.db, place, rosaId, 'download');
    expect(await statuses(rosa)).toEqual([200, 200, 200]);
    await endGrants(office.db, place);
    expect(await statuses(rosa)).toEqual([404, 404, 404]);
    const until = new Date(office.clock.now() + 60_000);
    await grantOn(office.db, place, rosaId, 'download', { until });
    expect(await statuses(rosa)).toEqual([200, 200, 200]);
    office.clock.advance(60_000);
    expect(await statuses(rosa)).toEqual([404, 404, 404]);
    await grantOn(office.db, place, rosaId, 'download', { since: new Date(office.clock.now() + 60_000) });
    expect(await statuses(rosa)).toEqual([404, 404, 404]);
    office.clock.advance(60_000);
    expect(await statuses(rosa)).toEqual([200, 200, 200]);
  });
  it('to a group is that of whoever is in a group in it, for as long as they are', async () => {
    const [field, drones] = [randomUUID(), randomUUID()];
    for (const id of [field, drones])
      await office.db.query('INSERT INTO people_group (id, name, since) VALUES ($1::uuid, $1::text, $2)', [
        id,
        new Date(0),
      ]);
    const join = (group: string, person: string | null, member: string | null) =>
      office.db.query(
        `INSERT INTO membership (id, group_id, person_id, member_group_id, source, since) VALUES ($1, $2, $3, $4, 'hand', $5)`,
        [randomUUID(), group, person, member, new Date(0)],
      );
    await join(field, null, drones);
    await office.db.query(
      `INSERT INTO access_grant (id, node_id, subject_kind, group_id, level, since) VALUES ($1, $2, 'group', $3, 'download', $4)`,
      [randomUUID(), place, field, new Date(0)],
    );
    expect(await statuses(rosa)).toEqual([404, 404, 404]);
    await join(drones, rosaId, null);
    expect(await statuses(rosa)).toEqual([200, 200, 200]);
    await office.db.query('UPDATE people_group SET ended_at = $2 WHERE id = $1', [drones, office.clock.date()]);
    expect(await statuses(rosa)).toEqual([404, 404, 404]);
  });
});

describe('a folder that takes nothing over', () => {
  it('is not there for those who have something above it, in no listing, search or recent; the admin sees no name in it', async () => {
    const name = `Personnel ${randomUUID()}`;
    const closed = await folder(iris, office.roots.projects, name);
    const inside = await folder(iris, closed, 'Reviews');
    const { body } = await iris.upload(inside, `${name} review.txt`, Buffer.from('secret'));
    const found = async (by: Client) =>
      (await by.ask<FindAnswer>('GET', `/api/find?text=${encodeURIComponent(name)}`)).body.items.map((i) => i.name);
    const recent = async (by: Client) => (await by.ask<FindAnswer>('GET', '/api/recent')).body.items.map((i) => i.name);
    expect(await found(tomas)).toHaveLength(2);
    await stop(closed);
    for (const by of [tomas, iris]) {
      expect(await names(by, office.roots.projects)).not.toContain(name);
      expect(await found(by)).toEqual([]);
      expect(await recent(by)).not.toContain(body.name);
      for (const path of [
        `/api/folders/${closed}`,
        `/api/folders/${inside}`,
        `/api/nodes/${body.id}`,
        `/api/files/${body.id}/content`,
      ])
        expect(await status(by, path)).toBe(404);
    }
    await grantOn(office.db, closed, tomasId, 'edit');
    expect(await names(tomas, office.roots.projects)).toContain(name);
    expect(await found(tomas)).toHaveLength(2);
    expect(await status(tomas, `/api/files/${body.id}/content`)).toBe(200);
    await stop(closed, true);
    expect(await status(iris, `/api/files/${body.id}/content`)).toBe(200);
  });
  it('breaks the share of whoever may not publish in it any more', async () => {
    const closed = await folder(iris, office.roots.projects, `Closing ${randomUUID()}`);
    const { body } = await tomas.upload(closed, 'offer.txt', Buffer.from('offer'));
    const share = await office.publish(tomas, [body.id]);
    await stop(closed);
    const { body: door } = await office.client().ask('POST', `/s/${share.token}/open`, { password: null });
    expect(door.code).toBe('share.broken');
  });
});

describe('what lies deeper and is closed', () => {
  it('is not weighed, not in an archive, not copied, and not in a share', async () => {
    const top = await folder(iris, office.roots.projects, `Job ${randomUUID()}`);
    const closed = await folder(iris, top, 'Closed');
    await iris.upload(top, 'open.txt', Buffer.from('open'));
    const { body: hidden } = await iris.upload(closed, 'hidden.txt', Buffer.from('hidden bytes'));
    const share = await office.publish(tomas, [top]);
    const visitor = office.client();
    await visitor.ask('POST', `/s/${share.token}/open`, { password: null });
    const look = async () => {
      const [size] = (await tomas.ask<{ files: number }[]>('POST', '/api/sizes', { nodeIds: [top] })).body;
      const archive = Buffer.from(await (await tomas.fetch(`/api/archive?ids=${top}`)).arrayBuffer()).toString(
        'latin1',
      );
      const shared = Buffer.from(await (await visitor.fetch(`/s/${share.token}/all.zip`)).arrayBuffer());
      const { status: taken } = await visitor.fetch(`/s/${share.token}/files/${hidden.id}`);
      const [copied] = (await copy(tomas, [top], office.roots.tomas)).body.nodeIds as [string];
      return {
        files: size?.files,
        archive: archive.includes('hidden.txt'),
        shared: shared.toString('latin1').includes('hidden.txt'),
        taken,
        copied: (await names(tomas, copied)).sort(),
      };
    };
    expect(await look()).toEqual({ files: 2, archive: true, shared: true, taken: 200, copied: ['Closed', 'open.txt'] });
    await stop(closed);
    // A visitor's page remembers for a moment what it knew of a file.
    await new Promise((r) => setTimeout(r, 2100));
    expect(await look()).toEqual({ files: 1, archive: false, shared: false, taken: 404, copied: ['open.txt'] });
  });
});

describe('those who may add files', () => {
  it('see what the folder’s rule says of others, and do with their own what they like until somebody accepts it', async () => {
    const drop = await folder(iris, place, 'Drop');
    await rule(drop, 'nothing');
    const theirs = (await iris.upload(drop, 'theirs.txt', Buffer.from('x'))).body.id;
    await grantOn(office.db, drop, rosaId, 'contribute');
    const own = (await rosa.upload(drop, 'own.txt', Buffer.from('y'))).body.id;
    const list = async () => (await rosa.ask<FolderPage>('GET', `/api/folders/${drop}`)).body.items.map((i) => i.name);
    expect(await list()).toEqual(['own.txt']);
    expect([
      await status(rosa, `/api/files/${theirs}/content`),
      await status(rosa, `/api/files/${own}/content`),
    ]).toEqual([404, 200]);
    expect((await rename(rosa, own, 'mine.txt')).status).toBe(200);
    const share = {
      title: 'Mine',
      nodeIds: [own],
      window: { opensAt: null, closesAt: null },
      password: null,
      visitLimit: null,
    };
    expect((await rosa.ask('POST', '/api/shares', share)).body.code).toBe('access.level');
    expect((await rename(rosa, theirs, 'mine too.txt')).status).toBe(404);
    expect((await trash(rosa, [theirs])).status).toBe(404);
    await rule(drop, 'see');
    expect(await list()).toEqual(['mine.txt', 'theirs.txt']);
    expect(await status(rosa, `/api/files/${theirs}/content`)).toBe(403);
    await rule(drop, 'read');
    expect(await status(rosa, `/api/files/${theirs}/content`)).toBe(200);
    // Somebody else's version accepts it.
    expect((await iris.upload(drop, 'mine.txt', Buffer.from('z'), '&conflict=version')).status).toBe(201);
    expect((await rename(rosa, own, 'no longer mine.txt')).body.code).toBe('access.level');
    await rule(drop, 'nothing');
    expect(await list()).toEqual([]);
  });
});
