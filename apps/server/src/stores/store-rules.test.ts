import type { NodeInfo } from '@quay/contract';
import { randomBytes } from 'node:crypto';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { copy, folder, move, names, putBack, rename, storeOf, trash, usedBytes } from '../_fixtures/acts.js';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';

let office: TestOffice;
let iris: Client;
let store: string;
beforeAll(async () => {
  office = await openOffice();
  iris = await office.signedIn('iris');
  store = await storeOf(iris, office.roots.projects);
});
afterAll(() => office.close());

const rules = (asked: object) => iris.ask('PATCH', `/api/stores/${store}`, asked);
const file = async (name: string, bytes: Buffer, at = office.roots.partners) =>
  (await iris.upload(at, name, bytes)).body.id;

describe('the rules of a store hold for whatever comes into it', () => {
  it('types and sizes: moved, copied, put back, renamed and brought back as a version', async () => {
    const program = await file('setup.exe', randomBytes(40));
    const large = await file('large.pdf', randomBytes(5000));
    const within = await folder(iris, office.roots.partners, 'Set');
    await file('inner.exe', randomBytes(40), within);
    const old = await file('drawing.pdf', randomBytes(4000), office.roots.projects);
    await iris.upload(office.roots.projects, 'drawing.pdf', randomBytes(10), '&conflict=version');
    const local = await file('note.pdf', randomBytes(10), office.roots.projects);
    await rules({ allowedTypes: ['pdf'], largestFileBytes: 1000 });
    for (const act of [move, copy]) {
      expect((await act(iris, [program], office.roots.projects)).body.code).toBe('type.not-allowed');
      expect((await act(iris, [within], office.roots.projects)).body.code).toBe('type.not-allowed');
      expect((await act(iris, [large], office.roots.projects)).body).toMatchObject({
        code: 'file.too-large',
        detail: expect.stringContaining('large.pdf') as string,
      });
    }
    expect((await rename(iris, local, 'note.exe')).body.code).toBe('type.not-allowed');
    expect((await rename(iris, local, 'letter.pdf')).status).toBe(200);
    expect((await iris.ask('POST', `/api/files/${old}/versions/1/restore`)).body.code).toBe('file.too-large');
    await trash(iris, [program]);
    expect((await putBack(iris, [program], office.roots.projects)).body.code).toBe('type.not-allowed');
    expect((await putBack(iris, [program])).status).toBe(200);
    await rules({ allowedTypes: [], largestFileBytes: null });
  });
  it('the quota, exactly, whatever way bytes come in and however many at once', async () => {
    const one = await file('one.bin', randomBytes(60_000));
    const two = await file('two.bin', randomBytes(60_000));
    await rules({ quotaBytes: (await usedBytes(iris, 'Projects')) + 100_000 });
    const answers = await Promise.all([
      move(iris, [one], office.roots.projects),
      copy(iris, [two], office.roots.projects),
      ...Array.from({ length: 4 }, (_, i) => iris.upload(office.roots.projects, `up ${i}.bin`, randomBytes(60_000))),
    ]);
    expect(answers.filter((a) => a.status < 300)).toHaveLength(1);
    expect(new Set(answers.filter((a) => a.status >= 300).map((a) => a.body.code))).toEqual(new Set(['quota.store']));
    await rules({ quotaBytes: null });
  });
  it('a quota below what is used already adds nothing, and lets everything else go on', async () => {
    const id = await file('over.txt', randomBytes(500), office.roots.projects);
    await rules({ quotaBytes: 1 });
    expect((await iris.upload(office.roots.projects, 'more.txt', randomBytes(5))).body.code).toBe('quota.store');
    expect((await rename(iris, id, 'over it.txt')).status).toBe(200);
    expect((await trash(iris, [id])).status).toBe(200);
    await rules({ quotaBytes: null });
  });
  it('what a file is taken for goes with its name', async () => {
    const id = await file('page.txt', Buffer.from('x'), office.roots.projects);
    await rename(iris, id, 'page.png');
    expect((await iris.ask<NodeInfo>('GET', `/api/nodes/${id}`)).body.mediaType).toBe('image/png');
  });
});

describe('one name at the same moment', () => {
  it('however it is given: one is done, the others are told', async () => {
    for (let round = 0; round < 6; round += 1) {
      const place = await folder(iris, office.roots.projects, `Race ${round}`);
      const [a, b] = [await file('a.txt', Buffer.from('a'), place), await file('b.txt', Buffer.from('b'), place)];
      const outside = await folder(iris, office.roots.projects, `Outside ${round}`);
      const same = await file('same.txt', Buffer.from('s'), outside);
      const answers = await Promise.all([
        rename(iris, a, 'same.txt'),
        rename(iris, b, 'SAME.txt'),
        iris.ask('POST', `/api/folders/${place}/folders`, { name: 'Same.txt' }),
        copy(iris, [same], place),
        move(iris, [same], place),
        iris.upload(place, 'sAme.txt', Buffer.from('up')),
      ]);
      for (const answer of answers) expect([200, 201, 409], JSON.stringify(answer.body)).toContain(answer.status);
      const keys = (await names(iris, place)).map((n) => n.toLowerCase());
      expect(new Set(keys).size).toBe(keys.length);
    }
  });
});

describe('a folder together with what is in it', () => {
  it('is copied and moved once', async () => {
    const from = await folder(iris, office.roots.projects, 'Outer');
    const child = await folder(iris, from, 'Child');
    await file('x.txt', Buffer.from('x'), child);
    const to = await folder(iris, office.roots.projects, 'To');
    expect((await copy(iris, [child, from], to)).body.nodeIds).toHaveLength(1);
    expect(await names(iris, to)).toEqual(['Outer']);
    expect((await move(iris, [from, child], to, 'keep-both')).status).toBe(200);
    expect(await names(iris, to)).toEqual(['Outer', 'Outer (2)']);
    expect(await names(iris, from)).toEqual(['Child']);
  });
});
