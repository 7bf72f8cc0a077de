import type { AccessTableAnswer, GroupRow, Invitation, Me, People, PersonSheet, PersonThen } from '@quay/contract';
import { randomUUID } from 'node:crypto';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { folder } from '../_fixtures/acts.js';
import { grantOn } from '../_fixtures/grants.js';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';
import { GuestsService } from './guests.service.js';

const PASSWORD = 'copper-weir-oar-lantern';
let office: TestOffice;
let iris: Client;
let tomas: Client;
const DAY_MS = 86_400_000;
const people = async (): Promise<People> => (await iris.ask<People>('GET', '/api/people')).body;
const person = async (name: string) => {
  const found = (await people()).people.find((p) => p.name === name);
  if (!found) throw new Error(`nobody is called ${name}`);
  return found;
};
const act = (personIds: string[], what: string, by = iris) =>
  by.ask<People>('POST', '/api/people/acts', { act: what, personIds });
const add = (part: object = {}, by = iris) =>
  by.ask<Invitation>('POST', '/api/people', {
    ...{ name: 'Zoe Calder', signInName: 'zoe', email: 'zoe@saltmarsh.example', by: 'link' },
    ...part,
  });
const inviteGuest = (part: object = {}, by = iris) =>
  by.ask<Invitation>('POST', '/api/guests', {
    ...{ name: 'Marek Hale', email: 'm.hale@fenway.example', folderId: office.roots.projects, level: 'download' },
    ...{ endsAt: null, quietDays: 30, by: 'link' },
    ...part,
  });
/** Uses a link as the person does. */
async function begin(link: string, password = PASSWORD, part: object = {}): Promise<number> {
  const token = link.split('/').at(-1) as string;
  return (await office.client().ask('POST', `/api/password-links/${token}`, { password, ...part })).status;
}
async function signIn(signInName: string, password = PASSWORD) {
  const client = office.client();
  const { status, body } = await client.ask('POST', '/api/session', { signInName, password });
  return { client, status, body };
}
const group = async (name: string): Promise<GroupRow> => {
  const { body } = await iris.ask<GroupRow[]>('POST', '/api/groups', { name });
  return body.find((g) => g.name === name) as GroupRow;
};
const join = (groupId: string, kind: string, id: string, by = iris) =>
  by.ask<GroupRow[]>('POST', `/api/groups/${groupId}/members`, { kind, id });

beforeAll(async () => {
  office = await openOffice();
  [iris, tomas] = [await office.signedIn('iris'), await office.signedIn('tomas')];
});
afterAll(() => office.close());

describe('an account of the office', () => {
  it('is made with a link, by which its person begins with a password of their own', async () => {
    const { status, body } = await add();
    expect([status, body.mailedTo]).toEqual([201, null]);
    expect((await person('Zoe Calder')).state).toBe('invited');
    expect((await signIn('zoe')).status).toBe(401);
    expect(await begin(body.link as string, PASSWORD, { name: 'Zoë Calder' })).toBe(204);
    expect(await begin(body.link as string)).toBe(410);
    // Only whoever begins says what they are called.
    const { body: again } = await iris.ask<Invitation>('POST', `/api/people/${body.personId}/invitation`, {
      by: 'link',
    });
    await begin(again.link as string, PASSWORD, { name: 'Somebody else' });
    expect(await person('Zoë Calder')).toMatchObject({ signInName: 'zoe' });
    await iris.ask('PATCH', `/api/people/${body.personId}`, { name: 'Zoe Calder' });
    expect(await person('Zoe Calder')).toMatchObject({ state: 'usable', lastSeenAt: null, role: 'staff' });
    const { client, status: signedIn } = await signIn('zoe');
    expect(signedIn).toBe(204);
    expect((await person('Zoe Calder')).lastSeenAt).toBe(office.clock.date().toISOString());
    // A home of their own comes with it.
    const stores = (await client.ask<{ kind: string }[]>('GET', '/api/stores')).body;
    expect(stores.map((s) => s.kind)).toContain('home');
  });
  it('is signed in to by the mail address too, while one person alone has it', async () => {
    expect((await signIn('Zoe@Saltmarsh.example')).status).toBe(204);
    await add({ name: 'Zoe Two', signInName: 'zoe.two' });
    expect((await signIn('zoe@saltmarsh.example')).status).toBe(401);
    await act([(await person('Zoe Two')).id], 'disable');
    expect((await signIn('zoe@saltmarsh.example')).status).toBe(204);
  });
  it('has a name that nobody else signs in by', async () => {
    const { status, body } = await add({ signInName: 'tomas' });
    expect([status, body]).toMatchObject([400, { code: 'person.name-taken' }]);
    expect((await people()).people.filter((p) => p.signInName === 'tomas')).toHaveLength(1);
  });
  it('that is disabled ends its sessions at once, and is as it was when it is enabled', async () => {
    const { client } = await signIn('zoe');
    const { id } = await person('Zoe Calder');
    await act([id], 'disable');
    expect((await client.ask('GET', '/api/stores')).status).toBe(401);
    expect((await signIn('zoe')).status).toBe(401);
    await act([id], 'enable');
    expect((await signIn('zoe')).status).toBe(204);
  });
  it('is told of whole in its sheet, with what it reaches and why', async () => {
    const { id } = await person('Tomas Osei');
    const { body } = await iris.ask<PersonSheet>('GET', `/api/people/${id}`);
    const projects = body.reaches.find((r) => r.path[0] === 'Projects');
    expect(projects).toMatchObject({ level: 'edit', why: [expect.stringContaining('all staff') as string] });
    // A home is nobody's matter, and not counted among what is hidden either.
    expect([body.reaches.some((r) => r.path[0] === 'Tomas Osei'), body.hidden]).toEqual([false, 0]);
    expect(body.sessions.length).toBeGreaterThan(0);
    expect(JSON.stringify(body)).not.toMatch(/password|sealed/i);
  });
});

