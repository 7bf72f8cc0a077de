import { MOST_TEMPLATES, type SlipTemplate } from '@quay/contract';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';

let office: TestOffice;
let iris: Client;
let tomas: Client;
beforeAll(async () => {
  office = await openOffice();
  [iris, tomas] = await Promise.all([office.signedIn('iris'), office.signedIn('tomas')]);
});
afterAll(() => office.close());

const TERMS = {
  ...{ message: 'As agreed.', audience: { kind: 'listed', listed: ['*.brookline.example'], blocked: [], members: [] } },
  ...{ window: { opens: null, closes: { days: 30, at: '17:00' } }, password: true, visitLimit: 10, removesFiles: true },
};
const keep = (by: Client, name: string, part: object = {}, terms: object = {}) =>
  by.ask<SlipTemplate[]>('POST', '/api/templates', { name, office: false, terms: { ...TERMS, ...terms }, ...part });
const names = async (by: Client) =>
  (await by.ask<SlipTemplate[]>('GET', '/api/templates')).body.map((t) => [t.name, t.office]);

describe('templates of the slip', () => {
  it('are one’s own, or of the office where whoever runs the server keeps them', async () => {
    expect((await keep(tomas, 'Tender, strict')).body[0]).toMatchObject({
      name: 'Tender, strict',
      office: false,
      terms: TERMS,
    });
    const made = await keep(iris, 'Monthly drawings', { office: true });
    expect(made.status).toBe(200);
    expect(await names(tomas)).toEqual([
      ['Monthly drawings', true],
      ['Tender, strict', false],
    ]);
    expect(await names(iris)).toEqual([['Monthly drawings', true]]);
    expect((await keep(tomas, 'For all', { office: true })).body.code).toBe('duty.missing');
    const ofOffice = made.body.find((t) => t.office)?.id as string;
    const own = (await tomas.ask<SlipTemplate[]>('GET', '/api/templates')).body.find((t) => !t.office)?.id as string;
    expect((await tomas.ask('DELETE', `/api/templates/${ofOffice}`)).body.code).toBe('duty.missing');
    expect((await iris.ask('DELETE', `/api/templates/${own}`)).status).toBe(404);
    expect((await tomas.ask<SlipTemplate[]>('DELETE', `/api/templates/${own}`)).body.map((t) => t.name)).toEqual([
      'Monthly drawings',
    ]);
    expect((await tomas.ask('DELETE', `/api/templates/${own}`)).status).toBe(404);
    await iris.ask('DELETE', `/api/templates/${ofOffice}`);
    expect(await names(iris)).toEqual([]);
  });

  it('name a place for files, to those who see it alone', async () => {
    const made = (by: Client, name: string, folderId?: string) =>
      by.ask<{ id: string; code: string }>('POST', '/api/outgoing', { name, folderId });
    const { body: place } = await made(iris, 'Tender files', office.roots.projects);
    const home = (await made(iris, 'Mine')).body;
    const named = async (by: Client, name: string) =>
      (await by.ask<SlipTemplate[]>('GET', '/api/templates')).body.find((t) => t.name === name)?.terms.place?.id;
    await keep(iris, 'To Projects', { office: true }, { place: { id: place.id, name: 'Tender files' } });
    await keep(iris, 'To a home', { office: true }, { place: { id: home.id, name: 'Mine' } });
    expect([await named(tomas, 'To Projects'), await named(tomas, 'To a home')]).toEqual([place.id, undefined]);
    expect(await named(iris, 'To a home')).toBe(home.id);
    expect((await keep(tomas, 'Elsewhere', {}, { place: { id: home.id, name: 'Mine' } })).status).toBe(404);
    // What is dropped lies there, beside what is there under that name.
    expect((await made(tomas, 'Levels', place.id)).status).toBe(201);
    const again = await made(tomas, 'Levels', place.id);
    expect(again.body).toMatchObject({ name: 'Levels (2)' });
    expect((await made(tomas, 'Levels', home.id)).status).toBe(404);
    for (const name of ['To Projects', 'To a home']) {
      const id = (await iris.ask<SlipTemplate[]>('GET', '/api/templates')).body.find((t) => t.name === name)?.id;
      await iris.ask('DELETE', `/api/templates/${id}`);
    }
  });

  it('have a name of their own, and terms that the slip could have', async () => {
    await keep(tomas, 'Twice');
    const refused = async (name: string, terms: object = {}) => {
      const { status, body } = await keep(tomas, name, {}, terms);
      return [status, body.code];
    };
    expect(await refused('TWICE')).toEqual([409, 'name.taken']);
    // Another has the same name for theirs.
    expect((await keep(iris, 'Twice')).status).toBe(200);
    expect(await refused('')).toEqual([400, 'name.empty']);
    expect(await refused('Window', { window: { preset: 'for-ever' } })).toEqual([400, expect.stringMatching(/^terms/)]);
    expect(await refused('Time', { window: { opens: null, closes: { days: 1, at: '25:00' } } })).toEqual([
      400,
      expect.stringMatching(/^terms/),
    ]);
    const listed = { kind: 'listed', listed: ['no address'], blocked: [], members: [] };
    expect(await refused('List', { audience: listed })).toEqual([400, 'audience.entry']);
    // Whom it is for may be chosen when it is used.
    expect((await keep(tomas, 'Open', {}, { audience: { ...listed, listed: [] } })).status).toBe(200);
  });

  it(`are ${MOST_TEMPLATES} at the most`, async () => {
    for (let n = (await names(tomas)).length; n < MOST_TEMPLATES; n += 1)
      expect((await keep(tomas, `Template ${n}`)).status).toBe(200);
    expect((await keep(tomas, 'One more')).body.code).toBe('template.too-many');
  });
});
