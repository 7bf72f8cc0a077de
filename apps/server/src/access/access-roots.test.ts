import { randomUUID } from 'node:crypto';
import { DataSource, type EntityManager } from 'typeorm';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { openOffice, type TestOffice } from '../_fixtures/office.js';
import { checkRows } from '../check/invariants.js';
import { LOCKS } from '../platform/locks.js';

let office: TestOffice;
let root: string;
beforeAll(async () => {
  office = await openOffice();
  root = office.roots.projects;
});
afterAll(() => office.close());

const addFolder = async (m: EntityManager | DataSource, parent: string): Promise<string> => {
  const id = randomUUID();
  await m.query(
    `INSERT INTO node (id, store_id, parent_id, kind, name, name_key, created_at, changed_at)
      SELECT $1, store_id, id, 'folder', $3, $3, now(), now() FROM node WHERE id = $2`,
    [id, parent, id],
  );
  return id;
};
const addGrant = async (m: EntityManager | DataSource, folder: string): Promise<string> => {
  const id = randomUUID();
  await m.query(
    `INSERT INTO access_grant (id, node_id, subject_kind, level, since) VALUES ($1, $2, 'staff', 'view', $3)`,
    [id, folder, new Date(0)],
  );
  return id;
};
const endGrant = (m: EntityManager | DataSource, id: string) =>
  m.query('UPDATE access_grant SET ended_at = now() WHERE id = $1 AND ended_at IS NULL', [id]);
const setInherits = (m: EntityManager | DataSource, folder: string, inherits: boolean) =>
  m.query('UPDATE node SET inherits = $2 WHERE id = $1', [folder, inherits]);
const moveTo = (m: EntityManager | DataSource, folder: string, target: string) =>
  m.query('UPDATE node SET parent_id = $2 WHERE id = $1', [folder, target]);

/** The folder that a folder has its access from. */
const rootOf = async (folder: string): Promise<string | undefined> =>
  (
    await office.db.query<{ root: string }[]>(
      'SELECT r.folder_id AS root FROM folder_access a JOIN access_root r ON r.id = a.root WHERE a.folder_id = $1',
      [folder],
    )
  )[0]?.root;

describe('the root of a folder', () => {
  it('is the nearest folder where something stands that access depends on', async () => {
    const top = await addFolder(office.db, root);
    const middle = await addFolder(office.db, top);
    const low = await addFolder(office.db, middle);
    const all = async () => Promise.all([top, middle, low].map(rootOf));
    expect(await all()).toEqual([root, root, root]);
    const grant = await addGrant(office.db, middle);
    expect(await all()).toEqual([root, middle, middle]);
    await setInherits(office.db, top, false);
    expect(await all()).toEqual([top, middle, middle]);
    await endGrant(office.db, grant);
    expect(await all()).toEqual([top, top, top]);
    await office.db.query(`UPDATE node SET others_rule = 'see' WHERE id = $1`, [low]);
    expect(await all()).toEqual([top, top, low]);
    await setInherits(office.db, top, true);
    expect(await all()).toEqual([root, root, low]);
    await office.db.query(`UPDATE node SET others_rule = NULL WHERE id = $1`, [low]);
    expect(await all()).toEqual([root, root, root]);
  });
  it('goes with a folder that moves, and is that of the place it moves to', async () => {
    const [from, to] = [await addFolder(office.db, root), await addFolder(office.db, root)];
    const moving = await addFolder(office.db, from);
    const [plain, granted] = [await addFolder(office.db, moving), await addFolder(office.db, moving)];
    const below = await addFolder(office.db, granted);
    await addGrant(office.db, granted);
    await addGrant(office.db, from);
    await addGrant(office.db, to);
    await moveTo(office.db, moving, to);
    expect(await Promise.all([moving, plain, granted, below].map(rootOf))).toEqual([to, to, granted, granted]);
  });
  it('of folders that are written in one statement, children first, is there all the same', async () => {
    const [parent, child] = [randomUUID(), randomUUID()];
    await office.db.query(
      `INSERT INTO node (id, store_id, parent_id, kind, name, name_key, created_at, changed_at)
        SELECT t.id, n.store_id, t.parent, 'folder', t.id::text, t.id::text, now(), now() FROM node n, unnest($1::uuid[], $2::uuid[]) AS t (id, parent) WHERE n.id = $3`,
      [[child, parent], [parent, root], root],
    );
    expect(await Promise.all([parent, child].map(rootOf))).toEqual([root, root]);
  });
  it('a folder that is added while a stop above it is being made has the new one', async () => {
    const top = await addFolder(office.db, root);
    let added: Promise<string> | undefined;
    await office.db.transaction(async (tx) => {
      await setInherits(tx, top, false);
      added = addFolder(office.db, top);
      expect(await Promise.race([added, new Promise((r) => setTimeout(() => r('waits'), 200))])).toBe('waits');
    });
    expect(await rootOf((await added) as string)).toBe(top);
  });
});

