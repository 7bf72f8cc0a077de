import type { NodeShares, ShareList, ShareSheet } from '@quay/contract';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { folder } from '../_fixtures/acts.js';
import { grantOn, setInherits } from '../_fixtures/grants.js';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';

let office: TestOffice;
let iris: Client;
let tomas: Client;
let rosa: Client;
let people: Record<string, string>;
/** Shares of Rosa: of the store that Tomas comes to manage, of another, of both, of her home and one of nothing. */
const made: Record<'projects' | 'partners' | 'both' | 'home' | 'empty' | 'closed', string> = {} as typeof made;

beforeAll(async () => {
  office = await openOffice();
  [iris, tomas, rosa] = await Promise.all([office.signedIn('iris'), office.signedIn('tomas'), office.signedIn('rosa')]);
  const rows = await office.db.query<{ id: string; name: string }[]>('SELECT id, sign_in_name AS name FROM person');
  people = Object.fromEntries(rows.map((row) => [row.name, row.id]));
  await grantOn(office.db, office.roots.partners, people['rosa'] as string, 'edit');
  const closed = await folder(iris, office.roots.projects, 'Personnel');
  await grantOn(office.db, closed, people['rosa'] as string, 'edit');
  await setInherits(office.db, office.clock.date(), closed, false);
  const put = async (parent: string, name: string) => (await rosa.upload(parent, name, Buffer.from(name))).body.id;
  const plan = await put(office.roots.projects, 'plan.pdf');
  const tender = await put(office.roots.partners, 'tender.pdf');
  const out = async (title: string, ids: string[]) => (await office.publish(rosa, ids, { title })).id;
  made.projects = await out('Plans', [plan]);
  made.partners = await out('Tender', [tender]);
  made.both = await out('Zebra of both', [plan, tender]);
  made.home = await out('Letter', [await put(office.roots.rosa, 'letter.txt')]);
  made.empty = await out('To come', []);
  made.closed = await out('Wages', [await put(closed, 'wages.csv')]);
});
afterAll(() => office.close());

const list = async (by: Client, query = '') => (await by.ask<ShareList>('GET', `/api/shares${query}`)).body;
const ids = async (by: Client, query = '') => new Set((await list(by, query)).shares.map((s) => s.id));
const manage = async (folderId: string, name: string) => {
  const to = { subject: { kind: 'person', id: people[name] }, level: 'manage', until: null };
  const granted = await iris.ask('POST', `/api/folders/${folderId}/grants`, to);
  expect(granted.status).toBeLessThan(300);
};

