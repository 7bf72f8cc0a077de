import type { GroupRow, Leaving, People, PersonSheet, ShareSheet } from '@quay/contract';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';
import { LeavingService } from './leaving.service.js';

// Tomas leaves: he has published, is in a group, answers for a guest, and has files at home.
let office: TestOffice;
let iris: Client;
let tomas: Client;
let group: GroupRow;
const ids: Record<string, string> = {};
const shares: Record<string, ShareSheet & { token: string }> = {};
const DAY_MS = 86_400_000;
const look = async () => (await iris.ask<Leaving>('GET', `/api/people/${ids['tomas']}/leaving`)).body;
const door = async (share: { token: string }): Promise<number> =>
  (await office.client().ask('POST', `/s/${share.token}/open`, { password: null })).status;

beforeAll(async () => {
  office = await openOffice();
  [iris, tomas] = [await office.signedIn('iris'), await office.signedIn('tomas')];
  for (const p of (await iris.ask<People>('GET', '/api/people')).body.people) ids[p.signInName] = p.id;
  group = (await iris.ask<GroupRow[]>('POST', '/api/groups', { name: 'Site crew' })).body[0] as GroupRow;
  await iris.ask('POST', `/api/groups/${group.id}/members`, { kind: 'person', id: ids['tomas'] });
  await iris.ask('PUT', `/api/groups/${group.id}/managers`, { personIds: [ids['tomas']] });
  const put = async (folder: string, name: string) => (await tomas.upload(folder, name, Buffer.from(name))).body.id;
  const { projects, tomas: home } = office.roots;
  shares['plans'] = await office.publish(tomas, [await put(projects, 'Plans.txt')], { title: 'Plans' });
  shares['draft'] = await office.publish(tomas, [await put(projects, 'Draft.txt')], { title: 'Draft' });
  shares['own'] = await office.publish(tomas, [await put(home, 'Own.txt')], { title: 'From home' });
  await iris.ask('POST', '/api/guests', {
    ...{ name: 'Marek Hale', email: 'm.hale@fenway.example', folderId: projects, level: 'view', by: 'link' },
  });
  await office.db.query(`UPDATE person SET sponsor_id = $1 WHERE role = 'guest'`, [ids['tomas']]);
});
afterAll(() => office.close());

