import { MAY_DOWNLOAD, type ShareMay } from '@quay/core';
import type { ChainAnswer, NodeShares, ProblemBody, ShareList, ShareSheet, VisitorDoor } from '@quay/contract';
import { execFileSync } from 'node:child_process';
import { randomUUID } from 'node:crypto';
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest';
import { folder, storeOf } from '../_fixtures/acts.js';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';
import { regrant, setDisabled } from '../_fixtures/grants.js';
import { Events } from '../platform/events/events.js';
import { Takings } from './takings.service.js';

let office: TestOffice;
let iris: Client;
let tomas: Client;
let rosa: Client;
beforeAll(async () => {
  office = await openOffice();
  [iris, tomas, rosa] = await Promise.all([office.signedIn('iris'), office.signedIn('tomas'), office.signedIn('rosa')]);
});
afterAll(() => office.close());

const open = (visitor: Client, token: string, password: string | null = null) =>
  visitor.ask<VisitorDoor>('POST', `/s/${token}/open`, { password });
const text = async (by: Client, at: string, name: string, words: string) =>
  (await by.upload(at, name, Buffer.from(words))).body.id;
const change = (by: Client, id: string, part: object) => by.ask<ShareSheet>('PATCH', `/api/shares/${id}`, part);
/** The facts about a share are remembered for two seconds at the most. */
const forgotten = () => new Promise((resolve) => setTimeout(resolve, 2100));
const ledger = (kind: string, shareId: string) =>
  office.db.query<{ node_id: string | null; detail: Record<string, unknown> }[]>(
    'SELECT node_id, detail FROM ledger_entry WHERE kind = $1 AND share_id = $2 ORDER BY seq',
    [kind, shareId],
  );

describe('a password that is changed while an opening is being checked', () => {
  it('lets nobody in by the old one', async () => {
    const id = await text(iris, office.roots.projects, 'guarded.txt', 'x');
    const words = (n: number) => `heron-gravel-${n}-silent-oar`;
    const share = await office.publish(iris, [id], { password: words(0) });
    for (let round = 0; round < 12; round += 1) {
      const visitor = office.client();
      const [, opened] = await Promise.all([
        change(iris, share.id, { password: words(round + 1) }),
        open(visitor, share.token, words(round)),
      ]);
      expect([200, 401]).toContain(opened.status);
      // Let in before the change: then the change has ended that visit.
      expect((await visitor.fetch(`/s/${share.token}/files/${id}`)).status).toBe(401);
      office.clock.advance(60_000);
    }
  });
});

describe('what a share serves', () => {
  it('is what its publisher may publish now', async () => {
    const id = await text(tomas, office.roots.projects, 'offer.txt', 'x');
    const share = await office.publish(tomas, [id]);
    const visitor = office.client();
    expect((await open(visitor, share.token)).status).toBe(200);
    expect(await regrant(office.db, office.roots.projects, 'view')).toBeGreaterThan(0);
    await forgotten();
    expect((await visitor.ask('GET', `/s/${share.token}/files/${id}`)).body.code).toBe('share.broken');
    expect((await open(office.client(), share.token)).body.code).toBe('share.broken');
    expect((await iris.ask<ShareList>('GET', '/api/shares')).body.shares.find((s) => s.id === share.id)?.state).toBe(
      'broken',
    );
    await regrant(office.db, office.roots.projects, 'edit');
    await forgotten();
    expect((await open(office.client(), share.token)).status).toBe(200);
    await setDisabled(office.db, office.clock.date(), 'tomas', true);
    await forgotten();
    expect((await open(office.client(), share.token)).body.code).toBe('share.broken');
    await setDisabled(office.db, office.clock.date(), 'tomas', false);
  });
  it('from a home is nobody else’s to see, link or open, the admin included, who may put an end to it', async () => {
    const id = await text(rosa, office.roots.rosa, 'letter.txt', 'private');
    const share = await office.publish(rosa, [id], { title: 'My letter', password: 'heron-gravel-silent-oar' });
    const row = (await iris.ask<ShareList>('GET', '/api/shares')).body.shares.find((s) => s.id === share.id);
    expect(row).toMatchObject({ closed: true, title: 'From the home of Rosa Quill', itemCount: 0, totalBytes: 0 });
    expect((await iris.ask('GET', `/api/shares/${share.id}`)).body.code).toBe('home.closed');
    for (const part of [
      { password: null },
      { title: 'x' },
      { visitLimit: 3 },
      { withdrawn: true, password: null },
      { withdrawn: false },
    ])
      expect((await change(iris, share.id, part)).body.code).toBe('home.closed');
    const address = (await office.db.query<{ id: string }[]>('SELECT id FROM address'))[0]?.id;
    const links = (
      await iris.ask<{ shareId: string; link: string | null; title: string }[]>(
        'GET',
        `/api/reach/addresses/${address}/links`,
      )
    ).body;
    expect(links.find((l) => l.shareId === share.id)).toMatchObject({ link: null, title: "From somebody's home" });
    const ended = await change(iris, share.id, { withdrawn: true });
    expect([ended.status, JSON.stringify(ended.body).includes('My letter')]).toEqual([200, false]);
    expect((await open(office.client(), share.token, 'heron-gravel-silent-oar')).body.code).toBe('share.withdrawn');
    expect((await rosa.ask<ShareSheet>('GET', `/api/shares/${share.id}`)).body.title).toBe('My letter');
  });
});

