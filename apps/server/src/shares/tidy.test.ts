import { TIDY_KINDS, tidyKind, type TidyKind } from '@quay/core';
import type { ChainAnswer, ShareList, Tidied, TidyPreview } from '@quay/contract';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { trash } from '../_fixtures/acts.js';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';
import { factsOf, sharesById } from './shares.queries.js';

const DAY = 86_400_000;
let office: TestOffice;
let iris: Client;
let tomas: Client;
let rosa: Client;
beforeAll(async () => {
  office = await openOffice();
  [iris, tomas, rosa] = await Promise.all([office.signedIn('iris'), office.signedIn('tomas'), office.signedIn('rosa')]);
});
afterAll(() => office.close());

/** Sessions do not last so long. */
const later = async (days: number) => {
  office.clock.advance(days * DAY);
  [iris, tomas, rosa] = await Promise.all([office.signedIn('iris'), office.signedIn('tomas'), office.signedIn('rosa')]);
};
const at = (days: number) => new Date(office.clock.now() + days * DAY).toISOString();
const put = async (by: Client, name: string, folder = office.roots.projects) =>
  (await by.upload(folder, name, Buffer.from(name))).body.id;
const withdraw = (by: Client, id: string) => by.ask('PATCH', `/api/shares/${id}`, { withdrawn: true });
const visit = async (token: string) => office.client().ask('POST', `/s/${token}/open`, { password: null });
const preview = async (by: Client) => (await by.ask<TidyPreview>('GET', '/api/shares/tidy')).body.kinds;
const tidy = async (by: Client, ...kinds: TidyKind[]) =>
  (await by.ask<Tidied>('POST', '/api/shares/tidy', { kinds })).body;
const listed = async (by: Client) =>
  (await by.ask<ShareList>('GET', '/api/shares?limit=200')).body.shares.map((s) => s.title).sort();

describe('tidying the list', () => {
  it('takes off what is over, of one kind and another, and nothing else; the ledger keeps it', async () => {
    const plan = await put(tomas, 'plan.txt');
    const lost = await put(tomas, 'lost.txt');
    const made = (title: string, part: object = {}, items = [plan]) => office.publish(tomas, items, { title, ...part });
    await made('Open');
    await made('Closed long ago', { window: { opensAt: null, closesAt: at(1) } });
    await made('Closed lately', { window: { opensAt: null, closesAt: at(80) } });
    await withdraw(tomas, (await made('Withdrawn long ago')).id);
    const used = await made('Used up', { visitLimit: 1, window: { opensAt: null, closesAt: at(200) } });
    await visit(used.token);
    const visited = await made('Visited', { window: { opensAt: null, closesAt: at(2) } });
    await visit(visited.token);
    await later(95);
    const broken = { window: { opensAt: null, closesAt: at(30) } };
    await made('Broken', broken, [lost]);
    await made('Broken, files to go', { ...broken, removesFiles: true }, [lost]);
    await made('Still', { window: { opensAt: null, closesAt: at(30) } });
    await withdraw(tomas, (await made('Withdrawn lately')).id);
    await trash(tomas, [lost]);

    expect(await preview(tomas)).toEqual([
      {
        kind: 'closed',
        count: 2,
        titles: expect.arrayContaining(['Closed long ago', 'Visited']),
        isOverForLong: true,
      },
      { kind: 'withdrawn', count: 1, titles: ['Withdrawn long ago'], isOverForLong: true },
      { kind: 'usedUp', count: 1, titles: ['Used up'], isOverForLong: false },
      { kind: 'broken', count: 1, titles: ['Broken'], isOverForLong: false },
    ]);
    // Of others there is nothing to take off, but for whoever runs the server.
    expect(await preview(rosa)).toEqual([]);
    expect(await tidy(rosa, ...TIDY_KINDS)).toEqual({ removed: 0, left: 0 });

    expect(await tidy(tomas, 'closed', 'withdrawn')).toEqual({ removed: 3, left: 0 });
    expect(await listed(tomas)).toEqual(
      ['Broken', 'Broken, files to go', 'Closed lately', 'Open', 'Still', 'Used up', 'Withdrawn lately'].sort(),
    );
    expect(await tidy(iris, 'usedUp', 'broken')).toEqual({ removed: 2, left: 0 });
    expect((await visit(used.token)).status).toBe(404);
    const kept = await office.db.query<{ kind: string }[]>(
      'SELECT kind FROM ledger_entry WHERE share_id = $1 ORDER BY seq',
      [used.id],
    );
    expect([kept[0]?.kind, kept.at(-1)?.kind]).toEqual(['share.published', 'share.tidied']);
    expect((await iris.ask<ChainAnswer>('GET', '/api/ledger/chain')).body.fault).toBeNull();
    // Times of its window that were still to come are told of no more.
    await later(120);
  });

  it('leaves what is from homes of others to them, and those who are inside in peace', async () => {
    const letter = await put(rosa, 'letter.txt', office.roots.rosa);
    const home = await office.publish(rosa, [letter], { title: 'From home' });
    await withdraw(rosa, home.id);
    await later(91);
    expect((await preview(iris)).flatMap((k) => k.titles)).not.toContain('From home');
    await tidy(iris, ...TIDY_KINDS);
    expect(await listed(rosa)).toEqual(['From home']);
    expect(await tidy(rosa, 'withdrawn')).toEqual({ removed: 1, left: 0 });

    const last = await office.publish(iris, [await put(iris, 'last.txt')], {
      ...{ title: 'Last visit', visitLimit: 1, window: { opensAt: null, closesAt: null } },
    });
    await visit(last.token);
    expect(await tidy(iris, 'usedUp')).toEqual({ removed: 0, left: 0 });
    await later(1 / 2);
    expect(await tidy(iris, 'usedUp')).toEqual({ removed: 1, left: 0 });
  });

  it('judges as the rule of the core does', async () => {
    const plan = await put(tomas, 'judged.txt');
    const gone = await put(tomas, 'gone.txt');
    for (const days of [-1, -89.9, -90, -91, 5])
      for (const items of [[plan], [gone]]) {
        const share = await office.publish(tomas, items, { title: `Judged ${days}`, visitLimit: 1 });
        await office.db.query('UPDATE share SET closes_at = $2, removes_files = $3 WHERE id = $1', [
          ...[share.id, at(days), days === 5],
        ]);
      }
    await trash(tomas, [gone]);
    const ids = await office.db.query<{ id: string }[]>(`SELECT id FROM share WHERE title LIKE 'Judged %'`);
    const expected = new Map<string, number>();
    for (const share of await sharesById(
      office.db.manager,
      office.clock.date(),
      ids.map((r) => r.id),
    )) {
      const facts = {
        ...factsOf(share),
        lastVisitAt: share.lastVisitAt?.getTime() ?? null,
        removesFiles: share.removesFiles,
      };
      const kind = tidyKind(facts, office.clock.now());
      if (kind) expected.set(kind, (expected.get(kind) ?? 0) + 1);
    }
    const judged = (await preview(tomas)).map((k) => [k.kind, k.count] as const);
    for (const [kind, count] of expected) expect(new Map(judged).get(kind as TidyKind)).toBeGreaterThanOrEqual(count);
    expect(expected.get('closed')).toBe(4);
  });

  it('asks for a kind', async () => {
    expect((await iris.ask('POST', '/api/shares/tidy', { kinds: [] })).status).toBe(400);
    expect((await iris.ask('POST', '/api/shares/tidy', { kinds: ['open'] })).status).toBe(400);
    expect((await office.client().ask('GET', '/api/shares/tidy')).status).toBe(401);
  });
});