describe('grants', () => {
  it('are never changed and never removed: they end, once', async () => {
    const grant = await addGrant(office.db, await addFolder(office.db, root));
    await expect(office.db.query(`UPDATE access_grant SET level = 'manage' WHERE id = $1`, [grant])).rejects.toThrow(
      'never changed',
    );
    await expect(office.db.query('DELETE FROM access_grant WHERE id = $1', [grant])).rejects.toThrow('never removed');
    await endGrant(office.db, grant);
    await expect(office.db.query('UPDATE access_grant SET ended_at = NULL WHERE id = $1', [grant])).rejects.toThrow(
      'never changed',
    );
  });
  it('stand on folders alone', async () => {
    const { body } = await (await office.signedIn('iris')).upload(root, 'plan.txt', Buffer.from('plan'));
    await expect(addGrant(office.db, body.id)).rejects.toThrow('grants stand on folders');
  });
});

describe('inserts, moves, stops and grants at once', () => {
  it('leave every folder with the root that a walk over everything finds', async () => {
    const folders = [root];
    const grants: string[] = [];
    const any = <T>(of: T[]): T => of[Math.floor(Math.random() * of.length)] as T;
    // Each stays open for a moment after what it did, so that the others come in between.
    const slowly = <T>(work: (tx: EntityManager) => Promise<T>, lock?: number): Promise<T> =>
      office.db.transaction(async (tx) => {
        if (lock !== undefined) await tx.query('SELECT pg_advisory_xact_lock($1)', [lock]);
        const done = await work(tx);
        await tx.query('SELECT pg_sleep(0.004)');
        return done;
      });
    const add = async () => folders.push(await slowly((tx) => addFolder(tx, any(folders))));
    const acts: (() => Promise<unknown>)[] = [
      add,
      add,
      async () => grants.push(await slowly((tx) => addGrant(tx, any(folders)), LOCKS.access)),
      () => slowly(async (tx) => grants.length && endGrant(tx, any(grants)), LOCKS.access),
      () => slowly((tx) => setInherits(tx, any(folders), Math.random() < 0.5), LOCKS.access),
      () =>
        slowly(async (tx) => {
          const [moving, target] = [any(folders.slice(1)), any(folders)];
          const [inside] = await tx.query<{ inside: boolean }[]>(
            `WITH RECURSIVE up AS (SELECT id, parent_id FROM node WHERE id = $1 UNION ALL SELECT n.id, n.parent_id FROM up JOIN node n ON n.id = up.parent_id)
              SELECT EXISTS (SELECT 1 FROM up WHERE id = $2) AS inside`,
            [target, moving],
          );
          if (moving && !inside?.inside) await moveTo(tx, moving, target);
        }, LOCKS.access),
    ];
    await add();
    await Promise.all(
      Array.from({ length: 6 }, async () => {
        for (let n = 0; n < 60; n += 1) await any(acts)();
      }),
    );
    expect(await checkRows(office.db)).toEqual([]);
    const [{ roots }] = await office.db.query<[{ roots: number }]>('SELECT count(*)::int AS roots FROM access_root');
    expect(roots).toBeGreaterThan(5);
  });
});
