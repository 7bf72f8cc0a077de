import { SHARE_FACETS, SHARE_STATES } from '@quay/core';
import type { ShareList, ShareRow, SharesToday } from '@quay/contract';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';
import { trash } from '../_fixtures/acts.js';

const DAY = 86_400_000;
let office: TestOffice;
let iris: Client;
let tomas: Client;
let rosa: Client;
let plan = '';
beforeAll(async () => {
  office = await openOffice();
  [iris, tomas, rosa] = await Promise.all([office.signedIn('iris'), office.signedIn('tomas'), office.signedIn('rosa')]);
  plan = (await iris.upload(office.roots.projects, 'plan.pdf', Buffer.from('a plan'))).body.id;
  const letter = (await rosa.upload(office.roots.rosa, 'letter.txt', Buffer.from('private'))).body.id;
  for (let n = 1; n <= 12; n += 1) {
    const closesAt = n % 4 === 0 ? null : at(n * DAY);
    const opensAt = n % 5 === 0 ? at(DAY / 2) : null;
    await office.publish(n % 3 ? iris : tomas, [plan], { title: `Plans ${n}`, window: { opensAt, closesAt } });
    office.clock.advance(1000);
  }
  await office.publish(rosa, [letter], { title: 'Zebra letter' });
});
afterAll(() => office.close());

const at = (ms: number) => new Date(office.clock.now() + ms).toISOString();
const list = async (query: string, by = iris) => (await by.ask<ShareList>('GET', `/api/shares?${query}`)).body;
const titles = (shares: ShareRow[]) => shares.map((s) => s.title);

/** Every page of a list, put together. */
async function all(query: string, by = iris): Promise<ShareRow[]> {
  const shares: ShareRow[] = [];
  for (let after: string | null = ''; after !== null;) {
    const page: ShareList = await list(`${query}${after && `&after=${after}`}`, by);
    shares.push(...page.shares);
    after = page.next;
    expect(shares.length).toBeLessThan(100);
  }
  return shares;
}

describe('the list of shares', () => {
  it('is the same in pages of any size, in every order and both ways', async () => {
    for (const sort of ['made', 'closes', 'title', 'visited'])
      for (const descending of [true, false]) {
        const query = `sort=${sort}&descending=${descending}`;
        const whole = await all(`${query}&limit=200`);
        expect(whole).toHaveLength(13);
        expect(new Set(whole.map((s) => s.id)).size).toBe(13);
        for (const limit of [1, 2, 5, 12, 13]) expect(await all(`${query}&limit=${limit}`)).toEqual(whole);
      }
  });

  it('goes by what is asked: titles as people count, ends with the endless last, visits', async () => {
    expect(titles(await all('sort=title&descending=false')).slice(0, 4)).toEqual([
      'Plans 1',
      'Plans 2',
      'Plans 3',
      'Plans 4',
    ]);
    const ends = (await all('sort=closes&descending=false')).map((s) => s.closesAt);
    const dated = ends.filter((end) => end !== null);
    expect(ends).toEqual([...dated.toSorted(), null, null, null]);
    const [share] = await all('find=Plans 7');
    const sheet = (await iris.ask<{ link: string }>('GET', `/api/shares/${share?.id}`)).body;
    await office.client().ask('POST', `/s/${sheet.link.split('/s/')[1]}/open`, { password: null });
    expect(titles(await all('sort=visited&limit=3'))[0]).toBe('Plans 7');
  });

  it('of one person are theirs alone, and no more than whoever asks sees', async () => {
    const [{ id }] = await office.db.query<[{ id: string }]>(`SELECT id FROM person WHERE sign_in_name = 'tomas'`);
    const found = await list(`by=${id}&limit=3`);
    expect(titles(found.shares)).toEqual(['Plans 12', 'Plans 9', 'Plans 6']);
    expect(found.counts).toMatchObject({ open: 4 });
    expect(await all(`by=${id}&limit=3`, tomas)).toHaveLength(4);
    expect(await list(`by=${id}`, rosa)).toMatchObject({ shares: [], counts: { open: 0 } });
  });

  it('counts by state what is found, whichever state is shown', async () => {
    const { counts, shares } = await list('state=scheduled');
    expect(counts).toEqual({ open: 11, scheduled: 2, closed: 0, usedUp: 0, withdrawn: 0, broken: 0 });
    expect(titles(shares)).toEqual(['Plans 10', 'Plans 5']);
    expect((await list('find=tomas%20plans')).counts).toMatchObject({ open: 4, scheduled: 0 });
    expect((await list('find=no%20such%20share')).shares).toEqual([]);
    const [first] = (await list('limit=1')).shares;
    expect((await list(`limit=1&after=${(await list('limit=1')).next}`)).counts).toBeNull();
    expect(first?.createdBy).toBe('Rosa Quill');
  });

  it('is narrowed by more than the state, with how many there are of each in each state', async () => {
    const { facets } = await list('limit=1');
    for (const facet of SHARE_FACETS)
      for (const state of SHARE_STATES) {
        const found = await all(`facet=${facet}&state=${state}`);
        expect(found.length, `${facet} ${state}`).toBe(facets?.[facet][state]);
      }
    expect(titles(await all('facet=no-end'))).toEqual(['Plans 12', 'Plans 8', 'Plans 4']);
    expect(titles(await all('facet=closes-in-a-week&find=plans'))).not.toContain('Plans 8');
    expect((await iris.ask('GET', '/api/shares?facet=any')).status).toBe(400);
    // Of what is closed to whoever asks they tell nothing; to whose it is they do.
    expect(titles(await all('facet=never-opened')).some((title) => title.startsWith('From the home'))).toBe(false);
    expect(titles(await all('facet=never-opened', rosa))).toContain('Zebra letter');
  });

  it('finds by title and by person, every word, wherever it stands; wild cards are letters like others', async () => {
    expect(titles(await all('find=LANS%2012'))).toEqual(['Plans 12']);
    expect(await all('find=tomas')).toHaveLength(4);
    expect(await all('find=%25')).toEqual([]);
    expect(await all('find=_lans')).toEqual([]);
  });

  it('shows staff their own alone', async () => {
    expect(await all('sort=title&limit=2', tomas)).toHaveLength(4);
    expect((await list('', tomas)).counts).toMatchObject({ open: 4 });
    expect(await all('find=iris', tomas)).toEqual([]);
  });

  it('tells nothing of what is in homes: no title by search or by order, no visits', async () => {
    expect(await all('find=zebra')).toEqual([]);
    expect(titles(await all('find=zebra', rosa))).toEqual(['Zebra letter']);
    // By person it is found, as what it is shown as.
    expect(titles(await all('find=rosa'))).toEqual(['From the home of Rosa Quill']);
    for (const descending of [true, false])
      for (const sort of ['title', 'visited'])
        expect(titles(await all(`sort=${sort}&descending=${descending}&limit=4`)).at(-1)).toBe(
          'From the home of Rosa Quill',
        );
  });

  it('refuses a place of another order, and one that is none', async () => {
    const { next } = await list('sort=title&limit=2');
    for (const query of ['sort=made', 'sort=title&descending=false', 'sort=closes'])
      expect(await iris.ask('GET', `/api/shares?${query}&after=${next}`)).toMatchObject({
        status: 400,
        body: { code: 'after.invalid' },
      });
    const place = (value: unknown) => Buffer.from(JSON.stringify(value)).toString('base64url');
    for (const sort of ['made', 'closes', 'title', 'visited'])
      for (const key of ['a', 1, '\0', '-271821-04-20T00:00:00.0Z', 'infinity', '9999-99-99T99:99:99.0Z', null, []])
        for (const group of [0, 1, 2]) {
          const after = place([group, key, plan, sort, true]);
          expect([200, 400]).toContain((await iris.ask('GET', `/api/shares?sort=${sort}&after=${after}`)).status);
        }
  });
});

