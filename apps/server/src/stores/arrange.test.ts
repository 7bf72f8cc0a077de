import type { FolderPage, MoveAnswer, NodeInfo, StoreSummary } from '@quay/contract';
import { randomBytes, randomUUID } from 'node:crypto';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { checkInvariants } from '../check/invariants.js';
import { BLOBS } from '../platform/blobs/blob-store.js';
import { openOffice, START, type Client, type TestOffice } from '../_fixtures/office.js';

let office: TestOffice;
let iris: Client;
let tomas: Client;
beforeAll(async () => {
  office = await openOffice();
  [iris, tomas] = await Promise.all([office.signedIn('iris'), office.signedIn('tomas')]);
});
afterAll(async () => {
  // Whatever the tests did: everything that must hold between tables, ledger and disk holds.
  expect((await checkInvariants(office.db, office.app.get(BLOBS), true)).violations).toEqual([]);
  await office.close();
});

const folder = async (by: Client, parent: string, name: string) =>
  (await by.ask<{ id: string }>('POST', `/api/folders/${parent}/folders`, { name })).body.id;
const names = async (by: Client, id: string, query = '') =>
  (await by.ask<FolderPage>('GET', `/api/folders/${id}${query}`)).body.items.map((i) => i.name);
const move = (by: Client, nodeIds: string[], toFolderId: string, ifTaken = 'refuse') =>
  by.ask<MoveAnswer>('POST', '/api/nodes/move', { nodeIds, toFolderId, ifTaken, widens: true });
const used = async (by: Client, name: string) =>
  (await by.ask<StoreSummary[]>('GET', '/api/stores')).body.find((s) => s.name === name)?.usedBytes;

describe('moving', () => {
  it('takes everything along, tells where it came from, and goes back', async () => {
    const [a, b] = [await folder(tomas, office.roots.tomas, 'A'), await folder(tomas, office.roots.tomas, 'B')];
    const inner = await folder(tomas, a, 'Inner');
    await tomas.upload(inner, 'plan.txt', Buffer.from('plan'));
    const { body } = await move(tomas, [inner], b);
    expect(body.moved).toMatchObject([{ id: inner, name: 'Inner', fromFolderId: a }]);
    expect([await names(tomas, a), await names(tomas, b), await names(tomas, inner)]).toEqual([
      [],
      ['Inner'],
      ['plan.txt'],
    ]);
    await move(tomas, [inner], a);
    expect(await names(tomas, a)).toEqual(['Inner']);
  });
  it('onto a taken name: all or nothing, or with a number', async () => {
    const [from, to] = [await folder(tomas, office.roots.tomas, 'From'), await folder(tomas, office.roots.tomas, 'To')];
    const { body: one } = await tomas.upload(from, 'x.txt', Buffer.from('1'));
    const { body: two } = await tomas.upload(from, 'y.txt', Buffer.from('2'));
    await tomas.upload(to, 'X.txt', Buffer.from('3'));
    expect((await move(tomas, [one.id, two.id], to)).body.code).toBe('name.taken');
    expect(await names(tomas, from)).toEqual(['x.txt', 'y.txt']);
    expect((await move(tomas, [one.id, two.id], to, 'keep-both')).body.moved.map((m) => m.name)).toEqual([
      'x (2).txt',
      'y.txt',
    ]);
  });
  it('never into itself or what is inside it', async () => {
    const outer = await folder(tomas, office.roots.tomas, 'Outer');
    const deep = await folder(tomas, await folder(tomas, outer, 'Middle'), 'Deep');
    for (const target of [outer, deep]) expect((await move(tomas, [outer], target)).body.code).toBe('move.into-itself');
    expect((await tomas.ask('POST', '/api/nodes/copy', { nodeIds: [outer], toFolderId: deep })).body.code).toBe(
      'move.into-itself',
    );
  });
  it('two at once, each into the other: one is done, one refused, and nothing is lost', async () => {
    for (let round = 0; round < 6; round += 1) {
      const [a, b] = [
        await folder(tomas, office.roots.tomas, `P${round}`),
        await folder(tomas, office.roots.tomas, `Q${round}`),
      ];
      const answers = await Promise.all([move(tomas, [a], b), move(tomas, [b], a)]);
      expect(answers.map((r) => r.body.code ?? 'done').sort()).toEqual(['done', 'move.into-itself']);
    }
  });
  it('two renames to one name at once: one is done, the other told', async () => {
    const [a, b] = [await folder(tomas, office.roots.tomas, 'Ren 1'), await folder(tomas, office.roots.tomas, 'Ren 2')];
    const answers = await Promise.all([a, b].map((id) => tomas.ask('PATCH', `/api/nodes/${id}`, { name: 'Renamed' })));
    expect(answers.map((r) => r.body.code ?? 'done').sort()).toEqual(['done', 'name.taken']);
  });
  it('two renames of one item at once: the later one holds, and both are in the past', async () => {
    const id = await folder(tomas, office.roots.tomas, 'Twice');
    await Promise.all(['First wish', 'Second wish'].map((name) => tomas.ask('PATCH', `/api/nodes/${id}`, { name })));
    const past = await office.db.query<{ name: string }[]>(
      'SELECT name FROM node_past WHERE node_id = $1 ORDER BY id',
      [id],
    );
    expect(past.map((p) => p.name).sort()).toEqual(['First wish', 'Second wish', 'Twice']);
    expect((await tomas.ask<NodeInfo>('GET', `/api/nodes/${id}`)).body.name).toBe(past.at(-1)?.name);
  });
  it('into the trash while somebody uploads into it: the file is in the folder, in the trash, or refused; never nowhere', async () => {
    for (let round = 0; round < 8; round += 1) {
      const id = await folder(iris, office.roots.projects, `Busy ${round}`);
      const [up] = await Promise.all([
        tomas.upload(id, 'x.bin', randomBytes(20_000)),
        iris.ask('POST', '/api/trash', { nodeIds: [id] }),
      ]);
      if (up.status === 201) {
        await iris.ask('POST', '/api/trash/put-back', { nodeIds: [id] });
        expect(await names(iris, id)).toEqual(['x.bin']);
      } else expect(up.body.code).toBe('node.trashed');
    }
  });
  it('between stores the bytes are counted where they are, and quotas hold', async () => {
    const bytes = randomBytes(50_000);
    const { body: file } = await tomas.upload(office.roots.tomas, 'cross.bin', bytes);
    const before = await used(iris, 'Projects');
    expect((await move(tomas, [file.id], office.roots.projects)).status).toBe(200);
    expect(await used(iris, 'Projects')).toBe((before ?? 0) + 50_000);
    await move(tomas, [file.id], office.roots.tomas);
    expect(await used(iris, 'Projects')).toBe(before);
    await office.db.query(`UPDATE store SET quota_bytes = used_bytes + 49999 WHERE name = 'Projects'`);
    expect((await move(tomas, [file.id], office.roots.projects)).body).toMatchObject({
      code: 'quota.store',
      leftBytes: 49_999,
    });
    await office.db.query('UPDATE store SET quota_bytes = NULL');
  });
  it('needs the right level on both sides', async () => {
    const { body: file } = await iris.upload(office.roots.partners, 'terms.txt', Buffer.from('t'));
    expect((await move(tomas, [file.id], office.roots.tomas)).body.code).toBe('access.level');
    expect((await move(iris, [file.id], office.roots.tomas)).body.code).toBe('not-found');
    expect((await move(iris, [office.roots.projects], office.roots.iris)).body.code).toBe('store.root');
  });
});

