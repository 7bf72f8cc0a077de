import type {
  DropPlace,
  FolderPage,
  Outgoing,
  PolicyEffect,
  ShareSheet,
  SharesUsing,
  VisitorDoor,
} from '@quay/contract';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { openOffice, START, type Client, type TestOffice } from '../_fixtures/office.js';
import { LedgerService } from '../ledger/ledger.service.js';
import { OutgoingService } from './outgoing.service.js';
import { listen, until } from '../_fixtures/listening.js';
import { ArchivesService } from '../visits/archives.service.js';

let office: TestOffice;
let iris: Client;
let tomas: Client;
beforeAll(async () => {
  office = await openOffice();
  [iris, tomas] = await Promise.all([office.signedIn('iris'), office.signedIn('tomas')]);
});
afterAll(() => office.close());

const folder = async (name: string, inId = office.roots.projects, by = iris) =>
  (await by.ask<{ id: string }>('POST', `/api/folders/${inId}/folders`, { name })).body.id;
const put = async (inId: string, name: string, text: string, by = iris) =>
  (await by.upload(inId, name, Buffer.from(text), '&conflict=version')).body.id;
const change = (share: { id: string }, items: object, by = iris) =>
  by.ask<ShareSheet>('PATCH', `/api/shares/${share.id}`, { items });
const sheet = async (share: { id: string }) => (await iris.ask<ShareSheet>('GET', `/api/shares/${share.id}`)).body;
const trash = (id: string) => iris.ask('POST', '/api/trash', { nodeIds: [id] });

/** Somebody outside who is in the share. */
async function visiting(token: string) {
  const visitor = office.client();
  const open = await visitor.ask<VisitorDoor>('POST', `/s/${token}/open`, { password: null });
  if (open.status !== 200) throw new Error(`not let in: ${open.body.code}`);
  const files = async () => {
    const { body } = await visitor.ask<VisitorDoor>('GET', `/s/${token}/door`);
    return body.contents?.files ?? [];
  };
  const fetch = (id: string) => visitor.fetch(`/s/${token}/files/${id}`);
  return {
    visitor,
    files,
    paths: async () => (await files()).map((f) => f.path),
    text: async (id: string) => {
      const answer = await fetch(id);
      return answer.status === 200 ? answer.text() : answer.status;
    },
    archive: async () => {
      const answer = await visitor.fetch(`/s/${token}/all.zip`);
      return answer.status === 200 ? Buffer.from(await answer.arrayBuffer()) : Buffer.alloc(0);
    },
  };
}

