import type { Explanation, FolderAccess, GrantRow, Grantable, HomeRow } from '@quay/contract';
import type { AccessLevel } from '@quay/core';
import { randomUUID } from 'node:crypto';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { folder, move, names } from '../_fixtures/acts.js';
import { grantOn, setDisabled } from '../_fixtures/grants.js';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';

let office: TestOffice;
let iris: Client;
let tomas: Client;
let rosa: Client;
const ids: Record<string, string> = {};
let place: string;

beforeAll(async () => {
  office = await openOffice();
  [iris, tomas, rosa] = await Promise.all([office.signedIn('iris'), office.signedIn('tomas'), office.signedIn('rosa')]);
  for (const row of await office.db.query<{ id: string; name: string }[]>(
    'SELECT id, sign_in_name AS name FROM person',
  ))
    ids[row.name] = row.id;
});
beforeEach(async () => {
  place = await folder(iris, office.roots.partners, `Place ${randomUUID()}`);
});
afterAll(() => office.close());

const access = async (by: Client, id = place) => (await by.ask<FolderAccess>('GET', `/api/folders/${id}/access`)).body;
const grant = (by: Client, name: string, level: AccessLevel, until: string | null = null, id = place) =>
  by.ask<FolderAccess>('POST', `/api/folders/${id}/grants`, {
    subject: { kind: 'person', id: ids[name] },
    level,
    until,
  });
const grantTo = (all: FolderAccess, name: string) =>
  all.grants.find((g) => g.subject.name.startsWith(name)) as GrantRow;
const change = (by: Client, asked: object, id = place) =>
  by.ask<FolderAccess>('PATCH', `/api/folders/${id}/access`, asked);
const status = async (by: Client, id = place) => (await by.fetch(`/api/folders/${id}`)).status;
const inHours = (hours: number) => new Date(office.clock.now() + hours * 3_600_000).toISOString();
const reach = (all: FolderAccess) => all.people.map((p) => `${p.name}: ${p.level}`).sort();