describe('what is taken', () => {
  it('counts when bytes go out: not for HEAD, an unchanged copy or a range beyond the end', async () => {
    const id = await text(iris, office.roots.projects, 'counted.txt', 'counted');
    const share = await office.publish(iris, [id]);
    const visitor = office.client();
    await open(visitor, share.token);
    const at = `/s/${share.token}/files/${id}`;
    const { headers } = await visitor.fetch(at, { method: 'HEAD' });
    const etag = headers.get('etag') as string;
    expect((await visitor.fetch(at, { headers: { 'if-none-match': etag } })).status).toBe(304);
    expect((await visitor.fetch(at, { headers: { range: 'bytes=900-' } })).status).toBe(416);
    expect(await ledger('share.downloaded', share.id)).toEqual([]);
    await (await visitor.fetch(at)).text();
    await (await visitor.fetch(at, { headers: { range: 'bytes=0-2' } })).text();
    expect(await ledger('share.downloaded', share.id)).toHaveLength(1);
  });
  it('by many at once is written down once for each, together, and one that cannot be keeps nobody else', async () => {
    const ids = await Promise.all(['x', 'y', 'z'].map((n) => text(iris, office.roots.projects, `many ${n}.txt`, n)));
    const share = await office.publish(iris, ids);
    const visitors = await Promise.all(
      Array.from({ length: 12 }, async () => {
        const visitor = office.client();
        await open(visitor, share.token);
        return visitor;
      }),
    );
    const takings = office.app.get(Takings);
    const change = vi.spyOn(office.app.get(Events), 'change');
    const taken = visitors.flatMap((v) => [...ids, ...ids].map((id) => v.fetch(`/s/${share.token}/files/${id}`)));
    const stranger = takings.note({
      visitId: randomUUID(),
      share: { id: share.id, title: 'Many', createdBy: randomUUID(), may: { fileLimit: null } },
      what: { file: { id: ids[0] as string, name: 'x' } },
    });
    const told = Promise.all([Promise.all(taken), stranger.catch((error: Error) => error.message)]);
    const [answers, refused] = await told;
    expect(new Set(answers.map((a) => a.status))).toEqual(new Set([200]));
    expect(refused).toContain('visit_file_visit_id_fkey');
    expect(await ledger('share.downloaded', share.id)).toHaveLength(36);
    expect(change.mock.calls.length).toBeLessThan(36);
    change.mockRestore();
    expect((await iris.ask<ChainAnswer>('GET', '/api/ledger/chain')).body.fault).toBeNull();
  });
  it('as one archive is everything in it, and each file knows when it was taken', async () => {
    const inner = await folder(iris, office.roots.projects, 'Taken');
    const [a, b] = [await text(iris, inner, 'a.txt', 'a'), await text(iris, inner, 'b.txt', 'b')];
    const other = await text(iris, office.roots.projects, 'other.txt', 'o');
    const share = await office.publish(iris, [inner, other]);
    const visitor = office.client();
    await open(visitor, share.token);
    await visitor.fetch(`/s/${share.token}/all.zip`, { method: 'HEAD' });
    expect(await ledger('share.downloaded', share.id)).toEqual([]);
    office.clock.advance(1000);
    await (await visitor.fetch(`/s/${share.token}/all.zip`)).arrayBuffer();
    expect(await ledger('share.downloaded', share.id)).toMatchObject([{ node_id: null, detail: { files: 3 } }]);
    for (const id of [a, b, other])
      expect(
        (await iris.ask<NodeShares>('GET', `/api/shares/of/${id}`)).body.find((s) => s.id === share.id)?.lastTakenAt,
      ).toBe(office.clock.date().toISOString());
    office.clock.advance(1000);
    const later = await text(iris, inner, 'later.txt', 'l');
    expect(
      (await iris.ask<NodeShares>('GET', `/api/shares/of/${later}`)).body.find((s) => s.id === share.id)?.lastTakenAt,
    ).toBeNull();
    expect((await iris.ask<ShareSheet>('GET', `/api/shares/${share.id}`)).body.visits[0]).toMatchObject({
      archive: true,
      files: 0,
    });
  });
});