describe('a share that is out', () => {
  it('goes out empty and is filled; visitors see at once what comes and goes, and the record says it', async () => {
    const share = await office.publish(iris, []);
    expect(share.sentence.map((p) => p.text).join('')).toMatch(/can download what is put in it from now/);
    const inside = await visiting(share.token);
    const live = await listen(inside.visitor, `/s/${share.token}/events`);
    expect(await inside.files()).toEqual([]);
    const plan = await put(office.roots.projects, 'filled later.pdf', 'a plan');
    const before = live.heard.length;
    expect((await change(share, { add: [plan] })).body).toMatchObject({ itemCount: 1, totalBytes: 6, mayAdd: true });
    await until(() => live.heard.length > before);
    expect(await inside.paths()).toEqual(['filled later.pdf']);
    expect(await inside.text(plan)).toBe('a plan');
    expect((await change(share, { takeOff: [plan] })).body.itemCount).toBe(0);
    expect([await inside.files(), await inside.text(plan)]).toEqual([[], 404]);
    await live.stop();
    const words = (await sheet(share)).history.map((h) => h.words);
    expect(words).toEqual([
      'took filled later.pdf off Mill Lane drawings',
      'downloaded filled later.pdf from Mill Lane drawings',
      'put filled later.pdf on Mill Lane drawings',
      'opened Mill Lane drawings',
      'published Mill Lane drawings',
    ]);
  });

  it('is mended by taking off what is gone, and broken by adding nothing that is', async () => {
    const [stays, goes] = [
      await put(office.roots.projects, 'stays.txt', 's'),
      await put(office.roots.projects, 'goes.txt', 'g'),
    ];
    const share = await office.publish(iris, [stays, goes]);
    await trash(goes);
    expect((await sheet(share)).state).toBe('broken');
    expect((await change(share, { takeOff: [goes] })).body.state).toBe('open');
    expect((await change(share, { add: [goes] })).body.code).toBe('node.trashed');
    expect((await sheet(share)).items.map((i) => i.name)).toEqual(['stays.txt']);
  });

  it('changes nothing, and says nothing, when all of it is so already', async () => {
    const plan = await put(office.roots.projects, 'there.txt', 't');
    const share = await office.publish(iris, [plan]);
    expect((await change(share, { add: [plan], takeOff: [office.roots.projects] })).status).toBe(200);
    expect((await sheet(share)).history).toHaveLength(1);
  });

  it('is added to by nobody but whose it is, and only what they may publish', async () => {
    const own = await put(office.roots.tomas, 'of tomas.txt', 't', tomas);
    const share = await office.publish(tomas, [own]);
    const [plan, hers] = [
      await put(office.roots.projects, 'of iris.txt', 'i'),
      await put(office.roots.iris, 'home.txt', 'h'),
    ];
    const mine = await office.publish(iris, [plan]);
    const refused = async (by: Client, of: { id: string }, items: object) => (await change(of, items, by)).body.code;
    // Somebody else's share; a share from a home; the item of a home that is closed to them; a whole store.
    expect(await refused(tomas, mine, { add: [own] })).toBe('not-found');
    expect(await refused(iris, share, { add: [plan] })).toBe('home.closed');
    expect(await refused(tomas, share, { add: [hers] })).toBe('not-found');
    expect(await refused(tomas, share, { add: [office.roots.projects] })).toBe('item.whole-store');
    // The admin takes off what went out from the store, and adds nothing to it: what it serves is what tomas may publish.
    const theirs = await office.publish(tomas, [plan]);
    expect(await refused(iris, theirs, { add: [hers] })).toBe('share.not-yours');
    expect((await change(theirs, { takeOff: [plan] })).body.itemCount).toBe(0);
    expect((await sheet(theirs)).mayAdd).toBe(false);
  });

  it('has two hundred items at the most', async () => {
    const share = await office.publish(iris, []);
    const inId = await folder('Many items');
    const ids: string[] = [];
    // Some at a time: a slow machine has no connection to the database for two hundred at once.
    while (ids.length < 201)
      ids.push(...(await Promise.all([0, 1, 2].map((n) => put(inId, `${ids.length + n}.txt`, `${ids.length + n}`)))));
    expect((await change(share, { add: ids.slice(0, 150) })).body.itemCount).toBe(150);
    const refused = await change(share, { add: ids.slice(150) });
    expect([refused.status, refused.body.code, refused.body.errors?.[0]?.field]).toEqual([
      400,
      'share.too-many-items',
      'items.add',
    ]);
    // What goes makes room for what comes.
    expect((await change(share, { add: ids.slice(150), takeOff: ids.slice(0, 1) })).body.itemCount).toBe(200);
  });

  it('stops an archive that is being sent when something that is in it is taken off, not when something is added', async () => {
    const [one, two] = [
      await put(office.roots.projects, 'one.txt', '1'),
      await put(office.roots.projects, 'two.txt', '2'),
    ];
    const share = await office.publish(iris, [one]);
    const inside = await visiting(share.token);
    const visitor = {
      ...{ token: share.token, session: null, fromAddress: '127.0.0.1', agent: '' },
      cookie: /quay_visit=([^;]+)/.exec(inside.visitor.cookieHeader(`/s/${share.token}/door`))?.[1] ?? null,
    };
    const { going } = await office.app.get(ArchivesService).archive(visitor, {});
    await change(share, { add: [two] });
    expect((await going.decide()).may).toBe(true);
    await change(share, { takeOff: [one] });
    expect((await going.decide()).may).toBe(false);
  });

  it('says of its items in which other shares they are, as far as whoever asks may know', async () => {
    const [plan, home] = [
      await put(office.roots.projects, 'used.txt', 'u'),
      await put(office.roots.tomas, 'mine.txt', 'm', tomas),
    ];
    const first = await office.publish(iris, [plan], { title: 'First' });
    const second = await office.publish(tomas, [plan, home], { title: 'Second' });
    await iris.ask('PATCH', `/api/shares/${(await office.publish(iris, [plan], { title: 'Over' })).id}`, {
      withdrawn: true,
    });
    const using = async (by: Client, nodeIds: string[]) =>
      (await by.ask<SharesUsing>('POST', '/api/shares/using', { nodeIds })).body;
    expect((await using(tomas, [plan]))[plan]?.map((s) => s.title).sort()).toEqual(['First', 'Second']);
    // One from a home is its owner's alone.
    expect((await using(iris, [plan, home]))[plan]).toEqual([{ id: first.id, title: 'First', state: 'open' }]);
    expect(await using(iris, [home])).toEqual({});
    expect(second.itemCount).toBe(2);
  });
});

