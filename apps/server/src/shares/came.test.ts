import type { CameOfIt, ShareSheet } from '@quay/contract';
import { visitName } from '@quay/core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';
import { folder } from '../_fixtures/acts.js';

let office: TestOffice;
let iris: Client;
let tomas: Client;
let rosa: Client;
beforeAll(async () => {
  office = await openOffice();
  [iris, tomas, rosa] = await Promise.all([office.signedIn('iris'), office.signedIn('tomas'), office.signedIn('rosa')]);
});
afterAll(() => office.close());

const put = async (by: Client, name: string, at = office.roots.projects) =>
  (await by.upload(at, name, Buffer.from(name))).body.id;
const came = (by: Client, id: string) => by.ask<CameOfIt>('GET', `/api/shares/${id}/came`);
/** Somebody comes, and takes what is named. */
async function visit(token: string, take: readonly string[], all = false): Promise<void> {
  const visitor = office.client();
  await visitor.ask('POST', `/s/${token}/open`, { password: null });
  for (const id of take) await (await visitor.fetch(`/s/${token}/files/${id}`)).text();
  if (all) await (await visitor.fetch(`/s/${token}/all.zip`)).arrayBuffer();
}

describe('what came of a share', () => {
  it('is who came when, and what each took', async () => {
    const at = await folder(iris, office.roots.projects, 'Came');
    const [plan, notes] = [await put(iris, 'plan.pdf', at), await put(iris, 'notes.txt', at)];
    const share = await office.publish(iris, [at]);
    await visit(share.token, []);
    office.clock.advance(2 * 3_600_000);
    await visit(share.token, [plan]);
    await visit(share.token, [plan, notes], true);
    const { step, edges, bars, files, filesTotal, everything } = (await came(iris, share.id)).body;
    expect([step, edges.length]).toEqual(['hour', 4]);
    expect(bars).toEqual([
      { bar: 0, visits: 1, took: 0 },
      { bar: 2, visits: 2, took: 2 },
    ]);
    expect(files.map((f) => [f.name, f.visits, f.by.length])).toEqual([
      ['plan.pdf', 2, 2],
      ['notes.txt', 1, 1],
    ]);
    expect([filesTotal, everything.visits]).toEqual([2, 1]);
    // As a copy that is marked would name them, and the list of visits does.
    const visits = (await iris.ask<ShareSheet>('GET', `/api/shares/${share.id}`)).body.visits.map((v) =>
      visitName(v.id),
    );
    for (const { who, isKnown } of files.flatMap((f) => f.by)) {
      expect(isKnown).toBe(false);
      expect(visits).toContain(who);
    }
    const table = await (await iris.fetch(`/api/shares/${share.id}/visits.csv`)).text();
    for (const name of visits) expect(table).toContain(name);
  });

  it('names each once who came more than once, and a few of many', async () => {
    const file = await put(iris, 'often.txt');
    const [person] = await office.db.query<[{ id: string; name: string }]>(
      `SELECT id, name FROM person WHERE sign_in_name = 'tomas'`,
    );
    const audience = { kind: 'members', listed: [], blocked: [], members: [{ kind: 'person', id: person.id }] };
    const known = await office.publish(iris, [file], { audience });
    for (let n = 0; n < 2; n += 1) {
      const again = await office.signedIn('tomas');
      await again.ask('POST', `/s/${known.token}/open`, { password: null });
      await (await again.fetch(`/s/${known.token}/files/${file}`)).text();
    }
    const [row] = (await came(iris, known.id)).body.files;
    expect([row?.visits, row?.by]).toEqual([2, [{ who: person.name, isKnown: true }]]);
    const open = await office.publish(iris, [file]);
    for (let n = 0; n < 7; n += 1) await visit(open.token, [file]);
    const [many] = (await came(iris, open.id)).body.files;
    expect([many?.visits, many?.by.length]).toEqual([7, 5]);
  });

  it('is told to whoever published it and to the admin, to nobody else, and not of homes of others', async () => {
    const share = await office.publish(tomas, [await put(tomas, 'mine.txt')]);
    expect((await came(tomas, share.id)).status).toBe(200);
    expect((await came(iris, share.id)).status).toBe(200);
    expect((await came(rosa, share.id)).status).toBe(404);
    expect((await office.client().ask('GET', `/api/shares/${share.id}/came`)).status).toBe(401);
    const home = await office.publish(tomas, [await put(tomas, 'home.txt', office.roots.tomas)]);
    expect((await came(iris, home.id)).body).toMatchObject({ code: 'home.closed' });
    expect((await came(tomas, home.id)).status).toBe(200);
  });

  it('names other shares of the same items: those of whoever asks, or all where they run the server', async () => {
    const file = await put(iris, 'twice.txt');
    const [first, second, theirs] = [
      await office.publish(iris, [file], { title: 'First' }),
      await office.publish(iris, [file], { title: 'Second' }),
      await office.publish(tomas, [file], { title: 'Of Tomas' }),
    ];
    const titles = async (by: Client, id: string) => (await came(by, id)).body.related.map((r) => r.title).sort();
    expect(await titles(iris, first.id)).toEqual(['Of Tomas', 'Second']);
    expect(await titles(tomas, theirs.id)).toEqual([]);
    expect((await came(iris, second.id)).body.related.map((r) => r.state)).toEqual(['open', 'open']);
  });
});