describe('whoever manages a store', () => {
  it('sees nothing of the shares of others before they do', async () => {
    expect(await ids(tomas)).toEqual(new Set());
    expect((await tomas.ask('GET', `/api/shares/${made.projects}`)).status).toBe(404);
  });

  it('sees what is shared from it, and that something goes out from it together with what lies elsewhere', async () => {
    await manage(office.roots.projects, 'tomas');
    expect(await ids(tomas)).toEqual(new Set([made.projects, made.both]));
    const rows = new Map((await list(tomas)).shares.map((s) => [s.id, s]));
    expect(rows.get(made.projects)).toMatchObject({ title: 'Plans', closed: false, createdBy: 'Rosa Quill' });
    expect(rows.get(made.both)).toMatchObject({
      title: 'A share of Rosa Quill, from elsewhere too',
      ...{ closed: true, itemCount: 0, totalBytes: 0 },
    });
    // Nothing finds it by a title that is not shown, and no order tells of it.
    expect(await ids(tomas, '?find=zebra')).toEqual(new Set());
    expect(await ids(tomas, '?facet=never-opened')).toEqual(new Set([made.projects]));
    for (const descending of [true, false])
      expect((await list(tomas, `?sort=title&descending=${descending}`)).shares.at(-1)?.id).toBe(made.both);
    expect((await list(tomas)).counts).toMatchObject({ open: 2 });
  });

  it('opens its sheet, what came of it and its visits, and none of those that are closed to them', async () => {
    const sheet = (await tomas.ask<ShareSheet>('GET', `/api/shares/${made.projects}`)).body;
    expect(sheet).toMatchObject({ title: 'Plans', mayAdd: false, items: [{ name: 'plan.pdf' }] });
    for (const part of ['/came', '/visits.csv']) {
      expect((await tomas.ask('GET', `/api/shares/${made.projects}${part}`)).status, part).toBe(200);
      expect(await tomas.ask('GET', `/api/shares/${made.both}${part}`), part).toMatchObject({
        status: 403,
        body: { code: 'share.beyond' },
      });
      expect((await tomas.ask('GET', `/api/shares/${made.partners}${part}`)).status, part).toBe(404);
    }
    for (const id of [made.partners, made.home, made.empty, made.closed])
      expect((await tomas.ask('GET', `/api/shares/${id}`)).status).toBe(404);
    expect((await tomas.ask('POST', `/api/shares/${made.projects}/seen`, { at: null })).status).toBe(200);
    expect((await tomas.ask('POST', `/api/shares/${made.both}/seen`, { at: null })).status).toBe(403);
    const [item] = sheet.items;
    const around = (await tomas.ask<NodeShares>('GET', `/api/shares/of/${item?.id}`)).body;
    expect(new Map(around.map((s) => [s.id, s.mine]))).toEqual(
      new Map([
        [made.projects, true],
        [made.both, false],
      ]),
    );
  });

  it('ends it, changes it where they may publish, and only withdraws what is closed to them', async () => {
    const change = (id: string, body: object) => tomas.ask<ShareSheet>('PATCH', `/api/shares/${id}`, body);
    expect((await change(made.projects, { visitLimit: 3 })).body).toMatchObject({ visitLimit: 3 });
    expect(await change(made.both, { title: 'Mine' })).toMatchObject({ status: 403, body: { code: 'share.beyond' } });
    expect(await change(made.both, { withdrawn: true, title: 'Mine' })).toMatchObject({ status: 403 });
    expect(await change(made.both, { withdrawn: true })).toMatchObject({ status: 200, body: { closed: true } });
    expect((await change(made.both, { withdrawn: false })).status).toBe(403);
    for (const id of [made.partners, made.home, made.empty, made.closed])
      expect((await change(id, { withdrawn: true })).status).toBe(404);
    await office.db.query(`UPDATE person SET duties = '{}' WHERE sign_in_name = 'tomas'`);
    expect(await change(made.projects, { visitLimit: 9 })).toMatchObject({
      status: 403,
      body: { code: 'duty.missing' },
    });
    expect((await change(made.projects, { withdrawn: true })).body).toMatchObject({ state: 'withdrawn' });
    expect((await change(made.projects, { withdrawn: false })).status).toBe(403);
    await office.db.query(
      `UPDATE person SET duties = (SELECT duties FROM person WHERE sign_in_name = 'rosa') WHERE sign_in_name = 'tomas'`,
    );
    expect((await change(made.projects, { withdrawn: false })).body).toMatchObject({ state: 'open' });
  });

  it('takes none of them off the list: that is for whose they are', async () => {
    office.clock.advance(200 * 86_400_000);
    [iris, tomas, rosa] = await Promise.all([
      office.signedIn('iris'),
      office.signedIn('tomas'),
      office.signedIn('rosa'),
    ]);
    const kinds = (await tomas.ask<{ kinds: unknown[] }>('GET', '/api/shares/tidy')).body.kinds;
    expect(kinds).toEqual([]);
    expect((await rosa.ask<{ kinds: unknown[] }>('GET', '/api/shares/tidy')).body.kinds).not.toEqual([]);
  });

  it('sees them no more when the grant ends, and a guest never does', async () => {
    const grants = await office.db.query<{ id: string }[]>(
      `SELECT id FROM access_grant WHERE person_id = $1 AND level = 'manage'`,
      [people['tomas']],
    );
    expect((await tomas.ask('GET', `/api/shares/${made.projects}`)).status).toBe(200);
    for (const { id } of grants) expect((await iris.ask('DELETE', `/api/grants/${id}`)).status).toBe(200);
    expect((await tomas.ask('GET', `/api/shares/${made.projects}`)).status).toBe(404);
    expect(await ids(tomas)).toEqual(new Set());
    await office.db.query(`UPDATE person SET role = 'guest', sponsor_id = $1 WHERE sign_in_name = 'tomas'`, [
      people['iris'],
    ]);
    await manage(office.roots.projects, 'tomas');
    expect(await ids(tomas)).toEqual(new Set());
    expect((await tomas.ask('GET', `/api/shares/${made.projects}`)).status).toBe(404);
  });
});