describe('who may do that', () => {
  it('nobody without the duty', async () => {
    const { id } = await person('Zoe Calder');
    for (const [method, path, body] of [
      ['GET', '/api/people', undefined],
      ['POST', '/api/people/acts', { act: 'disable', personIds: [id] }],
      ['PATCH', `/api/people/${id}`, { name: 'X' }],
    ] as const)
      expect((await tomas.ask(method, path, body)).status).toBe(403);
  });
  it('nobody disables themselves, nor the last one who can run the server', async () => {
    const { id } = await person('Iris Ward');
    expect((await act([id], 'disable')).body).toMatchObject({ code: 'person.self' });
    expect((await iris.ask('PATCH', `/api/people/${id}`, { role: 'staff' })).body).toMatchObject({
      code: 'person.last-admin',
    });
    expect((await person('Iris Ward')).role).toBe('admin');
  });
  it('all of several accounts, or none', async () => {
    const ids = [(await person('Zoe Calder')).id, (await person('Iris Ward')).id];
    expect((await act(ids, 'disable')).status).toBe(409);
    expect((await person('Zoe Calder')).state).toBe('usable');
  });
  it('whoever looks after people and is no admin gains nothing by it', async () => {
    const { id } = await person('Tomas Osei');
    await iris.ask('PATCH', `/api/people/${id}`, { duties: ['run-people'] });
    const zoe = await person('Zoe Calder');
    expect((await tomas.ask('GET', '/api/people')).status).toBe(200);
    // The ledger names what lies in homes; who may not see it all sees none of it here.
    const acts = async (by: Client) => (await by.ask<PersonSheet>('GET', `/api/people/${zoe.id}`)).body.acts.length;
    expect([await acts(tomas), (await acts(iris)) > 0]).toEqual([0, true]);
    const tries: [string, string, object][] = [
      ['PATCH', `/api/people/${id}`, { role: 'admin' }],
      ['PATCH', `/api/people/${id}`, { duties: ['run-server'] }],
      ['PATCH', `/api/people/${zoe.id}`, { email: 'tomas@saltmarsh.example' }],
      ['PATCH', `/api/people/${(await person('Iris Ward')).id}`, { name: 'Nobody' }],
      ['POST', '/api/people', { name: 'Own', signInName: 'own', email: 'o@saltmarsh.example', role: 'admin' }],
      ['DELETE', `/api/people/${zoe.id}/factor`, {}],
    ];
    for (const [method, path, body] of tries) {
      const answer = await tomas.ask(method as 'PATCH', path, method === 'DELETE' ? undefined : body);
      expect([path, answer.body], JSON.stringify(body)).toMatchObject([path, { code: 'person.admins-only' }]);
    }
    // A link for somebody who was here already is theirs alone.
    const link = await tomas.ask('POST', `/api/people/${zoe.id}/invitation`, { by: 'link' });
    expect(link.body).toMatchObject({ code: 'invitation.no-mail' });
    expect((await signIn('zoe')).status).toBe(204);
  });
});

