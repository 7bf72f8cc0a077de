import type { LedgerPage, People, SeenAs, SeenFolder, SeenShare, StoreSummary, FolderPage } from '@quay/contract';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { folder } from '../_fixtures/acts.js';
import { grantOn, setInherits } from '../_fixtures/grants.js';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';

let office: TestOffice;
let iris: Client;
let tomas: Client;
let rosa: Client;
const ids = { tomas: '', rosa: '' };
const start = (personId: string, by = iris) => by.ask<SeenAs>('GET', `/api/people/${personId}/seen`);
const open = (personId: string, folderId: string, by = iris, query = '') =>
  by.ask<SeenFolder>('GET', `/api/people/${personId}/seen/folders/${folderId}${query}`);

beforeAll(async () => {
  office = await openOffice();
  [iris, tomas, rosa] = [await office.signedIn('iris'), await office.signedIn('tomas'), await office.signedIn('rosa')];
  const { people } = (await iris.ask<People>('GET', '/api/people')).body;
  const idOf = (name: string) => people.find((p) => p.signInName === name)?.id ?? '';
  Object.assign(ids, { tomas: idOf('tomas'), rosa: idOf('rosa') });
});
afterAll(() => office.close());

describe('as somebody else gets it', () => {
  it('is what they get themselves, but for their home', async () => {
    const own = (await tomas.ask<StoreSummary[]>('GET', '/api/stores')).body.filter((s) => s.kind !== 'home');
    expect((await start(ids.tomas)).body).toMatchObject({ person: { name: 'Tomas Osei' }, stores: own, hidden: 0 });
    const id = await folder(iris, office.roots.projects, 'Weir House');
    await iris.upload(id, 'a.txt', Buffer.from('a'));
    const theirs = (await tomas.ask<FolderPage>('GET', `/api/folders/${id}`)).body;
    expect((await open(ids.tomas, id)).body).toMatchObject({ page: theirs, hidden: 0 });
  });

  it('is no way into a home, of theirs or of whoever looks', async () => {
    const mine = await folder(tomas, office.roots.tomas, 'Mine');
    for (const id of [office.roots.tomas, mine, office.roots.iris])
      expect((await open(ids.tomas, id)).status).toBe(404);
    expect(JSON.stringify((await start(ids.tomas)).body)).not.toContain(office.roots.tomas);
  });

  it('tells nothing that is not theirs to see who look, but how much', async () => {
    const shared = await folder(iris, office.roots.projects, 'Shared');
    const closed = await folder(iris, shared, 'Personnel file');
    await grantOn(office.db, closed, ids.tomas, 'manage');
    await setInherits(office.db, office.clock.date(), closed, false);
    await iris.ask('GET', `/api/folders/${closed}`).then((r) => expect(r.status).toBe(404));
    expect((await tomas.ask<FolderPage>('GET', `/api/folders/${shared}`)).body.items).toHaveLength(1);
    const seen = await open(ids.tomas, shared);
    expect(seen.body).toMatchObject({ hidden: 1, page: { items: [] } });
    expect(JSON.stringify(seen.body)).not.toContain('Personnel');
    expect((await open(ids.tomas, closed)).status).toBe(404);
  });

  it('has the shares that are for them, without their links, and none from homes', async () => {
    const audience = {
      kind: 'members' as const,
      listed: [],
      blocked: [],
      members: [{ kind: 'person', id: ids.tomas }],
    };
    await office.db.query(`UPDATE address SET uses = 'sign-in'`);
    const plan = (await iris.upload(office.roots.projects, 'plan.pdf', Buffer.from('a plan'))).body.id;
    const letter = (await rosa.upload(office.roots.rosa, 'letter.txt', Buffer.from('private'))).body.id;
    for (const [by, nodeId, title] of [
      [iris, plan, 'Plans'],
      [rosa, letter, 'A private letter'],
    ] as const)
      expect(
        (
          await by.ask('POST', '/api/shares', {
            ...{ title, message: '', nodeIds: [nodeId], password: null, visitLimit: null, audience },
            window: { opensAt: null, closesAt: null },
          })
        ).status,
      ).toBe(201);
    const { body } = await start(ids.tomas);
    expect([body.shares.map((s) => s.title), body.hiddenShares]).toEqual([['Plans'], 1]);
    expect(JSON.stringify(body)).not.toMatch(/private letter|\/s\//);
    const [plans] = body.shares;
    const page = (id: string, of = ids.tomas, by = iris) =>
      by.ask<SeenShare>('GET', `/api/people/${of}/seen/shares/${id}`);
    expect((await page(plans?.id ?? '')).body.page).toMatchObject({
      ...{ title: 'Plans', state: 'open', needsSignIn: true, you: 'Tomas Osei' },
      contents: { files: [{ path: 'plan.pdf' }] },
    });
    // It is no visit, and nothing that is not for them is looked at by it.
    expect((await office.db.query(`SELECT 1 FROM visit`)).length).toBe(0);
    expect((await page(plans?.id ?? '', ids.rosa)).status).toBe(404);
    const [closed] = await office.db.query<{ id: string }[]>(`SELECT id FROM share WHERE title = 'A private letter'`);
    expect((await page(closed?.id ?? '')).status).toBe(404);
    expect((await page(plans?.id ?? '', ids.tomas, tomas)).status).toBe(403);
  });

  it('is for those who look after people, of folders that both see, and of nobody whose account is disabled', async () => {
    for (const by of [tomas, rosa]) {
      expect((await start(ids.rosa, by)).status).toBe(403);
      expect((await open(ids.rosa, office.roots.projects, by)).status).toBe(403);
    }
    expect((await open(ids.rosa, office.roots.partners)).status).toBe(404);
    await iris.ask('POST', '/api/people/acts', { act: 'disable', personIds: [ids.rosa] });
    expect((await start(ids.rosa)).status).toBe(409);
    expect((await open(ids.rosa, office.roots.projects)).status).toBe(409);
  });

  it('changes nothing of what they have, and each look is in the ledger', async () => {
    const { body } = await iris.ask<LedgerPage>('GET', '/api/ledger?limit=50');
    const looks = body.entries.filter((e) => e.kind === 'person.seen-as');
    expect(looks.map((e) => e.words)).toContain('looked at Weir House as Tomas Osei gets it');
    expect(looks.every((e) => e.who === 'Iris Ward')).toBe(true);
    // A page that is open asks again with each change: that is one look.
    const count = async () =>
      (await iris.ask<LedgerPage>('GET', '/api/ledger?limit=50')).body.entries.filter(
        (e) => e.kind === 'person.seen-as',
      ).length;
    const before = await count();
    for (let n = 0; n < 3; n += 1) await start(ids.tomas);
    expect(await count()).toBe(before);
    office.clock.advance(11 * 60_000);
    await start(ids.tomas);
    expect(await count()).toBe(before + 1);
  });
});
