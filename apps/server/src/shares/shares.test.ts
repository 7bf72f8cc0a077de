import type { ShareList, ShareSheet } from '@quay/contract';
import { randomUUID } from 'node:crypto';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';

const DAY = 86_400_000;
let office: TestOffice;
let iris: Client;
let tomas: Client;
let plan = '';
beforeAll(async () => {
  office = await openOffice();
  [iris, tomas] = await Promise.all([office.signedIn('iris'), office.signedIn('tomas')]);
  plan = (await iris.upload(office.roots.projects, 'plan.pdf', Buffer.from('a plan'))).body.id;
});
afterAll(() => office.close());

const at = (ms: number) => new Date(office.clock.now() + ms).toISOString();
const ask = (part: object, by = iris) =>
  by.ask<ShareSheet>('POST', '/api/shares', {
    title: 'Plans',
    nodeIds: [plan],
    window: { opensAt: null, closesAt: at(DAY) },
    password: null,
    visitLimit: null,
    ...part,
  });

describe('publishing', () => {
  it('gives the link, the sentence, and a warning that the address works only inside', async () => {
    const { body } = await ask({ password: 'gravel-heron-silent-oar', visitLimit: 10 });
    expect(body.link).toMatch(new RegExp(`^${office.origin}/s/[0-9A-Za-z]{22}$`));
    expect(body.sentence.map((p) => p.text).join('')).toBe(
      'Anyone with the link and the password can download 1 item (6 B) from now until Wed 25 Nov, 10:00, at most 10 visits.',
    );
    expect(body.portability).toContain('private');
  });
  it('keeps neither the link nor the password readable in the database', async () => {
    const { body } = await ask({ password: 'gravel-heron-silent-oar' });
    const token = body.link.split('/s/')[1] as string;
    const rows = JSON.stringify(
      await office.db.query(
        "SELECT encode(token_sealed, 'escape') AS sealed, encode(token_hash, 'escape') AS hash, password_hash, title FROM share WHERE id = $1",
        [body.id],
      ),
    );
    expect(rows).toContain('$argon2id$v=19$m=19456,t=2,p=1$');
    expect(rows).not.toContain(token);
    expect(rows).not.toContain('gravel');
  });
  it.each([
    [
      'a window that closes before it opens',
      () => ({ window: { opensAt: at(2 * DAY), closesAt: at(DAY) } }),
      'window.closes-before-opens',
      'window.closesAt',
    ],
    [
      'a window that is over',
      () => ({ window: { opensAt: null, closesAt: at(-1) } }),
      'window.closes-in-the-past',
      'window.closesAt',
    ],
    [
      'a window of a hundred years',
      () => ({ window: { opensAt: null, closesAt: at(36_500 * DAY) } }),
      'window.too-far',
      'window.closesAt',
    ],
    [
      'a window that is no time',
      () => ({ window: { opensAt: 'soon', closesAt: null } }),
      'window.opensAt.iso-date',
      'window.opensAt',
    ],
    ['a visit limit of 0', () => ({ visitLimit: 0 }), 'visitLimit.min', 'visitLimit'],
    ['a visit limit of 1e9', () => ({ visitLimit: 1e9 }), 'visitLimit.max', 'visitLimit'],
    ['a visit limit of 1.5', () => ({ visitLimit: 1.5 }), 'visitLimit.integer', 'visitLimit'],
    ['a weak password', () => ({ password: 'password1' }), 'password.weak', 'password'],
    ['a password of 201 characters', () => ({ password: 'x'.repeat(201) }), 'password.max', 'password'],
    ['the same item twice', () => ({ nodeIds: [plan, plan] }), 'nodeIds.unique', 'nodeIds.1'],
    ['no title', () => ({ title: '  ' }), 'title.empty', 'title'],
    ['a whole store', () => ({ nodeIds: [office.roots.projects] }), 'item.whole-store', 'nodeIds'],
    ['something unknown', () => ({ colour: 'blue' }), 'colour.unknown', 'colour'],
  ])('%s is refused by field and code, and nothing is published', async (_, part, code, field) => {
    const before = (await iris.ask<ShareList>('GET', '/api/shares')).body.shares.length;
    const answer = await ask(part());
    expect([answer.status, answer.body.code, answer.body.errors?.[0]?.field]).toEqual([400, code, field]);
    expect((await iris.ask<ShareList>('GET', '/api/shares')).body.shares).toHaveLength(before);
  });
  it('a weak password that is meant is kept, and that is recorded', async () => {
    expect((await ask({ password: 'password1', weakPasswordMeant: true })).status).toBe(201);
    const [entry] = await office.db.query<[{ detail: object }]>(
      "SELECT detail FROM ledger_entry WHERE kind = 'share.published' ORDER BY seq DESC LIMIT 1",
    );
    expect(entry.detail).toMatchObject({ weakPasswordMeant: true });
  });
  it('the same file published and put into the trash at once: either it is refused, or the share is broken; never in between', async () => {
    for (let round = 0; round < 8; round += 1) {
      const { body: file } = await iris.upload(office.roots.projects, `race ${round}.txt`, Buffer.from('x'));
      const [published, trashed] = await Promise.all([
        ask({ nodeIds: [file.id] }),
        iris.ask('POST', '/api/trash', { nodeIds: [file.id] }),
      ]);
      expect(trashed.status).toBe(200);
      if (published.status === 201)
        expect((await iris.ask<ShareSheet>('GET', `/api/shares/${published.body.id}`)).body.state).toBe('broken');
      else expect(published.body.code).toBe('node.trashed');
    }
  });
});