describe('a device that was lost', () => {
  it('opens nothing any more once an admin has said so', async () => {
    const { id } = await person('Zoe Calder');
    await office.db.query(
      `INSERT INTO passkey (id, person_id, host, public_key, counter, transports, name, added_at)
        VALUES ('\\x01', $1, 'localhost', '\\x02', 0, '{}', 'Telephone', now())`,
      [id],
    );
    expect((await person('Zoe Calder')).factor).toBe(true);
    expect((await tomas.ask('DELETE', `/api/people/${id}/factor`)).status).toBe(403);
    expect((await iris.ask('DELETE', `/api/people/${id}/factor`)).status).toBe(200);
    expect((await person('Zoe Calder')).factor).toBe(false);
    expect((await iris.ask('DELETE', `/api/people/${id}/factor`)).body).toMatchObject({ code: 'factor.none' });
  });
});

describe('groups', () => {
  it('are filled, nested and managed; what is granted to one is reached at once', async () => {
    const [crew, all] = [await group('Site crew'), await group('Surveyors')];
    const zoe = await person('Zoe Calder');
    await join(crew.id, 'person', zoe.id);
    await join(all.id, 'group', crew.id);
    await office.db.query(
      `INSERT INTO access_grant (id, node_id, subject_kind, group_id, level, since)
        VALUES (gen_random_uuid(), $1, 'group', $2, 'download', $3)`,
      [office.roots.partners, all.id, office.clock.date()],
    );
    const { client } = await signIn('zoe');
    expect((await client.ask('GET', `/api/folders/${office.roots.partners}`)).status).toBe(200);
    const { body } = await iris.ask<PersonSheet>('GET', `/api/people/${zoe.id}`);
    expect(body.through).toEqual([
      { group: { id: all.id, name: 'Surveyors' }, through: [{ id: crew.id, name: 'Site crew' }] },
    ]);
    await iris.ask('DELETE', `/api/groups/${crew.id}/members/person/${zoe.id}`);
    expect((await client.ask('GET', `/api/folders/${office.roots.partners}`)).status).toBe(404);
  });
  it('in a circle are refused with the way round', async () => {
    const { groups } = await people();
    const [crew, all] = ['Site crew', 'Surveyors'].map((name) => groups.find((g) => g.name === name) as GroupRow) as [
      GroupRow,
      GroupRow,
    ];
    const { status, body } = await join(crew.id, 'group', all.id);
    expect([status, body]).toMatchObject([
      409,
      { code: 'group.circle', detail: expect.stringContaining('Site crew is in Surveyors is in Site crew') as string },
    ]);
    expect((await join(crew.id, 'group', crew.id)).body).toMatchObject({ code: 'group.circle' });
  });
  it('are filled by their managers, who manage no other and see no other', async () => {
    const [drawing, partners] = [await group('Drawing office'), await group('Partners')];
    const [rosa, zoe] = [await person('Rosa Quill'), await person('Zoe Calder')];
    const by = await office.signedIn('rosa');
    expect((await join(drawing.id, 'person', zoe.id, by)).status).toBe(403);
    await iris.ask('PUT', `/api/groups/${drawing.id}/managers`, { personIds: [rosa.id] });
    const { body } = await join(drawing.id, 'person', zoe.id, by);
    expect(body.map((g) => [g.name, g.members.map((m) => m.name)])).toEqual([['Drawing office', ['Zoe Calder']]]);
    expect((await join(partners.id, 'person', zoe.id, by)).status).toBe(403);
    expect((await by.ask('DELETE', `/api/groups/${drawing.id}`)).status).toBe(403);
    expect((await by.ask('DELETE', `/api/groups/${drawing.id}/members/person/${zoe.id}`)).status).toBe(200);
  });
  it('end, and give nothing from then on', async () => {
    const { groups } = await people();
    const all = groups.find((g) => g.name === 'Surveyors') as GroupRow;
    await join(all.id, 'person', (await person('Zoe Calder')).id);
    const { client } = await signIn('zoe');
    expect((await client.ask('GET', `/api/folders/${office.roots.partners}`)).status).toBe(200);
    await iris.ask('DELETE', `/api/groups/${all.id}`);
    expect((await client.ask('GET', `/api/folders/${office.roots.partners}`)).status).toBe(404);
    expect((await iris.ask('POST', '/api/groups', { name: 'Surveyors' })).status).toBe(201);
  });
  it('who left one and kept what they had beside it is told of', async () => {
    const crew = await group('Payroll team');
    const zoe = await person('Zoe Calder');
    const top = await folder(iris, office.roots.partners, 'Personnel');
    await grantOn(office.db, top, zoe.id, 'edit');
    await iris.ask('POST', `/api/folders/${top}/grants`, {
      subject: { kind: 'group', id: crew.id },
      level: 'edit',
      until: null,
    });
    await join(crew.id, 'person', zoe.id);
    expect((await people()).kept).toEqual([]);
    office.clock.advance(DAY_MS);
    await iris.ask('DELETE', `/api/groups/${crew.id}/members/person/${zoe.id}`);
    expect((await people()).kept).toMatchObject([
      {
        person: { name: 'Zoe Calder' },
        folder: { name: 'Personnel' },
        group: { name: 'Payroll team' },
        level: 'edit',
        canEnd: true,
      },
    ]);
    // Whoever looks after people is not told of folders in which they have no part.
    const bo = await add({ name: 'Bo Fell', signInName: 'bo', email: 'bo@saltmarsh.example' });
    await begin(bo.body.link as string);
    await iris.ask('PATCH', `/api/people/${bo.body.personId}`, { duties: ['run-people'] });
    const { client } = await signIn('bo');
    expect((await client.ask<People>('GET', '/api/people')).body.kept).toEqual([]);
    await grantOn(office.db, top, bo.body.personId, 'view');
    expect((await client.ask<People>('GET', '/api/people')).body.kept).toMatchObject([{ canEnd: false }]);
  });
});

