import { SHARE_COLUMNS } from '@quay/core';
import type { ProblemBody, ShareListView } from '@quay/contract';
import { afterAll, beforeAll, expect, it } from 'vitest';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';

let office: TestOffice;
let iris: Client;
let tomas: Client;
beforeAll(async () => {
  office = await openOffice();
  [iris, tomas] = await Promise.all([office.signedIn('iris'), office.signedIn('tomas')]);
});
afterAll(() => office.close());

const view = async (by: Client) => (await by.ask<ShareListView>('GET', '/api/shares/view')).body;
const keep = (by: Client, asked: object) => by.ask<ShareListView & ProblemBody>('PUT', '/api/shares/view', asked);

it('everybody has columns and filters of their own, and begins with all columns', async () => {
  expect(await view(iris)).toEqual({ columns: [...SHARE_COLUMNS], filters: [] });
  const mine: ShareListView = {
    columns: ['guards', 'visited'],
    filters: [{ name: 'Never opened', query: 'facet=never-opened&sort=closes' }],
  };
  expect((await keep(iris, mine)).body).toEqual(mine);
  expect(await view(iris)).toEqual(mine);
  expect((await view(tomas)).filters).toEqual([]);
});

it('what is kept is a filter of the list and nothing else', async () => {
  const filter = (part: object) => ({ columns: [], filters: [{ name: 'A', query: 'state=open', ...part }] });
  expect((await keep(tomas, filter({}))).status).toBe(200);
  for (const query of ['https://elsewhere.example', 'state=open#x', 'state=open/../ledger', 'x'.repeat(2001)])
    expect((await keep(tomas, filter({ query }))).status, query).toBe(400);
  expect((await keep(tomas, filter({ name: '' }))).status).toBe(400);
  expect((await keep(tomas, { columns: ['owner'], filters: [] })).status).toBe(400);
  const many = Array.from({ length: 31 }, (_, n) => ({ name: `A ${n}`, query: 'state=open' }));
  expect((await keep(tomas, { columns: [], filters: many })).status).toBe(400);
  expect((await office.client().ask('GET', '/api/shares/view')).status).toBe(401);
});