describe('changing', () => {
  it('changes what is named and leaves the rest', async () => {
    const { body } = await ask({ visitLimit: 5, message: 'Hello' });
    const changed = (await iris.ask<ShareSheet>('PATCH', `/api/shares/${body.id}`, { title: 'New title' })).body;
    expect(changed).toMatchObject({
      title: 'New title',
      message: 'Hello',
      visitLimit: 5,
      closesAt: body.closesAt,
      link: body.link,
    });
  });
  it('writes down what was done, in words', async () => {
    const { body } = await ask({});
    const patch = (part: object) => iris.ask('PATCH', `/api/shares/${body.id}`, part);
    await patch({ window: { opensAt: null, closesAt: at(8 * DAY) } });
    await patch({ visitLimit: 3, title: 'Better plans' });
    await patch({ withdrawn: true });
    await patch({ withdrawn: false });
    const { history } = (await iris.ask<ShareSheet>('GET', `/api/shares/${body.id}`)).body;
    expect(history.map((h) => h.words)).toEqual([
      'opened Better plans again',
      'withdrew Better plans',
      'changed Better plans: title “Better plans” instead of “Plans”; at most 3 visits instead of any number of visits',
      'extended Plans to Wed 2 Dec, 10:00',
      'published Plans',
    ]);
  });
  it('refuses an empty change and a window that is over', async () => {
    const { body } = await ask({});
    expect((await iris.ask('PATCH', `/api/shares/${body.id}`, {})).status).toBe(400);
    expect(
      (await iris.ask('PATCH', `/api/shares/${body.id}`, { window: { opensAt: null, closesAt: at(-DAY) } })).body.code,
    ).toBe('window.closes-in-the-past');
  });
});

describe('who may', () => {
  it('staff see and change their own shares, the admin all', async () => {
    const mine = (await ask({}, tomas)).body;
    const hers = (await ask({})).body;
    expect((await tomas.ask<ShareList>('GET', '/api/shares')).body.shares.map((s) => s.id)).toEqual([mine.id]);
    expect((await tomas.ask('GET', `/api/shares/${hers.id}`)).status).toBe(404);
    expect((await tomas.ask('PATCH', `/api/shares/${hers.id}`, { withdrawn: true })).status).toBe(404);
    expect((await iris.ask('PATCH', `/api/shares/${mine.id}`, { withdrawn: true })).status).toBe(200);
    expect((await iris.ask('GET', `/api/shares/${randomUUID()}`)).status).toBe(404);
  });
  it('marks and effects are told only of items within reach', async () => {
    const { body: file } = await tomas.upload(office.roots.tomas, 'mine.txt', Buffer.from('x'));
    await ask({ nodeIds: [file.id] }, tomas);
    expect((await tomas.ask('POST', '/api/shares/marks', { nodeIds: [file.id] })).body).toEqual({ [file.id]: 'open' });
    expect((await iris.ask('POST', '/api/shares/marks', { nodeIds: [file.id] })).status).toBe(404);
    expect((await tomas.ask('POST', '/api/shares/affected', { nodeIds: [file.id] })).body).toMatchObject([
      { title: 'Plans' },
    ]);
  });
});
