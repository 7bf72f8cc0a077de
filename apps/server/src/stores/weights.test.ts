import type { FolderPage, ItemTotal, StoreUsage, UsagePart } from '@quay/contract';
import { randomUUID } from 'node:crypto';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { checkRows } from '../check/invariants.js';
import { bringBack, copy, folder, moment, move, purge, putBack, rename, storeOf, trash } from '../_fixtures/acts.js';
import { grantOn, setInherits, setOthersRule } from '../_fixtures/grants.js';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';
import { WeightsService } from './weights.service.js';

let office: TestOffice;
let iris: Client;
let tomas: Client;
let tomasId: string;
let weights: WeightsService;
beforeAll(async () => {
  office = await openOffice();
  [iris, tomas] = await Promise.all([office.signedIn('iris'), office.signedIn('tomas')]);
  weights = office.app.get(WeightsService);
  const [row] = await office.db.query<{ id: string }[]>(`SELECT id FROM person WHERE sign_in_name = 'tomas'`);
  tomasId = row?.id as string;
});
afterAll(() => office.close());

const bytes = (length: number) => Buffer.alloc(length, 'x');
const put = async (by: Client, parent: string, name: string, length: number): Promise<string> =>
  (await by.upload(parent, name, bytes(length))).body.id;
async function weight(by: Client, id: string): Promise<[files: number, bytes: number]> {
  const [total] = (await by.ask<ItemTotal[]>('POST', '/api/sizes', { nodeIds: [id] })).body;
  return [total?.files ?? NaN, total?.sizeBytes ?? NaN];
}
/** What somebody counts who opens folder after folder. */
async function walked(by: Client, id: string): Promise<[files: number, bytes: number]> {
  let [files, sum] = [0, 0];
  const { items } = (await by.ask<FolderPage>('GET', `/api/folders/${id}`)).body;
  for (const item of items) {
    const [f, b] = item.kind === 'file' ? [1, item.sizeBytes] : await walked(by, item.id);
    [files, sum] = [files + f, sum + b];
  }
  return [files, sum];
}
const wrong = async () => (await checkRows(office.db)).filter((v) => v.rule === 'a folder weighs what is in it');
const waiting = async () =>
  Number((await office.db.query<{ n: string }[]>('SELECT count(*) AS n FROM weight_change'))[0]?.n);