describe('what somebody was at a moment', () => {
  const then = (id: string, at: Date, by = iris) =>
    by.ask<PersonThen>('GET', `/api/people/${id}/then?at=${at.toISOString()}`);
  it('is told with what they reached then, by what whoever asks may know of today', async () => {
    const crew = await group('Levellers');
    const before = office.clock.date();
    const { body } = await iris.ask<Invitation>('POST', '/api/guests', {
      ...{ name: 'Pell Calder', email: 'pell@calder.example', folderId: office.roots.partners, level: 'download' },
      ...{ endsAt: null, quietDays: null, by: 'link' },
    });
    office.clock.advance(DAY_MS);
    const asGuest = office.clock.date();
    await join(crew.id, 'person', body.personId);
    office.clock.advance(DAY_MS);
    await iris.ask('PATCH', `/api/people/${body.personId}`, { role: 'staff' });
    await iris.ask('DELETE', `/api/groups/${crew.id}/members/person/${body.personId}`);
    office.clock.advance(DAY_MS);
    expect((await then(body.personId, new Date(before.getTime() - 1000))).body).toMatchObject({
      role: null,
      reaches: [],
    });
    const guest = (await then(body.personId, new Date(asGuest.getTime() + 1000))).body;
    // A guest is no staff, whatever they became since.
    expect([guest.role, guest.groups.map((g) => g.name), guest.reaches.map((r) => r.path)]).toEqual([
      'guest',
      ['Levellers'],
      [['Partners']],
    ]);
    const now = (await then(body.personId, office.clock.date())).body;
    expect([now.role, now.groups, now.reaches.some((r) => r.path[0] === 'Projects')]).toEqual(['staff', [], true]);
    const table = await iris.ask<AccessTableAnswer>('GET', `/api/access/table?at=${asGuest.toISOString()}`);
    const row = table.body.rows.find((r) => r.id === body.personId);
    const at = table.body.folders.findIndex((f) => f.name === 'Projects');
    expect([row?.kind, row?.cells[at]]).toEqual(['guest', '.']);
    // Who may not know of a folder today is not told who reached it.
    const zoe = (await person('Zoe Calder')).id;
    await iris.ask('PATCH', `/api/people/${zoe}`, { duties: ['run-people'] });
    const { client } = await signIn('zoe');
    const told = (await then(body.personId, new Date(asGuest.getTime() + 1000), client)).body;
    expect([told.reaches, told.hidden]).toEqual([[], 1]);
    await iris.ask('PATCH', `/api/people/${zoe}`, { dutySetId: null });
  });
  it('is not told of a moment to come, of nobody, or to anybody', async () => {
    const { id } = await person('Tomas Osei');
    const later = new Date(office.clock.now() + 1000);
    expect((await then(id, later)).body).toMatchObject({ code: 'access.future' });
    expect((await then(randomUUID(), office.clock.date())).status).toBe(404);
    expect((await then(id, office.clock.date(), (await signIn('zoe')).client)).status).toBe(403);
    expect((await iris.ask('GET', `/api/people/${id}/then`)).status).toBe(400);
  });
});

