import type { DutySetRow, Me, People, PersonSheet } from '@quay/contract';
import { READY_DUTIES, type Duty } from '@quay/core';
import { randomUUID } from 'node:crypto';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';

let office: TestOffice;
let iris: Client;
let tomas: Client;
let rosa: Client;
const ids: Record<string, string> = {};

const people = async () => (await iris.ask<People>('GET', '/api/people')).body;
const row = async (name: string) => (await people()).people.find((p) => p.id === ids[name]);
const make = (name: string, duties: Duty[], by = iris) =>
  by.ask<DutySetRow[]>('POST', '/api/duty-sets', { name, duties });
const setNamed = async (name: string) => (await people()).dutySets.find((s) => s.name === name) as DutySetRow;
const alter = (id: string, part: object, by = iris) => by.ask<DutySetRow[]>('PATCH', `/api/duty-sets/${id}`, part);
const give = (name: string, part: object, by = iris) => by.ask<PersonSheet>('PATCH', `/api/people/${ids[name]}`, part);
const mine = async (client: Client) => (await client.ask<Me>('GET', '/api/session')).body.duties;

beforeAll(async () => {
  office = await openOffice();
  [iris, tomas, rosa] = [await office.signedIn('iris'), await office.signedIn('tomas'), await office.signedIn('rosa')];
  for (const { id, signInName } of (await people()).people) ids[signInName] = id;
});
afterAll(() => office.close());

describe('a set of duties', () => {
  it('is made, given, and holds for whoever has it at once, also when it changes', async () => {
    const { status, body } = await make('Looks after people', ['run-people', 'publish-outside']);
    // In the order in which duties are told, however they were asked for.
    expect([status, body.map((s) => s.duties)]).toEqual([201, [['publish-outside', 'run-people']]]);
    const set = await setNamed('Looks after people');
    for (const name of ['tomas', 'rosa']) expect((await give(name, { dutySetId: set.id })).status).toBe(200);
    expect(await row('tomas')).toMatchObject({ dutySet: { id: set.id, name: set.name }, duties: set.duties });
    expect((await tomas.ask('GET', '/api/people')).status).toBe(200);
    expect((await alter(set.id, { duties: ['publish-outside', 'see-ledger'] })).status).toBe(200);
    expect((await tomas.ask('GET', '/api/people')).status).toBe(403);
    expect([await mine(tomas), await mine(rosa)]).toEqual(Array(2).fill(['publish-outside', 'see-ledger']));
    const { body: ledger } = await iris.ask<{ entries: { words: string }[] }>('GET', '/api/ledger?limit=1');
    expect(ledger.entries[0]?.words).toBe(
      'changed the set of duties Looks after people, which 2 people have: publish-outside, see-ledger',
    );
  });
  it('is left by whoever gets duties of their own, or becomes something else', async () => {
    const set = await setNamed('Looks after people');
    await give('rosa', { duties: ['use-drive'] });
    expect(await row('rosa')).toMatchObject({ dutySet: null, duties: ['use-drive'] });
    await give('rosa', { dutySetId: set.id });
    await give('rosa', { role: 'admin' });
    expect(await row('rosa')).toMatchObject({ dutySet: null, duties: [...READY_DUTIES.admin] });
    await give('rosa', { role: 'staff', dutySetId: set.id });
    expect(await row('rosa')).toMatchObject({ dutySet: { id: set.id }, duties: set.duties });
    await give('rosa', { dutySetId: null });
    expect(await row('rosa')).toMatchObject({ dutySet: null, duties: [...READY_DUTIES.staff] });
    // Another name, or another address, leaves it.
    await give('tomas', { name: 'Tomas Osei' });
    expect(await row('tomas')).toMatchObject({ dutySet: { id: set.id } });
  });
  it('that is removed leaves everybody what they have', async () => {
    await make('For a while', ['run-reach']);
    const { id } = await setNamed('For a while');
    await give('rosa', { dutySetId: id });
    expect((await iris.ask('DELETE', `/api/duty-sets/${id}`)).status).toBe(200);
    expect(await row('rosa')).toMatchObject({ dutySet: null, duties: ['run-reach'] });
    expect((await iris.ask('DELETE', `/api/duty-sets/${id}`)).status).toBe(404);
    expect((await give('rosa', { dutySetId: id })).body).toMatchObject({ code: 'duty-set.gone' });
  });
});

describe('is refused', () => {
  it('to whoever is no admin, also with the duty to look after people', async () => {
    const set = await setNamed('Looks after people');
    await alter(set.id, { duties: ['run-people'] });
    for (const [method, path, body] of [
      ['POST', '/api/duty-sets', { name: 'Everything', duties: ['run-server'] }],
      ['PATCH', `/api/duty-sets/${set.id}`, { duties: ['run-server'] }],
      ['DELETE', `/api/duty-sets/${set.id}`, undefined],
      ['PATCH', `/api/people/${ids['tomas']}`, { dutySetId: set.id }],
    ] as const)
      expect((await tomas.ask(method, path, body)).body, path).toMatchObject({ code: 'person.admins-only' });
    expect(await setNamed('Looks after people')).toEqual({ ...set, duties: ['run-people'] });
  });
  it('a name that is there, in whatever capitals', async () => {
    expect((await make('LOOKS after people', [])).body).toMatchObject({ code: 'duty-set.name-taken' });
    await make('Other', []);
    const other = await setNamed('Other');
    expect((await alter(other.id, { name: 'looks After People' })).body).toMatchObject({ code: 'duty-set.name-taken' });
    // Its own, in other capitals.
    expect((await alter(other.id, { name: 'OTHER' })).status).toBe(200);
  });
  it('what would leave nobody who runs the server, and leaves all as it was', async () => {
    await make('Runs it', ['run-server', 'run-people', 'see-ledger']);
    const set = await setNamed('Runs it');
    await give('iris', { dutySetId: set.id });
    expect((await alter(set.id, { duties: ['run-people'] })).body).toMatchObject({ code: 'duty-set.last-admin' });
    expect(await setNamed('Runs it')).toEqual(set);
    expect(await mine(iris)).toEqual(set.duties);
    // Another who runs it makes room.
    await give('rosa', { duties: ['run-server'] });
    expect((await alter(set.id, { duties: ['run-people'] })).status).toBe(200);
    expect(await mine(iris)).toEqual(['run-people']);
  });
  it('what is no duty, both at once, and a set that is not there', async () => {
    expect((await make('Odd', ['fly' as Duty])).status).toBe(400);
    expect((await give('tomas', { duties: [], dutySetId: null })).status).toBe(400);
    expect((await alter(randomUUID(), { name: 'Nothing' })).status).toBe(404);
  });
});