describe('a visit counts when its page can be shown', () => {
  it('what lies too deep for an archive is named, and uses up nothing by itself', async () => {
    const top = await folder(iris, office.roots.projects, 'Deep share');
    const storeId = await storeOf(iris, top);
    const ids = [top, ...Array.from({ length: 400 }, () => randomUUID())];
    await office.db.query(
      `INSERT INTO node (id, store_id, parent_id, kind, name, name_key, created_at, changed_at) SELECT id, $1, parent, 'folder', 'a deep folder', 'a deep folder', $2, $2 FROM unnest($3::uuid[], $4::uuid[]) AS t (id, parent)`,
      [storeId, office.clock.date(), ids.slice(1), ids.slice(0, -1)],
    );
    await text(iris, top, 'near.txt', 'near');
    const share = await office.publish(iris, [top], { visitLimit: 3 });
    const visitor = office.client();
    const { status, body } = await open(visitor, share.token);
    expect([status, body.contents?.files.map((f) => f.path)]).toEqual([200, ['Deep share/near.txt']]);
    expect(body.contents).toMatchObject({
      archiveBytes: null,
      notAll: { code: 'archive.path-too-long', words: expect.stringContaining('a deep folder') as string },
    });
    expect((await visitor.ask('GET', `/s/${share.token}/all.zip`)).body.code).toBe('archive.path-too-long');
    expect((await visitor.ask<VisitorDoor>('GET', `/s/${share.token}/door`)).body.visitsLeft).toBe(2);
  });
});

describe('one archive of what bears the same name', () => {
  it('keeps folders apart and loses nothing (Info-ZIP lists and tests it)', async () => {
    const [x, y] = [await folder(iris, office.roots.projects, 'X'), await folder(iris, office.roots.projects, 'Y')];
    const [one, two] = [await folder(iris, x, 'Photos'), await folder(iris, y, 'photos')];
    await text(iris, one, 'a.txt', 'first');
    await text(iris, two, 'a.txt', 'second');
    await text(iris, two, 'b.txt', 'third');
    const third = await folder(iris, await folder(iris, office.roots.projects, 'Z'), 'V');
    const file = await text(iris, third, 'Photos', 'a file of that name');
    const share = await office.publish(iris, [one, two, file]);
    const visitor = office.client();
    const { body } = await open(visitor, share.token);
    const expected = ['Photos/a.txt', 'photos (2)/a.txt', 'photos (2)/b.txt', 'Photos (3)'];
    expect(new Set(body.contents?.files.map((f) => f.path))).toEqual(new Set(expected));
    const out = mkdtempSync(join(tmpdir(), 'same-'));
    writeFileSync(
      join(out, 'all.zip'),
      Buffer.from(await (await visitor.fetch(`/s/${share.token}/all.zip`)).arrayBuffer()),
    );
    execFileSync('unzip', ['-q', 'all.zip'], { cwd: out });
    const read = (path: string) => execFileSync('cat', [join(out, path)]).toString();
    expect(expected.map(read)).toEqual(['first', 'second', 'third', 'a file of that name']);
    rmSync(out, { recursive: true });
  });
});