describe('copying', () => {
  it('makes everything anew from version 1, costs nothing within a store, and is undone by the trash', async () => {
    const from = await folder(tomas, office.roots.tomas, 'Copy me');
    await tomas.upload(await folder(tomas, from, 'Sub'), 'a.bin', randomBytes(10_000));
    const before = await used(tomas, 'tomas');
    const { body } = await tomas.ask<{ nodeIds: string[] }>('POST', '/api/nodes/copy', {
      nodeIds: [from],
      toFolderId: office.roots.tomas,
    });
    expect(await names(tomas, office.roots.tomas)).toContain('Copy me (2)');
    expect(await used(tomas, 'tomas')).toBe(before);
    const sub = (await tomas.ask<FolderPage>('GET', `/api/folders/${body.nodeIds[0]}`)).body.items[0];
    expect(sub).toMatchObject({ name: 'Sub', itemCount: 1 });
    await tomas.ask('POST', '/api/trash', { nodeIds: body.nodeIds });
    expect(await names(tomas, office.roots.tomas)).not.toContain('Copy me (2)');
  });
});

describe('orders', () => {
  it('names with numbers as people count (UTS #35, collation setting kn), folders first, each way', async () => {
    const id = await folder(tomas, office.roots.tomas, 'Orders');
    for (const name of ['Scan 10', 'scan 9', 'Éboulis', 'Zone']) await folder(tomas, id, name);
    for (const [name, size] of [
      ['b 2.txt', 30],
      ['B 10.txt', 10],
      ['b 1.pdf', 20],
    ] as const)
      await tomas.upload(id, name, randomBytes(size));
    expect(await names(tomas, id)).toEqual(['Éboulis', 'scan 9', 'Scan 10', 'Zone', 'b 1.pdf', 'b 2.txt', 'B 10.txt']);
    // The reference is the ECMAScript collator of another ICU.
    const collator = new Intl.Collator('und', { numeric: true, sensitivity: 'accent' });
    expect(['Zone', 'Scan 10', 'scan 9', 'Éboulis'].sort(collator.compare)).toEqual([
      'Éboulis',
      'scan 9',
      'Scan 10',
      'Zone',
    ]);
    expect((await names(tomas, id, '?descending=true')).slice(4)).toEqual(['B 10.txt', 'b 2.txt', 'b 1.pdf']);
    expect((await names(tomas, id, '?sort=size&descending=true')).slice(4)).toEqual(['b 2.txt', 'b 1.pdf', 'B 10.txt']);
    expect((await names(tomas, id, '?sort=type')).slice(4)).toEqual(['b 1.pdf', 'b 2.txt', 'B 10.txt']);
    expect((await tomas.ask('GET', `/api/folders/${id}?sort=colour`)).status).toBe(400);
  });
  it.each(['name', 'size', 'changed', 'type'])(
    'by %s a long folder comes in pages, each item once, both ways',
    async (sort) => {
      const id = await folder(tomas, office.roots.tomas, `Pages by ${sort}`);
      const storeId = (await tomas.ask<FolderPage>('GET', `/api/folders/${id}`)).body.folder?.storeId;
      await office.db.query(
        `INSERT INTO node (id, store_id, parent_id, kind, name, name_key, created_at, changed_at) SELECT gen_random_uuid(), $1, $2, 'folder', 'N ' || i, 'n ' || i, $3, $3::timestamptz + (i % 7) * interval '1 second' FROM generate_series(1, 1100) i`,
        [storeId, id, new Date(START)],
      );
      for (const descending of [false, true]) {
        const seen: string[] = [];
        for (let after: string | null = ''; after !== null;) {
          const { body }: { body: FolderPage } = await tomas.ask<FolderPage>(
            'GET',
            `/api/folders/${id}?sort=${sort}&descending=${descending}${after ? `&after=${after}` : ''}`,
          );
          seen.push(...body.items.map((i) => i.name));
          after = body.next;
        }
        expect([seen.length, new Set(seen).size]).toEqual([1100, 1100]);
      }
    },
  );
  it('a place that is not known is refused', async () => {
    for (const after of [
      'x',
      Buffer.from('[0,["a","b","c"],"x"]').toString('base64url'),
      Buffer.from(`[2,["a"],"${randomUUID()}"]`).toString('base64url'),
    ])
      expect((await tomas.ask('GET', `/api/folders/${office.roots.tomas}?after=${after}`)).body.code).toBe(
        'after.invalid',
      );
  });
});