describe('whoever leaves', () => {
  it('is looked at before: what they leave behind, and who could take it', async () => {
    const left = await look();
    expect(left).toMatchObject({
      ...{ sessions: 1, groups: [{ name: 'Site crew' }], manages: [{ name: 'Site crew' }] },
      ...{ grants: [{ folder: { name: 'Partners' }, level: 'view' }], guests: [{ name: 'Marek Hale' }], left: null },
    });
    // Nobody is told what goes out from a home.
    expect(left.shares.map((s) => [s.title, s.fromHome]).sort()).toEqual([
      ['A share from their home', true],
      ['Draft', false],
      ['Plans', false],
    ]);
    expect(left.takers.map((p) => p.name)).toEqual(['Iris Ward', 'Rosa Quill']);
    expect(left.home?.usedBytes).toBeGreaterThan(0);
  });
  it('is seen off by nobody without the duty, nor by themselves, nor to a guest', async () => {
    const at = `/api/people/${ids['tomas']}/leaving`;
    expect((await tomas.ask('POST', at, {})).status).toBe(403);
    expect((await iris.ask('POST', `/api/people/${ids['iris']}/leaving`, {})).body).toMatchObject({
      code: 'person.self',
    });
    const [guest] = await office.db.query<{ id: string }[]>(`SELECT id FROM person WHERE role = 'guest'`);
    expect((await iris.ask('POST', at, { sharesTo: guest?.id })).body).toMatchObject({ code: 'leaving.taker' });
    expect((await look()).left).toBeNull();
  });
  it('is gone in one act; what is handed over goes on, what nobody takes is withdrawn', async () => {
    const { status } = await iris.ask<PersonSheet>('POST', `/api/people/${ids['tomas']}/leaving`, {
      ...{ sharesTo: ids['rosa'], shares: [{ shareId: shares['draft']?.id, toPersonId: null }], guestsTo: ids['rosa'] },
      homeDays: 30,
    });
    expect(status).toBe(201);
    expect((await tomas.ask('GET', '/api/stores')).status).toBe(401);
    const doors = await Promise.all(['plans', 'draft', 'own'].map((name) => door(shares[name] as { token: string })));
    expect(doors.map((d) => d === 200)).toEqual([true, false, false]);
    const rosa = await office.signedIn('rosa');
    expect((await rosa.ask('GET', `/api/shares/${shares['plans']?.id}`)).status).toBe(200);
    const { people, groups } = (await iris.ask<People>('GET', '/api/people')).body;
    expect(people.find((p) => p.role === 'guest')?.sponsor?.name).toBe('Rosa Quill');
    expect(groups[0]).toMatchObject({ members: [], managers: [] });
    expect((await look()).left).toMatchObject({ by: 'Iris Ward', canReturn: true });
    const [entry] = await office.db.query<{ detail: { what: string } }[]>(
      `SELECT detail FROM ledger_entry WHERE kind = 'person.left'`,
    );
    expect(entry?.detail.what).toBe('1 session, 1 group, 1 grant, 1 share passed on, 2 withdrawn, the home kept');
  });
  it('comes back to what they had', async () => {
    office.clock.advance(DAY_MS);
    expect((await iris.ask('DELETE', `/api/people/${ids['tomas']}/leaving`)).status).toBe(200);
    tomas = await office.signedIn('tomas');
    expect((await tomas.ask('GET', `/api/folders/${office.roots.partners}`)).status).toBe(200);
    const doors = await Promise.all(['plans', 'draft', 'own'].map((name) => door(shares[name] as { token: string })));
    expect(doors).toEqual([200, 200, 200]);
    expect((await tomas.ask('GET', `/api/shares/${shares['plans']?.id}`)).status).toBe(200);
    const { groups } = (await iris.ask<People>('GET', '/api/people')).body;
    expect(groups[0]).toMatchObject({ members: [{ name: 'Tomas Osei' }], managers: [{ name: 'Tomas Osei' }] });
    expect((await look()).guests).toMatchObject([{ name: 'Marek Hale' }]);
  });
  it('whose home somebody gets leaves what goes out from it to them', async () => {
    const { status } = await iris.ask('POST', `/api/people/${ids['tomas']}/leaving`, {
      ...{ sharesTo: ids['rosa'], homeTo: ids['rosa'] },
    });
    expect(status).toBe(201);
    expect(await door(shares['own'] as { token: string })).toBe(200);
    const rosa = await office.signedIn('rosa');
    expect((await rosa.ask('GET', `/api/folders/${office.roots.tomas}`)).status).toBe(200);
    await iris.ask('DELETE', `/api/people/${ids['tomas']}/leaving`);
    expect((await rosa.ask('GET', `/api/folders/${office.roots.tomas}`)).status).toBe(404);
  });
  it('whose home is kept comes back until its days are over, and then it is gone', async () => {
    iris = await office.signedIn('iris');
    await iris.ask('POST', `/api/people/${ids['tomas']}/leaving`, { sharesTo: ids['rosa'], homeDays: 30 });
    // By no other way, or the home of somebody who is there would go.
    const enabled = { act: 'enable', personIds: [ids['tomas']] };
    expect((await iris.ask('POST', '/api/people/acts', enabled)).body).toMatchObject({ code: 'person.has-left' });
    office.clock.advance(29 * DAY_MS);
    await office.app.get(LeavingService).homesGo();
    const files = async () =>
      (
        await office.db.query<{ n: number }[]>(
          `SELECT count(*)::int AS n FROM node n JOIN node top ON top.id = n.parent_id
            WHERE top.id = $1 AND n.purged_at IS NULL`,
          [office.roots.tomas],
        )
      )[0]?.n;
    expect(await files()).toBe(1);
    office.clock.advance(2 * DAY_MS);
    await office.app.get(LeavingService).homesGo();
    expect(await files()).toBe(0);
    iris = await office.signedIn('iris');
    expect((await look()).left).toMatchObject({ canReturn: false });
    expect((await iris.ask('DELETE', `/api/people/${ids['tomas']}/leaving`)).body).toMatchObject({
      code: 'person.home-gone',
    });
    // Without their home they can begin anew, and leave once more.
    const again = { act: 'enable', personIds: [ids['tomas']] };
    expect((await iris.ask('POST', '/api/people/acts', again)).status).toBe(201);
    expect((await look()).left).toBeNull();
    expect((await iris.ask('POST', `/api/people/${ids['tomas']}/leaving`, {})).status).toBe(201);
  });
});