describe('a file that so many visits may take', () => {
  const limited = (fileLimit: number | null, part: Partial<ShareMay> = {}) => ({
    may: { ...MAY_DOWNLOAD, ...part, fileLimit },
  });
  const inside = async (token: string) => {
    const visitor = office.client();
    const { body } = await open(visitor, token);
    return { visitor, body, take: (what: string, init?: RequestInit) => visitor.fetch(`/s/${token}/${what}`, init) };
  };
  const codeOf = async (answer: Response) => [answer.status, ((await answer.json()) as ProblemBody).code];

  it('is given to as many, also when all come at once; to those again as often as they like', async () => {
    const id = await text(iris, office.roots.projects, 'thrice.txt', 'x');
    const share = await office.publish(iris, [id], limited(3));
    expect(share.sentence.map((p) => p.text).join('')).toContain('each file in at most 3 visits');
    const visits = await Promise.all(Array.from({ length: 9 }, () => inside(share.token)));
    // What carries no bytes is no taking.
    for (const { take } of visits) expect((await take(`files/${id}`, { method: 'HEAD' })).status).toBe(200);
    const answers = await Promise.all(visits.map(({ take }) => take(`files/${id}`)));
    const got = answers.map((a) => a.status);
    expect(got.filter((status) => status === 200)).toHaveLength(3);
    expect(got.filter((status) => status === 410)).toHaveLength(6);
    expect(await ledger('share.downloaded', share.id)).toHaveLength(3);
    const [first, last] = [visits[got.indexOf(200)], visits[got.indexOf(410)]];
    expect((await first?.take(`files/${id}`))?.status).toBe(200);
    expect(await codeOf((await last?.take(`files/${id}`)) as Response)).toEqual([410, 'share.spent']);
    const listed = async (visit: typeof first) =>
      ((await (await visit?.take('door'))?.json()) as VisitorDoor).contents?.files.map((f) => [f.handing, f.isSpent]);
    expect([await listed(first), await listed(last)]).toEqual([[['plain', false]], [['withheld', true]]]);
    // More are allowed: they are there at once.
    await change(iris, share.id, limited(4));
    expect((await last?.take(`files/${id}`))?.status).toBe(200);
  });

  it('counts in an archive as by itself, and is left out of one that comes too late', async () => {
    const at = await folder(iris, office.roots.projects, 'Limited');
    const [one, two] = [await text(iris, at, 'one.txt', '1'), await text(iris, at, 'two.txt', '2')];
    const share = await office.publish(iris, [at], limited(1));
    const [first, second, third] = [await inside(share.token), await inside(share.token), await inside(share.token)];
    expect((await first.take(`files/${one}`)).status).toBe(200);
    const names = async ({ take }: typeof first) => {
      const out = mkdtempSync(join(tmpdir(), 'limited-'));
      writeFileSync(join(out, 'all.zip'), Buffer.from(await (await take('all.zip')).arrayBuffer()));
      const listed = execFileSync('unzip', ['-Z1', join(out, 'all.zip')], { encoding: 'utf8' });
      rmSync(out, { recursive: true });
      return listed;
    };
    const taken = await names(second);
    expect(taken).toContain('two.txt');
    expect(taken).not.toContain('one.txt');
    expect(await codeOf(await third.take(`files/${two}`))).toEqual([410, 'share.spent']);
    expect((await third.take(`files/${two}/text`)).status).toBe(410);
  });

  it('that is read as text is taken by it', async () => {
    const id = await text(iris, office.roots.projects, 'read.txt', 'read');
    const share = await office.publish(iris, [id], limited(1));
    const [first, second] = [await inside(share.token), await inside(share.token)];
    expect((await first.take(`files/${id}/text`)).status).toBe(200);
    expect((await second.take(`files/${id}/text`)).status).toBe(410);
    expect((await second.take(`files/${id}`)).status).toBe(410);
  });

  it('is told by a whole number', async () => {
    const answer = await iris.ask<ProblemBody>(
      'PATCH',
      `/api/shares/${(await office.publish(iris, [])).id}`,
      limited(0),
    );
    expect(answer.body.errors?.[0]?.detail).toBe('How often a file may be taken is a whole number from 1 to 100,000.');
  });
});