describe('guests', () => {
  it('are invited to a folder, and see only that', async () => {
    const { body } = await inviteGuest();
    expect(await begin(body.link as string)).toBe(204);
    const { client, status } = await signIn('m.hale@fenway.example');
    expect(status).toBe(204);
    const stores = (await client.ask<{ name: string }[]>('GET', '/api/stores')).body;
    expect(stores.map((s) => s.name)).toEqual(['Projects']);
    expect((await client.ask('GET', '/api/grantable')).status).toBe(403);
    expect(await person('Marek Hale')).toMatchObject({ role: 'guest', sponsor: { name: 'Iris Ward' }, quietDays: 30 });
  });
  it('that are invited a second time get more by the account that they have', async () => {
    const top = await folder(iris, office.roots.partners, 'Weir House');
    const { body } = await inviteGuest({ folderId: top, name: 'M. Hale', email: 'M.Hale@fenway.example' });
    expect([body.name, body.endsAt]).toEqual(['Marek Hale', null]);
    expect((await people()).people.filter((p) => p.role === 'guest')).toHaveLength(1);
    // Their password stays theirs.
    expect((await signIn('m.hale@fenway.example')).status).toBe(204);
  });
  it('are nobody of the office, and are invited by whoever may let people into that folder', async () => {
    expect((await inviteGuest({ email: 'tomas@saltmarsh.example' })).body).toMatchObject({ code: 'guest.is-staff' });
    expect((await inviteGuest({ endsAt: '2020-01-01T00:00:00Z' })).body).toMatchObject({ code: 'person.ends-before' });
    const rosa = await office.signedIn('rosa');
    expect((await inviteGuest({ email: 'x@fenway.example' }, rosa)).body).toMatchObject({ code: 'access.level' });
    expect((await people()).people.some((p) => p.email === 'x@fenway.example')).toBe(false);
  });
  it('that have not begun yet are nobody else’s to begin as', async () => {
    await inviteGuest({ name: 'Otto Reed', email: 'otto@quarry.example', folderId: office.roots.partners });
    const rosa = await office.signedIn('rosa');
    const { id } = await person('Rosa Quill');
    const own = await folder(iris, office.roots.projects, 'Rosa looks after this');
    await grantOn(office.db, own, id, 'manage');
    const again = await inviteGuest({ name: 'Otto', email: 'otto@quarry.example', folderId: own }, rosa);
    // Their link would open what Iris gave them: it goes to them by mail alone, and here is no mail server.
    expect(again.body).toMatchObject({ code: 'invitation.no-mail' });
    const fresh = await inviteGuest({ name: 'Pim', email: 'pim@quarry.example', folderId: own }, rosa);
    expect(fresh.body.link).toMatch(/password/);
    await act([(await person('Otto Reed')).id, (await person('Pim')).id], 'disable');
  });
  it('end on their day, at that moment, whether or not anybody has written it down', async () => {
    const { id } = await person('Marek Hale');
    const endsAt = new Date(office.clock.now() + 2 * DAY_MS).toISOString();
    await iris.ask('PATCH', `/api/people/${id}`, { endsAt });
    const { client } = await signIn('m.hale@fenway.example');
    office.clock.advance(2 * DAY_MS - 1000);
    expect((await client.ask('GET', '/api/stores')).status).toBe(200);
    office.clock.advance(1000);
    expect((await client.ask('GET', '/api/stores')).status).toBe(401);
    expect((await signIn('m.hale@fenway.example')).status).toBe(401);
    await office.app.get(GuestsService).round();
    expect((await person('Marek Hale')).state).toBe('disabled');
    expect((await act([id], 'enable')).body).toMatchObject({ code: 'person.over' });
    await iris.ask('PATCH', `/api/people/${id}`, { endsAt: null });
    expect((await act([id], 'enable')).status).toBe(201);
    expect((await signIn('m.hale@fenway.example')).status).toBe(204);
  });
  it('end when they do not come any more', async () => {
    office.clock.advance(29 * DAY_MS);
    iris = await office.signedIn('iris');
    await office.app.get(GuestsService).round();
    expect((await person('Marek Hale')).state).toBe('usable');
    office.clock.advance(2 * DAY_MS);
    await office.app.get(GuestsService).round();
    const { id, state } = await person('Marek Hale');
    expect(state).toBe('disabled');
    // Let in again, they have as long again.
    await act([id], 'enable');
    await office.app.get(GuestsService).round();
    expect((await person('Marek Hale')).state).toBe('usable');
  });
});

