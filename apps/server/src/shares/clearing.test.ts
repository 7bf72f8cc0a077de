import type { FilesStay, ShareSheet } from '@quay/contract';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';
import { grantOn } from '../_fixtures/grants.js';
import { ClearingService } from './clearing.service.js';

const DAY = 86_400_000;
let office: TestOffice;
let iris: Client;
let tomas: Client;
const again = async () => {
  [iris, tomas] = await Promise.all([office.signedIn('iris'), office.signedIn('tomas')]);
};
beforeAll(async () => {
  office = await openOffice();
  await again();
});
afterAll(() => office.close());

const put = async (name: string, inId = office.roots.projects, by = iris) =>
  (await by.upload(inId, name, Buffer.from(name))).body.id;
const days = (n: number) => ({ opensAt: null, closesAt: new Date(office.clock.now() + n * DAY).toISOString() });
const going = (by: Client, nodeIds: string[], n: number, part: object = {}) =>
  office.publish(by, nodeIds, { window: days(n), removesFiles: true, ...part });
const clear = () => office.app.get(ClearingService).clear();
const live = async (id: string) => {
  const rows = await office.db.query<unknown[]>('SELECT 1 FROM node WHERE id = $1 AND trashed_at IS NULL', [id]);
  return rows.length > 0;
};
const pass = async (n: number) => {
  office.clock.advance(n * DAY);
  await clear();
  await again();
};
const history = async (id: string) =>
  (await iris.ask<ShareSheet>('GET', `/api/shares/${id}`)).body.history.map((h) => h.words);

describe('files that go when a share closes', () => {
  it('go to the trash then, not before, and the record says why', async () => {
    const plan = await put('plan.pdf');
    const share = await going(iris, [plan], 2);
    expect(share.sentence.map((p) => p.text).join('')).toMatch(/; then the files go to the trash\.$/);
    await pass(1);
    expect(await live(plan)).toBe(true);
    await pass(1);
    expect(await live(plan)).toBe(false);
    expect(await history(share.id)).toContain('moved plan.pdf to the trash: Mill Lane drawings has closed');
    // Brought back and extended: when it closes once more, it goes once more.
    await iris.ask('POST', '/api/trash/put-back', { nodeIds: [plan] });
    await pass(1);
    expect(await live(plan)).toBe(true);
    await iris.ask('PATCH', `/api/shares/${share.id}`, { window: days(1) });
    await pass(1);
    expect(await live(plan)).toBe(false);
  });

  it('go with the last share that needs them, which is told before', async () => {
    const folder = (
      await iris.ask<{ id: string }>('POST', `/api/folders/${office.roots.projects}/folders`, { name: 'Pack' })
    ).body.id;
    const [plan, alone] = [await put('needed.pdf', folder), await put('alone.pdf')];
    await office.publish(iris, [folder], { title: 'Tender pack 3', window: days(5) });
    const stays = async (by: Client) =>
      (await by.ask<FilesStay>('POST', '/api/shares/stays', { nodeIds: [plan, alone] })).body;
    expect(await stays(iris)).toEqual({ [plan]: [{ title: 'Tender pack 3', closesAt: days(5).closesAt }] });
    await going(iris, [plan, alone], 2);
    await pass(3);
    expect([await live(plan), await live(alone)]).toEqual([true, false]);
    await pass(3);
    expect([await live(plan), await live(folder)]).toEqual([false, true]);
  });

  it('stay while the share is withdrawn, or was extended meanwhile', async () => {
    const [withdrawn, extended] = [await put('withdrawn.pdf'), await put('extended.pdf')];
    const first = await going(iris, [withdrawn], 1);
    const second = await going(iris, [extended], 1);
    await iris.ask('PATCH', `/api/shares/${first.id}`, { withdrawn: true });
    await iris.ask('PATCH', `/api/shares/${second.id}`, { window: days(9) });
    await pass(2);
    expect([await live(withdrawn), await live(extended)]).toEqual([true, true]);
  });

  it('are only what its publisher may remove: then, and when it closes', async () => {
    const theirs = await put('of partners.pdf', office.roots.partners);
    const tomasId = (await tomas.ask<{ id: string }>('GET', '/api/session')).body.id;
    await grantOn(office.db, office.roots.partners, tomasId, 'edit');
    const share = await going(tomas, [theirs], 1);
    const grants = await office.db.query<{ id: string }[]>(
      'SELECT id FROM access_grant WHERE node_id = $1 AND person_id = $2',
      [office.roots.partners, tomasId],
    );
    for (const { id } of grants) await iris.ask('DELETE', `/api/grants/${id}`);
    await pass(2);
    expect(await live(theirs)).toBe(true);
    expect(await history(share.id)).toContain(
      'left of partners.pdf where it is: whoever published Mill Lane drawings may not remove it any more',
    );
  });

  it('need an end', async () => {
    const plan = await put('no end.pdf');
    const asked = { title: 'No end', nodeIds: [plan], password: null, visitLimit: null, removesFiles: true };
    const refused = await iris.ask('POST', '/api/shares', { ...asked, window: { opensAt: null, closesAt: null } });
    expect([refused.status, refused.body.code, refused.body.errors?.[0]?.field]).toEqual([
      400,
      'share.no-end',
      'removesFiles',
    ]);
    const share = await going(iris, [plan], 1);
    const change = await iris.ask('PATCH', `/api/shares/${share.id}`, { window: { opensAt: null, closesAt: null } });
    expect(change.body.code).toBe('share.no-end');
  });
});