describe('a grant', () => {
  it('is made, listed with its reasons, made another, ended, and remembered', async () => {
    expect(await status(rosa)).toBe(404);
    const { body: made, status: created } = await grant(iris, 'rosa', 'view');
    expect(created).toBe(201);
    expect(grantTo(made, 'Rosa')).toMatchObject({ level: 'view', until: null, grantedBy: 'Iris Ward', state: 'holds' });
    expect(made.people.find((p) => p.name === 'Rosa Quill')?.why).toEqual([
      expect.stringMatching(/^Can view: granted on Place /) as string,
    ]);
    expect(await status(rosa)).toBe(200);
    expect((await rosa.upload(place, 'x.txt', Buffer.from('x'))).status).toBe(403);
    const first = grantTo(made, 'Rosa').id;
    const { body: more } = await iris.ask<FolderAccess>('PUT', `/api/grants/${first}`, {
      level: 'edit',
      until: inHours(5),
    });
    expect(grantTo(more, 'Rosa')).toMatchObject({ level: 'edit', until: inHours(5) });
    expect((await rosa.upload(place, 'x.txt', Buffer.from('x'))).status).toBe(201);
    const { body: ended } = await iris.ask<FolderAccess>('DELETE', `/api/grants/${grantTo(more, 'Rosa').id}`);
    expect(grantTo(ended, 'Rosa')).toBeUndefined();
    expect(ended.over.map((g) => [g.subject.name, g.level, g.endedBy])).toEqual([
      ['Rosa Quill', 'edit', 'Iris Ward'],
      ['Rosa Quill', 'view', 'Iris Ward'],
    ]);
    expect(await status(rosa)).toBe(404);
    const again = await iris.ask('DELETE', `/api/grants/${grantTo(more, 'Rosa').id}`);
    expect([again.status, again.body.code]).toEqual([410, 'grant.over']);
  });
  it('begins and ends at its times, and says until when', async () => {
    const since = inHours(1);
    await iris.ask('POST', `/api/folders/${place}/grants`, {
      subject: { kind: 'person', id: ids['rosa'] },
      level: 'download',
      since,
      until: inHours(2),
    });
    expect(grantTo(await access(iris), 'Rosa')).toMatchObject({ state: 'coming', since });
    expect(await status(rosa)).toBe(404);
    office.clock.advance(3_600_000);
    expect((await access(rosa)).people.find((p) => p.name === 'Rosa Quill')).toMatchObject({ until: inHours(1) });
    office.clock.advance(3_600_000);
    expect(await status(rosa)).toBe(404);
    expect((await access(iris)).over.map((g) => g.state)).toEqual(['over']);
  });
  it('is refused when it makes no sense, and nothing is changed', async () => {
    await grant(iris, 'rosa', 'view');
    const refused = async (asked: object) => {
      const { status: code, body } = await iris.ask('POST', `/api/folders/${place}/grants`, asked);
      return [code, body.code];
    };
    const person = { kind: 'person', id: ids['rosa'] };
    expect(await refused({ subject: person, level: 'edit', until: null })).toEqual([409, 'grant.present']);
    const tom = { kind: 'person', id: ids['tomas'] };
    expect(await refused({ subject: tom, level: 'edit', until: inHours(-1) })).toEqual([400, 'grant.ends-before']);
    expect(await refused({ subject: tom, level: 'edit', since: inHours(2), until: inHours(1) })).toEqual([
      400,
      'grant.ends-before',
    ]);
    const nobody = { kind: 'person', id: randomUUID() };
    expect(await refused({ subject: nobody, level: 'edit', until: null })).toEqual([400, 'grant.nobody']);
    expect((await refused({ subject: { kind: 'staff', id: randomUUID() }, level: 'edit', until: null }))[0]).toBe(400);
    expect((await access(iris)).grants.map((g) => g.subject.name)).toEqual(['Tomas Osei', 'Rosa Quill']);
  });
  it('is made by whoever may manage there, and by nobody else; in a home by nobody', async () => {
    await grant(iris, 'rosa', 'edit');
    expect((await grant(rosa, 'tomas', 'edit')).body.code).toBe('access.level');
    expect((await grant(tomas, 'tomas', 'manage')).body.code).toBe('access.level');
    const id = grantTo(await access(iris), 'Rosa').id;
    for (const [method, path] of [
      ['PUT', `/api/grants/${id}`],
      ['DELETE', `/api/grants/${id}`],
    ] as const)
      expect(
        (await tomas.ask(method, path, method === 'PUT' ? { level: 'manage', until: null } : undefined)).status,
      ).toBe(403);
    await grant(iris, 'tomas', 'manage');
    expect((await iris.ask('PUT', `/api/grants/${id}`, { level: 'manage', until: null })).status).toBe(200);
    expect((await change(rosa, { othersRule: 'see' })).status).toBe(200);
    const home = await folder(rosa, office.roots.rosa, 'Private');
    expect((await grant(rosa, 'tomas', 'view', null, home)).body.code).toBe('home.no-grants');
    expect((await grant(iris, 'tomas', 'view', null, home)).status).toBe(404);
    expect((await access(rosa, home)).home).toBe(true);
  });
  it('on a folder above counts and is named only to those who see that folder', async () => {
    const above = await folder(iris, place, 'Secret project');
    const below = await folder(iris, above, 'Open');
    await grant(iris, 'tomas', 'download', null, above);
    await grant(iris, 'rosa', 'view', null, below);
    const seen = await access(rosa, below);
    expect(JSON.stringify(seen)).not.toMatch(/Secret|Partners/);
    expect(seen.grants.map((g) => [g.subject.name, g.folderName])).toContainEqual(['Tomas Osei', null]);
    expect((await access(iris, below)).grants.map((g) => g.folderName)).toContain('Secret project');
  });
});

describe('a folder that takes nothing over', () => {
  it('begins as it was, so that nobody loses anything at that moment', async () => {
    const before = reach(await access(iris));
    const { body } = await change(iris, { inherits: false });
    expect([body.inherits, reach(body)]).toEqual([false, before]);
    expect(await status(tomas)).toBe(200);
    await iris.ask('DELETE', `/api/grants/${grantTo(body, 'Tomas').id}`);
    expect(await status(tomas)).toBe(404);
    await change(iris, { inherits: true });
    expect(await status(tomas)).toBe(200);
  });
  it('stays in the hands of whoever closes it', async () => {
    await grant(iris, 'rosa', 'manage');
    const inner = await folder(rosa, place, 'Inner');
    const { body } = await change(rosa, { inherits: false, beginsWith: 'nobody' }, inner);
    expect(reach(body)).toEqual(['Iris Ward: null', 'Rosa Quill: manage']);
    expect((await rosa.ask('GET', `/api/folders/${inner}`)).status).toBe(200);
  });
  it('is closed to the admin, who sees that it is there and may still say who reaches it', async () => {
    await grant(iris, 'rosa', 'manage');
    const inner = await folder(rosa, place, 'Personnel');
    await rosa.upload(inner, 'review.txt', Buffer.from('secret'));
    await change(rosa, { inherits: false, beginsWith: 'me' }, inner);
    expect(await names(iris, place)).toEqual([]);
    expect(await status(iris, inner)).toBe(404);
    expect((await access(iris)).closed).toEqual([{ id: inner, name: 'Personnel' }]);
    expect((await access(rosa)).closed).toEqual([]);
    const seen = await access(iris, inner);
    expect([seen.name, seen.manages]).toEqual(['Personnel', true]);
    expect((await grant(iris, 'iris', 'view', null, inner)).status).toBe(201);
    expect(await names(iris, inner)).toEqual(['review.txt']);
    expect((await iris.ask<{ kind: string }[]>('GET', '/api/ledger?kind=access')).body).toMatchObject({
      entries: expect.arrayContaining([expect.objectContaining({ kind: 'access.granted' })]) as unknown,
    });
  });
  it('is never a store’s own folder', async () => {
    expect((await change(iris, { inherits: false }, office.roots.partners)).body.code).toBe('access.top');
  });
});