describe('what a folder weighs', () => {
  it('is known at once and after it was added up, through everything that happens to files and folders', async () => {
    const top = await folder(iris, office.roots.projects, `Weighed ${randomUUID()}`);
    const below = await folder(iris, top, 'Below');
    const beside = await folder(iris, office.roots.partners, `Beside ${randomUUID()}`);
    const both = async (expected: [number, number], where = top) => {
      expect(await weight(iris, where)).toEqual(expected);
      await weights.addUp();
      expect([await waiting(), await weight(iris, where), await wrong()]).toEqual([0, expected, []]);
    };
    const plan = await put(iris, below, 'plan.bin', 100);
    await put(iris, below, 'notes.txt', 20);
    await both([2, 120]);
    const before = moment(office);
    await put(iris, below, '.DS_Store', 7);
    await both([2, 120]);
    await iris.upload(below, 'plan.bin', bytes(150), '&conflict=version');
    await both([2, 170]);
    const [again] = (await copy(iris, [below], top)).body.nodeIds;
    await both([4, 340]);
    await move(iris, [again as string], beside);
    await both([2, 170]);
    expect(await weight(iris, beside)).toEqual([2, 170]);
    await trash(iris, [plan]);
    await both([1, 20]);
    await trash(iris, [below]);
    await both([0, 0]);
    await putBack(iris, [below]);
    await both([1, 20]);
    await rename(iris, below, '__MACOSX');
    await both([0, 0]);
    await rename(iris, below, 'Below');
    await both([1, 20]);
    await bringBack(iris, below, before);
    await both([2, 120]);
    await trash(iris, [below]);
    await purge(iris, [below]);
    await both([0, 0]);
  });

  it('is right while many write, move and trash, and it is added up meanwhile', async () => {
    const tops = await Promise.all(
      ['a', 'b', 'c'].map((n) => folder(iris, office.roots.projects, `${n} ${randomUUID()}`)),
    );
    const folders = [...tops];
    for (const top of tops) folders.push(await folder(iris, top, 'deep'), await folder(iris, top, 'deeper'));
    const any = <T>(list: readonly T[]): T => list[Math.floor(Math.random() * list.length)] as T;
    let left = 120;
    const person = async () => {
      while (left-- > 0) {
        const dice = Math.random();
        if (dice < 0.5) await put(iris, any(folders), `f${left}.bin`, 1 + (left % 50));
        else if (dice < 0.75) await move(iris, [any(folders.slice(3))], any(folders), 'keep-both');
        else if (dice < 0.9) await trash(iris, [any(folders.slice(3))]);
        else await putBack(iris, [any(folders.slice(3))]);
      }
    };
    const adding = async () => {
      while (left > 0) {
        await weights.addUp();
        expect(await wrong()).toEqual([]);
      }
    };
    await Promise.all([person(), person(), person(), person(), adding()]);
    for (const top of tops) expect(await weight(iris, top)).toEqual(await walked(iris, top));
    await weights.addUp();
    expect([await waiting(), await wrong()]).toEqual([0, []]);
    for (const top of tops) expect(await weight(iris, top)).toEqual(await walked(iris, top));
  });

  it('is not added up while a folder is being moved, or what is in it would go the way that it has left', async () => {
    const [from, to] = [
      await folder(iris, office.roots.projects, `From ${randomUUID()}`),
      await folder(iris, office.roots.projects, `To ${randomUUID()}`),
    ];
    const moving = await folder(iris, from, 'Moving');
    await put(iris, moving, 'in.bin', 30);
    const runner = office.db.createQueryRunner();
    await runner.startTransaction();
    await runner.query('UPDATE node SET parent_id = $2 WHERE id = $1', [moving, to]);
    await weights.addUp();
    expect(await waiting()).toBeGreaterThan(0);
    expect(await weight(iris, from)).toEqual([1, 30]);
    await runner.commitTransaction();
    await runner.release();
    await weights.addUp();
    expect([await weight(iris, from), await weight(iris, to), await wrong()]).toEqual([[0, 0], [1, 30], []]);
  });
});