describe('a frozen item', () => {
  it('is served as it was: its bytes, its names and what was in it', async () => {
    const inId = await folder('Frozen');
    const below = await folder('Details', inId);
    const [plan, gone] = [await put(inId, 'plan.txt', 'first'), await put(below, 'moved.txt', 'moved')];
    const live = await put(office.roots.projects, 'Live.txt', 'live');
    const share = await office.publish(iris, [live], { frozenIds: [inId] });
    expect(share.sentence.map((p) => p.text).join('')).toContain(
      '2 items (14 B), 1 of them frozen as of now, from now',
    );
    expect(share.items.map((i) => [i.name, i.frozenAt !== null, i.sizeBytes])).toEqual([
      ['Live.txt', false, 4],
      ['Frozen', true, 10],
    ]);
    const inside = await visiting(share.token);
    const then = ['Frozen/Details/moved.txt', 'Frozen/plan.txt', 'Live.txt'];
    expect(await inside.paths()).toEqual(then);
    const before = await inside.archive();
    expect(before.toString('latin1')).toContain('Frozen/Details/moved.txt');
    await put(inId, 'plan.txt', 'second, longer');
    await put(inId, 'added.txt', 'added');
    await iris.ask('PATCH', `/api/nodes/${plan}`, { name: 'renamed.txt' });
    await iris.ask('POST', '/api/nodes/move', { nodeIds: [gone], toFolderId: office.roots.projects });
    expect(await inside.paths()).toEqual(then);
    expect([await inside.text(plan), await inside.text(gone)]).toEqual(['first', 'moved']);
    expect((await inside.archive()).equals(before)).toBe(true);
    expect(
      (await inside.visitor.fetch(`/s/${share.token}/files/${plan}`)).headers.get('content-disposition'),
    ).toContain('plan.txt');
    await put(office.roots.projects, 'Live.txt', 'as it is');
    expect(await inside.text(live)).toBe('as it is');
  });

  it('loses what is in the trash, or what its publisher may not publish any more, and nothing else', async () => {
    const inId = await folder('Partly');
    const below = await folder('Closed', inId);
    const [a, b, c] = [await put(inId, 'a.txt', 'a'), await put(inId, 'b.txt', 'b'), await put(below, 'c.txt', 'c')];
    const share = await office.publish(tomas, [], { frozenIds: [inId] });
    const inside = await visiting(share.token);
    expect(await inside.paths()).toEqual(['Partly/a.txt', 'Partly/b.txt', 'Partly/Closed/c.txt']);
    await trash(a);
    await iris.ask('PATCH', `/api/folders/${below}/access`, { inherits: false, beginsWith: 'me' });
    expect(await inside.paths()).toEqual(['Partly/b.txt']);
    expect([await inside.text(a), await inside.text(b), await inside.text(c)]).toEqual([404, 'b', 404]);
    await iris.ask('POST', '/api/trash/put-back', { nodeIds: [a] });
    expect(await inside.text(a)).toBe('a');
    await trash(inId);
    expect((await sheet(share)).state).toBe('broken');
    expect(await inside.text(b)).toBe(410);
  });

  it('keeps its versions from every policy and from being removed for good, until the share is over', async () => {
    const inId = await folder('Versions');
    const plan = await put(inId, 'plan.txt', '0');
    const share = await office.publish(iris, [], { frozenIds: [inId] });
    const store = (await iris.ask<FolderPage>('GET', `/api/folders/${inId}`)).body.folder?.storeId as string;
    const numbers = async () =>
      (await iris.ask<{ versions: { number: number }[] }>('GET', `/api/files/${plan}/versions`)).body.versions.map(
        (v) => v.number,
      );
    expect((await iris.ask('PATCH', `/api/stores/${store}`, { versionsKept: 2 })).status).toBe(204);
    for (let n = 1; n < 6; n += 1) await put(inId, 'plan.txt', String(n));
    expect(await numbers()).toEqual([6, 5, 1]);
    expect(
      (await iris.ask<PolicyEffect>('GET', `/api/stores/${store}/policy-effect?versionsKept=2`)).body.versions,
    ).toBe(0);
    expect(await (await visiting(share.token)).text(plan)).toBe('0');
    await trash(plan);
    const purged = await iris.ask<{ kept: { why: string }[] }>('POST', '/api/trash/purge', { nodeIds: [plan] });
    expect(purged.body.kept[0]?.why).toContain('still needs it');
    await iris.ask('POST', '/api/trash/put-back', { nodeIds: [plan] });
    await iris.ask('PATCH', `/api/shares/${share.id}`, { withdrawn: true });
    await put(inId, 'plan.txt', '6');
    expect(await numbers()).toEqual([7, 6]);
    expect((await iris.ask('PATCH', `/api/stores/${store}`, { versionsKept: 32 })).status).toBe(204);
  });

  it('is not another item of the share too, nor lies in one', async () => {
    const inId = await folder('Outer');
    const inner = await put(inId, 'inner.txt', 'i');
    const asked = { title: 'Twice', window: { opensAt: null, closesAt: null }, password: null, visitLimit: null };
    const code = async (nodeIds: string[], frozenIds: string[]) =>
      (await iris.ask('POST', '/api/shares', { ...asked, nodeIds, frozenIds })).body.code;
    expect(await code([inner], [inId])).toBe('item.within-frozen');
    expect(await code([inId], [inner])).toBe('item.within-frozen');
    const share = await office.publish(iris, [inId]);
    expect((await change(share, { addFrozen: [inner] })).body.code).toBe('item.within-frozen');
    expect((await sheet(share)).itemCount).toBe(1);
    // What was live is frozen by taking it off and putting it on in one step.
    const frozen = await change(share, { takeOff: [inId], addFrozen: [inId] });
    expect(frozen.body.items.map((i) => [i.name, i.frozenAt !== null])).toEqual([['Outer', true]]);
  });
});