describe('what is told for Today', () => {
  const today = async (by = iris, from = at(-7 * DAY), to = at(36 * DAY)) =>
    by.ask<SharesToday>('GET', `/api/shares/today?from=${from}&to=${to}`);

  it('is how many are open, the windows of the span that end next first, and what needs a hand', async () => {
    const { body } = await today();
    expect([body.open, body.any, body.moreWindows, body.moreNeeding]).toEqual([11, true, 0, 0]);
    expect(body.windows).toHaveLength(13);
    expect(body.windows[0]?.title).toBe('Plans 1');
    expect(body.needing).toMatchObject([{ kind: 'closes-soon', share: { title: 'Plans 1' } }]);
    expect((await today(iris, at(20 * DAY))).body.windows.map((w) => w.closesAt)).toEqual([null, null, null]);
    expect((await today(tomas)).body.windows).toHaveLength(4);
  });

  it('has visits by ten minutes, and none of what is in homes', async () => {
    const { windows } = (await today()).body;
    expect(windows.find((w) => w.title === 'Plans 7')?.visitTimes).toEqual(['2026-11-24T10:00:00.000Z']);
    expect(windows.find((w) => w.closed)?.visitTimes).toEqual([]);
  });

  it('says how much more there is than is shown', async () => {
    const shares = Array.from({ length: 210 }, (_, n) => n);
    await office.db.query(
      `INSERT INTO share (id, title, message, token_hash, token_sealed, address_id, closes_at, created_at, created_by)
       SELECT gen_random_uuid(), 'Many ' || n, '', sha256(n::text::bytea), '', (SELECT id FROM address LIMIT 1), $2, $3,
              (SELECT id FROM person WHERE sign_in_name = 'iris') FROM unnest($1::int[]) AS n`,
      [shares, at(DAY / 4), at(-DAY)],
    );
    await office.db.query(
      `INSERT INTO share_item (share_id, node_id, position) SELECT id, $1, 0 FROM share WHERE title LIKE 'Many %'`,
      [plan],
    );
    const { body } = await today();
    expect([body.windows.length, body.moreWindows]).toEqual([200, 23]);
    expect([body.needing.length, body.moreNeeding]).toEqual([100, 111]);
    await trash(iris, [plan]);
    expect((await today()).body.needing.every((n) => n.kind === 'broken')).toBe(true);
    expect((await list('')).counts).toMatchObject({ open: 1, broken: 222 });
  });

  it('refuses a span that is none, or too long', async () => {
    expect((await today(iris, at(DAY), at(-DAY))).body).toMatchObject({ code: 'span.too-long' });
    expect((await today(iris, at(0), at(400 * DAY))).status).toBe(400);
  });
});