describe('what fills a store', () => {
  it('is told of three levels of folders with all that is in them, litter too', async () => {
    const home = office.roots.tomas;
    let deep = home;
    for (const [i, name] of ['one', 'two', 'three', 'four', 'five'].entries()) {
      deep = await folder(tomas, deep, name);
      await put(tomas, deep, 'f.bin', 10 ** i);
    }
    await put(tomas, deep, '.DS_Store', 500_000);
    const storeId = await storeOf(tomas, home);
    const usage = async () => (await tomas.ask<StoreUsage>('GET', `/api/stores/${storeId}/usage`)).body.tree;
    const outline = ({ name, bytes, files, children }: UsagePart): unknown[] => [
      name,
      files,
      bytes,
      ...children.map(outline),
    ];
    const expected = [
      'tomas',
      6,
      511_111,
      ['one', 6, 511_111, ['two', 5, 511_110, ['three', 4, 511_100], ['Files here', 1, 10]], ['Files here', 1, 1]],
    ];
    expect(outline(await usage())).toEqual(expected);
    await weights.addUp();
    expect(outline(await usage())).toEqual(expected);
  });

  it('has earlier versions, trash and what is closed apart, and adds up to all that the store refers to', async () => {
    const place = await folder(iris, office.roots.projects, 'Adds up');
    const storeId = await storeOf(iris, place);
    const treeOf = async () => (await iris.ask<StoreUsage>('GET', `/api/stores/${storeId}/usage`)).body.tree;
    const partOf = (of: UsagePart, name: string) => of.children.find((c) => c.name === name);
    const before = await treeOf();
    await put(iris, place, 'twice.bin', 40);
    await iris.upload(place, 'twice.bin', bytes(50), '&conflict=version');
    const lost = await folder(iris, place, 'Lost');
    await put(iris, lost, 'a.bin', 7);
    await trash(iris, [await put(iris, lost, 'b.bin', 8)]);
    await trash(iris, [lost]);
    const shut = await folder(iris, place, 'Not for everybody');
    await put(iris, shut, 'c.bin', 900);
    await setInherits(office.db, office.clock.date(), shut, false);
    const tree = await treeOf();
    const part = (name: string) => ({
      files: (partOf(tree, name)?.files ?? 0) - (partOf(before, name)?.files ?? 0),
      bytes: (partOf(tree, name)?.bytes ?? 0) - (partOf(before, name)?.bytes ?? 0),
    });
    expect([part('Trash').files, part('Trash').bytes]).toEqual([2, 15]);
    expect([part('Earlier versions').files, part('Earlier versions').bytes]).toEqual([1, 40]);
    expect([part('In folders closed to you').files, part('In folders closed to you').bytes]).toEqual([1, 900]);
    const [all] = await office.db.query<{ files: number; bytes: number }[]>(
      `SELECT count(*)::int AS files, sum(v.size_bytes)::int AS bytes
         FROM file_version v JOIN node n ON n.id = v.node_id WHERE n.store_id = $1`,
      [storeId],
    );
    expect({ files: tree.files, bytes: tree.bytes }).toEqual(all);
    await setInherits(office.db, office.clock.date(), shut, true);
  });

  it('shows the heaviest of very many folders, and says how many smaller ones there are', async () => {
    const place = await folder(iris, office.roots.iris, 'Very many');
    const storeId = await storeOf(iris, place);
    await office.db.query(
      `INSERT INTO node (id, store_id, parent_id, kind, name, name_key, created_at, changed_at)
       SELECT gen_random_uuid(), $2, $1, 'folder', 'many ' || i, 'many ' || i, now(), now() FROM generate_series(1, 230) i`,
      [place, storeId],
    );
    const { items } = (await iris.ask<FolderPage>('GET', `/api/folders/${place}`)).body;
    for (const [i, item] of items.slice(0, 3).entries()) await put(iris, item.id, 'f.bin', 100 * (i + 1));
    await put(iris, place, 'beside.bin', 5);
    await weights.addUp();
    const { tree } = (await iris.ask<StoreUsage>('GET', `/api/stores/${storeId}/usage`)).body;
    const many = tree.children.find((c) => c.name === 'Very many');
    expect(many?.children.map((c) => [c.name, c.bytes])).toEqual([
      [items[2]?.name, 300],
      [items[1]?.name, 200],
      [items[0]?.name, 100],
      ['Files here, and 30 smaller folders', 5],
    ]);
  });
});

describe('to somebody who does not see all of it, a folder weighs', () => {
  it('what they could count: nothing that is closed to them, of an intake what they brought', async () => {
    const place = await folder(iris, office.roots.projects, `Partly ${randomUUID()}`);
    const shut = await folder(iris, place, 'Shut');
    const open = await folder(iris, shut, 'Open again');
    const intake = await folder(iris, place, 'Intake');
    await put(iris, place, 'all.bin', 1);
    await put(iris, shut, 'closed.bin', 10);
    await put(iris, open, 'open.bin', 100);
    await put(iris, intake, 'theirs.bin', 1000);
    await setInherits(office.db, office.clock.date(), shut, false);
    await grantOn(office.db, open, tomasId, 'view');
    await setInherits(office.db, office.clock.date(), intake, false);
    await grantOn(office.db, intake, tomasId, 'contribute');
    await setOthersRule(office.db, office.clock.date(), intake, 'nothing');
    const deep = await folder(tomas, intake, 'Mine');
    await put(tomas, intake, 'mine.bin', 10_000);
    await put(tomas, deep, 'mine too.bin', 100_000);
    for (const added of [false, true]) {
      if (added) await weights.addUp();
      expect(await weight(tomas, place)).toEqual([3, 110_001]);
      expect(await weight(tomas, place)).toEqual(await walked(tomas, place));
      expect(await weight(tomas, intake)).toEqual([2, 110_000]);
      expect(await weight(tomas, open)).toEqual([1, 100]);
    }
  });
});