describe('files that are dropped on the slip', () => {
  const place = async (name: string, by = tomas) => (await by.ask<DropPlace>('POST', '/api/outgoing', { name })).body;
  const state = async (by = tomas) => (await by.ask<Outgoing>('GET', '/api/outgoing')).body;

  it('lie in a folder of their own in the home, as many as fit into it', async () => {
    // One that somebody made before is theirs, and stays it.
    await folder('Outgoing', office.roots.tomas, tomas);
    expect(await state()).toEqual({ hasHome: true, usedBytes: 0, limitBytes: 20e9, clearAfterDays: 30 });
    const [first, second] = [await place('Site photographs'), await place('Site photographs')];
    expect([first.name, second.name]).toEqual(['Site photographs', 'Site photographs (2)']);
    const home = (await tomas.ask<FolderPage>('GET', `/api/folders/${office.roots.tomas}`)).body.items.map(
      (i) => i.name,
    );
    expect(home.filter((name) => name.startsWith('Outgoing'))).toEqual(['Outgoing', 'Outgoing (2)']);
    await office.db.query('UPDATE outgoing SET limit_bytes = 100');
    await put(first.id, 'a.bin', 'x'.repeat(60), tomas);
    expect((await state()).usedBytes).toBe(60);
    const refused = await tomas.upload(second.id, 'b.bin', Buffer.alloc(60));
    expect([refused.status, refused.body.code, refused.body['leftBytes']]).toEqual([507, 'quota.outgoing', 40]);
    // Beside it there is no such limit.
    expect((await tomas.upload(office.roots.tomas, 'b.bin', Buffer.alloc(160))).status).toBe(201);
    await office.db.query('UPDATE outgoing SET limit_bytes = 20000000000');
    expect((await iris.ask('GET', `/api/folders/${first.id}`)).status).toBe(404);
  });

  it('go to the trash when no share has needed them for thirty days', async () => {
    const [shared, alone, frozen] = [await place('Shared'), await place('Alone'), await place('Frozen one')];
    for (const { id } of [shared, alone, frozen]) await put(id, 'file.txt', 'f', tomas);
    const days = 86_400_000;
    const closesAt = new Date(office.clock.now() + 40 * days).toISOString();
    await office.publish(tomas, [shared.id], { window: { opensAt: null, closesAt } });
    await office.publish(tomas, [], { frozenIds: [frozen.id], window: { opensAt: null, closesAt: null } });
    const kept = async () => {
      await office.app.get(OutgoingService).clear();
      const rows = await office.db.query<{ name: string }[]>(
        'SELECT name FROM node WHERE id = ANY($1) AND trashed_at IS NULL ORDER BY name',
        [[shared.id, alone.id, frozen.id]],
      );
      return rows.map((row) => row.name);
    };
    office.clock.advance(29 * days);
    expect(await kept()).toEqual(['Alone', 'Frozen one', 'Shared']);
    office.clock.advance(2 * days);
    expect(await kept()).toEqual(['Frozen one', 'Shared']);
    office.clock.advance(38 * days);
    expect(await kept()).toEqual(['Frozen one', 'Shared']);
    office.clock.advance(2 * days);
    expect(await kept()).toEqual(['Frozen one']);
    const { entries } = await office.app.get(LedgerService).page({ limit: 20 });
    expect(entries.find((e) => e.words === 'moved Shared to the trash')?.who).toBe('The rule of Outgoing');
  });

  it('are told of while they arrive, to those who are in', async () => {
    office.clock.at = START;
    tomas = await office.signedIn('tomas');
    const drop = await place('Film');
    const share = await office.publish(tomas, [drop.id]);
    const inside = await visiting(share.token);
    const begun = await tomas.fetch('/api/uploads', {
      method: 'POST',
      headers: {
        'tus-resumable': '1.0.0',
        'upload-length': '10',
        'upload-metadata': `folderId ${btoa(drop.id)},name ${btoa('film.mp4')}`,
      },
    });
    expect(begun.status).toBe(201);
    const upload = new URL(begun.headers.get('location') ?? '', office.origin).pathname;
    const send = (offset: number, bytes: string) =>
      tomas.fetch(upload, {
        method: 'PATCH',
        headers: {
          ...{ 'tus-resumable': '1.0.0', 'upload-offset': String(offset) },
          'content-type': 'application/offset+octet-stream',
        },
        body: bytes,
      });
    expect((await send(0, 'abcd')).status).toBe(204);
    const arriving = async () =>
      (await inside.visitor.ask<VisitorDoor>('GET', `/s/${share.token}/door`)).body.contents?.arriving;
    expect(await arriving()).toEqual([{ name: 'film.mp4', sizeBytes: 10, arrivedBytes: 4 }]);
    // Somebody in another share is told nothing of it.
    const other = await visiting((await office.publish(tomas, [(await place('Other')).id])).token);
    expect(await other.files()).toEqual([]);
    expect((await send(4, 'efghij')).status).toBe(204);
    expect(await arriving()).toEqual([]);
    expect(await inside.paths()).toEqual(['Film/film.mp4']);
  });
});
