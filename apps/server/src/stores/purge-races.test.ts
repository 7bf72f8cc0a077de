import { randomBytes } from 'node:crypto';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { bringBack, folder, moment, move, purge, putBack, storeOf, trash } from '../_fixtures/acts.js';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';
import { checkInvariants } from '../check/invariants.js';
import { BLOBS } from '../platform/blobs/blob-store.js';
import { PurgeService } from './purge.service.js';
import { VersionsService } from './versions.service.js';

let office: TestOffice;
let tomas: Client;
let iris: Client;
beforeAll(async () => {
  office = await openOffice();
  [tomas, iris] = await Promise.all([office.signedIn('tomas'), office.signedIn('iris')]);
});
afterAll(() => office.close());

const whole = async () => (await checkInvariants(office.db, office.app.get(BLOBS), false)).violations;

describe('what is removed for good and brought back at the same moment', () => {
  it('is there with its bytes or gone, never a ghost', async () => {
    for (let round = 0; round < 25; round += 1) {
      const place = await folder(tomas, office.roots.tomas, `Round ${round}`);
      const inner = await folder(tomas, place, 'Inner');
      const { id } = (await tomas.upload(inner, 'plan.txt', randomBytes(30))).body;
      const at = moment(office);
      await trash(tomas, round % 2 ? [id] : [inner]);
      const gone = round % 2 ? [id] : [inner];
      await Promise.all([
        purge(tomas, gone),
        bringBack(tomas, place, at),
        round % 3 ? putBack(tomas, gone) : bringBack(tomas, inner, at),
        round % 5 ? move(tomas, [id], place) : null,
      ]);
      const ghosts = await office.db.query<object[]>(
        'SELECT 1 FROM node WHERE purged_at IS NOT NULL AND trashed_at IS NULL',
      );
      expect(ghosts).toEqual([]);
    }
    expect(await whole()).toEqual([]);
  });
  it('a ghost cannot be made, and one from before is found by ./quay check', async () => {
    const { id } = (await tomas.upload(office.roots.tomas, 'ghost.txt', randomBytes(30))).body;
    await trash(tomas, [id]);
    await purge(tomas, [id]);
    await expect(office.db.query('UPDATE node SET trashed_at = NULL WHERE id = $1', [id])).rejects.toThrow(
      'node_purged_is_trashed',
    );
    await office.db.query('ALTER TABLE node DISABLE TRIGGER node_remembers');
    await office.db.query('ALTER TABLE node DROP CONSTRAINT node_purged_is_trashed');
    await office.db.query('UPDATE node SET trashed_at = NULL WHERE id = $1', [id]);
    expect(await whole()).toMatchObject([{ rule: 'what was removed for good is not shown' }]);
    await office.db.query('UPDATE node SET trashed_at = purged_at WHERE id = $1', [id]);
    await office.db.query(
      'ALTER TABLE node ADD CONSTRAINT node_purged_is_trashed CHECK (purged_at IS NULL OR (parent_id IS NOT NULL AND trashed_at IS NOT NULL))',
    );
    await office.db.query('ALTER TABLE node ENABLE TRIGGER node_remembers');
  });
  it('a folder that moves on after something in it was purged, and a limit below its use, are fine', async () => {
    const place = await folder(tomas, office.roots.tomas, 'Moves on');
    const { id } = (await tomas.upload(place, 'x.txt', randomBytes(30))).body;
    await trash(tomas, [id]);
    await purge(tomas, [id]);
    await move(tomas, [place], office.roots.projects);
    const kept = (await tomas.upload(place, 'shared.txt', randomBytes(30))).body.id;
    const share = await office.publish(tomas, [kept], { visitLimit: 5 });
    for (let n = 0; n < 3; n += 1) await office.client().ask('POST', `/s/${share.token}/open`, { password: null });
    expect((await tomas.ask('PATCH', `/api/shares/${share.id}`, { visitLimit: 1 })).status).toBe(200);
    expect(await whole()).toEqual([]);
  });
});

describe('the upkeep of what is old', () => {
  it('goes on past what is held, however much that is', async () => {
    const place = await folder(tomas, office.roots.tomas, 'Held');
    const storeId = await storeOf(tomas, place);
    await office.db.query(
      `INSERT INTO node (id, store_id, parent_id, kind, name, name_key, created_at, changed_at, trashed_at) SELECT gen_random_uuid(), $1, $2, 'folder', 'h ' || i, 'h ' || i, $3, $3, $3 FROM generate_series(1, 520) i`,
      [storeId, place, office.clock.date()],
    );
    // Each holds a version that is kept for ever.
    const { id } = (await tomas.upload(place, 'kept.txt', randomBytes(30))).body;
    await tomas.ask('PATCH', `/api/files/${id}/versions/1`, { kept: true });
    await office.db.query(
      `INSERT INTO node (id, store_id, parent_id, kind, name, name_key, size_bytes, version_id, created_at, changed_at)
       SELECT gen_random_uuid(), n.store_id, n.id, 'file', 'k', 'k', 30, gen_random_uuid(), $2, $2 FROM node n WHERE n.parent_id = $1 AND n.trashed_at IS NOT NULL`.replace(
        'INSERT',
        'WITH made AS (INSERT',
      ) +
        ` RETURNING id, version_id) INSERT INTO file_version (id, node_id, number, sha256, size_bytes, modified_at, created_at, kept) SELECT version_id, made.id, 1, (SELECT sha256 FROM file_version WHERE node_id = $3), 30, $2, $2, true FROM made`,
      [place, office.clock.date(), id],
    );
    office.clock.advance(1000);
    const last = await folder(tomas, place, 'Nobody needs this');
    await trash(tomas, [last]);
    office.clock.advance(100 * 86_400_000);
    await office.app.get(PurgeService).purgeByAge();
    const [row] = await office.db.query<{ purged: boolean }[]>(
      'SELECT purged_at IS NOT NULL AS purged FROM node WHERE id = $1',
      [last],
    );
    expect(row?.purged).toBe(true);
  });
  it('thins versions without taking one that was just marked to be kept', async () => {
    iris = await office.signedIn('iris');
    const place = await folder(iris, office.roots.iris, 'Versions');
    const store = await storeOf(iris, place);
    await iris.ask('PATCH', `/api/stores/${store}`, { thinAfterDays: 10 });
    const ids: string[] = [];
    for (let n = 0; n < 4; n += 1) {
      const { id } = (await iris.upload(place, `v ${n}.txt`, randomBytes(20))).body;
      for (let v = 0; v < 3; v += 1) await iris.upload(place, `v ${n}.txt`, randomBytes(20), '&conflict=version');
      ids.push(id);
    }
    office.clock.advance(30 * 86_400_000);
    iris = await office.signedIn('iris');
    await Promise.all([
      office.app.get(VersionsService).thinAll(),
      ...ids.map((id) => iris.ask('PATCH', `/api/files/${id}/versions/2`, { kept: true })),
    ]);
    for (const id of ids) {
      const { versions } = (
        await iris.ask<{ versions: { number: number; kept: boolean }[] }>('GET', `/api/files/${id}/versions`)
      ).body;
      // Told that it is kept means that it is there; when thinning was first, the mark was refused.
      const second = versions.find((v) => v.number === 2);
      if (second) expect(second.kept).toBe(true);
      expect(versions.map((v) => v.number)).toContain(4);
    }
    expect(await whole()).toEqual([]);
  });
});