describe('what contributors see of others', () => {
  it('is the folder’s rule, or the one above', async () => {
    const inner = await folder(iris, place, 'Drop');
    expect(await access(iris, inner)).toMatchObject({ othersRule: 'read', othersRuleHere: null });
    expect((await change(iris, { othersRule: 'nothing' }, inner)).body).toMatchObject({ othersRuleHere: 'nothing' });
    await iris.upload(inner, 'of others.txt', Buffer.from('x'));
    await grant(iris, 'rosa', 'contribute', null, inner);
    expect(await names(rosa, inner)).toEqual([]);
    await change(iris, { othersRule: null }, inner);
    expect(await names(rosa, inner)).toEqual(['of others.txt']);
  });
});

describe('what is moved to where more people reach it', () => {
  const gains = async (by: Client, nodeIds: string[], to: string) => {
    const { status: code, body } = await move(by, nodeIds, to, 'refuse', false);
    return [
      code,
      body.code,
      (body['gains'] as { name: string; level: string }[] | undefined)?.map((g) => `${g.name}: ${g.level}`),
    ];
  };
  it('stays until that has been seen, and is told who they are', async () => {
    const file = (await rosa.upload(office.roots.rosa, `${randomUUID()}.txt`, Buffer.from('x'))).body.id;
    expect(await gains(rosa, [file], office.roots.projects)).toEqual([
      409,
      'move.widens',
      ['Iris Ward: manage', 'Tomas Osei: edit'],
    ]);
    expect(await names(rosa, office.roots.projects)).not.toContain(file);
    expect((await move(rosa, [file], office.roots.projects)).status).toBe(200);
    // Back to where fewer reach it, and within one place, nothing is asked.
    const inner = await folder(rosa, office.roots.projects, `Inner ${randomUUID()}`);
    expect(await gains(rosa, [file], inner)).toEqual([200, undefined, undefined]);
    expect(await gains(rosa, [file], office.roots.rosa)).toEqual([200, undefined, undefined]);
  });
  it('takes its own grants along, and stays closed when it takes nothing over', async () => {
    await grant(iris, 'rosa', 'edit');
    const [granted, closed] = [await folder(iris, place, 'Granted'), await folder(iris, place, 'Closed')];
    await grant(iris, 'rosa', 'manage', null, granted);
    await change(iris, { inherits: false, beginsWith: 'as-now' }, closed);
    const other = await folder(iris, office.roots.projects, `Other ${randomUUID()}`);
    expect(await gains(iris, [closed], other)).toEqual([200, undefined, undefined]);
    expect(await gains(iris, [granted], other)).toEqual([409, 'move.widens', ['Tomas Osei: edit']]);
    expect((await move(iris, [granted], other)).status).toBe(200);
    expect((await access(rosa, granted)).manages).toBe(true);
  });
  it('is not a folder with grants into a home: they would lead nowhere', async () => {
    const outer = await folder(iris, place, 'Outer');
    const granted = await folder(iris, outer, 'Granted');
    await grant(iris, 'rosa', 'view', null, granted);
    expect((await move(iris, [outer], office.roots.iris)).body.code).toBe('home.granted');
    await iris.ask('DELETE', `/api/grants/${grantTo(await access(iris, granted), 'Rosa').id}`);
    expect((await move(iris, [outer], office.roots.iris)).status).toBe(200);
  });
});

describe('why', () => {
  const explain = (by: Client, query = '', id = place) =>
    by.ask<Explanation>('GET', `/api/folders/${id}/access/explain${query}`);
  it('is told now and of any moment: to oneself, and of others to whoever may say who reaches it', async () => {
    const then = office.clock.date().toISOString();
    office.clock.advance(60_000);
    await grant(iris, 'rosa', 'edit');
    expect((await explain(rosa)).body).toMatchObject({ name: 'Rosa Quill', level: 'edit' });
    expect((await explain(iris, `?personId=${ids['rosa']}&at=${then}`)).body).toMatchObject({
      level: null,
      why: [expect.stringMatching(/^Nothing yet: what was granted on Place .* begins on /) as string],
    });
    expect((await explain(rosa, `?personId=${ids['tomas']}`)).body.code).toBe('access.level');
    expect((await explain(iris, `?personId=${randomUUID()}`)).status).toBe(404);
  });
});