describe('folders as deep as 5,000', () => {
  it('from before there was a limit are listed, moved up, trashed, put back and refused as an archive with a clear word; nothing is put there', async () => {
    const elsewhere = await folder(tomas, office.roots.tomas, 'Elsewhere');
    const top = await folder(tomas, elsewhere, 'Deep');
    const storeId = (await tomas.ask<FolderPage>('GET', `/api/folders/${top}`)).body.folder?.storeId;
    const ids = [top, ...Array.from({ length: 5000 }, () => randomUUID())];
    await office.db.query(
      `INSERT INTO node (id, store_id, parent_id, kind, name, name_key, created_at, changed_at) SELECT id, $1, parent, 'folder', 'deep folder', 'deep folder', $2, $2 FROM unnest($3::uuid[], $4::uuid[]) AS t (id, parent)`,
      [storeId, new Date(START), ids.slice(1), ids.slice(0, -1)],
    );
    // What the database does by itself soon after; without it each level is looked for in the whole table.
    await office.db.query('ANALYZE node');
    const bottom = ids.at(-1) as string;
    expect((await tomas.upload(bottom, 'here.txt', Buffer.from('deep'))).body.code).toBe('path.too-deep');
    const inner = { name: 'one more' };
    expect((await tomas.ask('POST', `/api/folders/${bottom}/folders`, inner)).body.code).toBe('path.too-deep');
    expect((await tomas.ask<FolderPage>('GET', `/api/folders/${bottom}`)).body.folder?.path).toHaveLength(5003);
    expect((await move(tomas, [top], await folder(tomas, elsewhere, 'Deeper'))).body.code).toBe('path.too-deep');
    expect((await move(tomas, [top], office.roots.tomas)).status).toBe(200);
    expect((await move(tomas, [top], bottom)).body.code).toBe('move.into-itself');
    await tomas.ask('POST', '/api/trash', { nodeIds: [top] });
    expect((await tomas.ask('GET', `/api/folders/${bottom}`)).body.code).toBe('node.trashed');
    await tomas.ask('POST', '/api/trash/put-back', { nodeIds: [top] });
    expect((await tomas.fetch(`/api/archive?ids=${top}`)).status).toBe(400);
    expect((await tomas.ask('GET', `/api/archive?ids=${top}`)).body.code).toBe('archive.path-too-long');
  });
});

describe('names of all scripts', () => {
  it.each(['😀 point.txt', 'שרטוט 3.txt', '図面 12.txt', 'Zu\u0308rich.txt'])(
    '%s is kept in composed form and found by its twin',
    async (name) => {
      const id = await folder(tomas, office.roots.tomas, `Script ${randomUUID()}`);
      expect((await tomas.upload(id, name, Buffer.from(name))).body.name).toBe(name.normalize('NFC'));
      expect((await tomas.upload(id, name.normalize('NFD'), Buffer.from('twin'))).body.code).toBe('name.taken');
      expect(await names(tomas, id)).toEqual([name.normalize('NFC')]);
    },
  );
});