describe('a password that is made for somebody', () => {
  it('lets a guest in to choose their own, and no further before that', async () => {
    const { body } = await inviteGuest({ name: 'Noel Calder', email: 'noel@calder.example', by: 'password' });
    expect([body.link, body.mailedTo]).toEqual([office.origin, null]);
    const given = body.password as string;
    expect(given.split('-').length).toBeGreaterThan(3);
    const first = await signIn(body.signInName, given);
    expect(first.status).toBe(204);
    const change = (current: string, next: string) =>
      first.client.ask('PUT', '/api/session/password', { current, next });
    expect((await first.client.ask<Me>('GET', '/api/session')).body.givenPassword).toBe(true);
    for (const path of ['/api/stores', '/api/events', '/api/session/all', `/api/folders/${office.roots.projects}`])
      expect([path, (await first.client.ask('GET', path)).body.code]).toEqual([path, 'password.given']);
    expect((await change(given, given)).body.errors).toMatchObject([{ code: 'password.same' }]);
    expect((await change(given, 'weir-copper-oar-lantern')).status).toBe(204);
    expect((await first.client.ask<Me>('GET', '/api/session')).body.givenPassword).toBe(false);
    expect((await first.client.ask('GET', '/api/stores')).status).toBe(200);
    // Who made it knows nothing any more.
    expect((await signIn(body.signInName, given)).status).toBe(401);
    expect((await person('Noel Calder')).state).toBe('usable');
    const kinds = await office.db.query<{ text: string }[]>(`SELECT detail::text AS text FROM ledger_entry`);
    expect(kinds.filter(({ text }) => text.includes(given))).toEqual([]);
  });
  it('lasts until a day, and is not for whoever could be somebody else by it', async () => {
    const { body } = await inviteGuest({ name: 'Mina Hale', email: 'mina@hale.example', by: 'password' });
    const given = body.password as string;
    const early = await signIn(body.signInName, given);
    office.clock.advance(8 * DAY_MS);
    expect((await signIn(body.signInName, given)).body.code).toBe('password.given-over');
    const late = { current: given, next: 'weir-copper-oar-lantern' };
    expect((await early.client.ask('PUT', '/api/session/password', late)).body.code).toBe('password.given-over');
    // Another one ends where the first let in; a link by which they begin ends it.
    const again = await iris.ask<Invitation>('POST', `/api/people/${body.personId}/invitation`, { by: 'password' });
    expect((await early.client.ask('GET', '/api/session')).status).toBe(401);
    const link = await iris.ask<Invitation>('POST', `/api/people/${body.personId}/invitation`, { by: 'link' });
    expect(await begin(link.body.link as string)).toBe(204);
    expect((await signIn(body.signInName, again.body.password as string)).status).toBe(401);
    // Whoever looks after people and is no admin makes none for somebody who has begun.
    const zoe = (await person('Zoe Calder')).id;
    await iris.ask('PATCH', `/api/people/${zoe}`, { duties: ['run-people'] });
    const { client } = await signIn('zoe');
    const refused = await client.ask('POST', `/api/people/${body.personId}/invitation`, { by: 'password' });
    expect([refused.status, refused.body.code]).toEqual([409, 'invitation.password-theirs']);
    expect((await signIn(body.signInName)).status).toBe(204);
    await iris.ask('PATCH', `/api/people/${zoe}`, { dutySetId: null });
  });
});