describe('guests', () => {
  it('are granted what they see, see no others, and are not all staff', async () => {
    await office.db.query(
      `INSERT INTO person (id, sign_in_name, email, name, initials, role, password_hash, created_at)
       SELECT $1, 'grace', 'grace@tidewater.example', 'Grace Holm', 'GH', 'guest', password_hash, created_at
         FROM person WHERE sign_in_name = 'rosa'`,
      [randomUUID()],
    );
    const grace = office.client();
    await grace.ask('POST', '/api/session', { signInName: 'grace', password: 'kestrel-pebble-thistle-cart' });
    const [row] = await office.db.query<{ id: string }[]>(`SELECT id FROM person WHERE sign_in_name = 'grace'`);
    await grantOn(office.db, place, null, 'edit');
    expect(await status(rosa)).toBe(200);
    expect(await status(grace)).toBe(404);
    ids['grace'] = row?.id as string;
    const made = await grant(iris, 'grace', 'contribute');
    expect(made.body.people.find((p) => p.name === 'Grace Holm')).toMatchObject({ guest: true, level: 'contribute' });
    expect(await access(grace)).toMatchObject({ grants: [], people: [{ name: 'Grace Holm' }] });
    expect((await grace.ask('GET', '/api/grantable')).body.code).toBe('staff.only');
    expect((await grace.ask<Grantable>('GET', '/api/stores')).body).toMatchObject([{ part: true }]);
    expect((await grace.upload(place, 'from outside.txt', Buffer.from('x'))).status).toBe(201);
    const [entry] = await office.db.query<{ actor_kind: string }[]>(
      `SELECT actor_kind FROM ledger_entry WHERE kind = 'file.uploaded' ORDER BY seq DESC LIMIT 1`,
    );
    expect(entry?.actor_kind).toBe('guest');
  });
});

describe('a home', () => {
  it('is handed over when somebody has left, and not before; with nothing of it shown to anybody else', async () => {
    const file = (await rosa.upload(office.roots.rosa, 'diary.txt', Buffer.from('x'))).body.id;
    const homes = async () => (await iris.ask<HomeRow[]>('GET', '/api/homes')).body;
    const home = (await homes()).find((h) => h.ownerName === 'Rosa Quill') as HomeRow;
    const handOver = (to: string) =>
      iris.ask<HomeRow[]>('POST', `/api/homes/${home.storeId}/hand-over`, { toPersonId: to });
    expect((await handOver(ids['tomas'] as string)).body.code).toBe('home.owner-there');
    await setDisabled(office.db, office.clock.date(), 'rosa', true);
    expect((await handOver(randomUUID())).body.code).toBe('home.nobody');
    expect((await tomas.ask('POST', `/api/homes/${home.storeId}/hand-over`, { toPersonId: ids['tomas'] })).status).toBe(
      403,
    );
    expect((await tomas.fetch(`/api/files/${file}/content`)).status).toBe(404);
    expect((await handOver(ids['tomas'] as string)).status).toBe(201);
    expect((await tomas.fetch(`/api/files/${file}/content`)).status).toBe(200);
    expect((await iris.fetch(`/api/files/${file}/content`)).status).toBe(404);
    expect((await tomas.ask<{ name: string }[]>('GET', '/api/stores')).body.map((s) => s.name)).toContain('rosa');
  });
});

describe('the last one who runs the server', () => {
  it('cannot be disabled, nor lose that duty, until somebody else runs it', async () => {
    const by = (sql: string) =>
      office.db.query(sql).then(
        () => 'done',
        (e: Error) => e.message,
      );
    const nobodyLeft = 'nobody would be left to run the server';
    expect(await by(`UPDATE person SET disabled_at = now() WHERE sign_in_name = 'iris'`)).toContain(nobodyLeft);
    expect(await by(`UPDATE person SET duties = '{run-people}' WHERE sign_in_name = 'iris'`)).toContain(nobodyLeft);
    await by(`UPDATE person SET duties = duties || '{run-server}' WHERE sign_in_name = 'tomas'`);
    expect(await by(`UPDATE person SET duties = array_remove(duties, 'run-server') WHERE sign_in_name = 'iris'`)).toBe(
      'done',
    );
  });
});
