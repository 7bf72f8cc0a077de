import { actBits, SHARE_STATES, shareFindings, shareState, type ShareState } from '@quay/core';
import type { EntityManager } from 'typeorm';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { folder, move, putBack, purge, trash } from '../_fixtures/acts.js';
import { endGrants, grantOn, setDisabled, setInherits } from '../_fixtures/grants.js';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';
import { bitsIn, folderOf } from '../access/access.queries.js';
import { ensureReach } from '../access/access-reach.js';
import { checkRows } from '../check/invariants.js';
import { Random } from '../demo/random.js';
import { ensureScope, sharesNeeding, stateAt } from './list.queries.js';
import { sharesById } from './shares.queries.js';

let office: TestOffice;
let iris: Client;
let tomas: Client;
beforeAll(async () => {
  office = await openOffice();
  [iris, tomas] = await Promise.all([office.signedIn('iris'), office.signedIn('tomas')]);
});
afterAll(() => office.close());

interface Naive {
  id: string;
  broken: boolean;
}
/** Which shares are broken, found without anything that is kept: by walking up from every item. */
async function naively(m: EntityManager): Promise<Map<string, boolean>> {
  const publishers = await m.query<{ id: string }[]>('SELECT DISTINCT created_by AS id FROM share');
  await ensureReach(
    m,
    publishers.map((p) => p.id),
    office.clock.date(),
  );
  const rows = await m.query<Naive[]>(
    `WITH RECURSIVE up AS (
       SELECT i.share_id, n.parent_id, n.trashed_at FROM share_item i JOIN node n ON n.id = i.node_id
       UNION ALL SELECT up.share_id, n.parent_id, n.trashed_at FROM up JOIN node n ON n.id = up.parent_id
     ), rights AS (
       SELECT i.share_id, bool_and((${bitsIn(folderOf('n'), 's.created_by')} & ${actBits(['publish'])}) <> 0) AS it
         FROM share_item i JOIN share s ON s.id = i.share_id JOIN node n ON n.id = i.node_id GROUP BY i.share_id
     ) SELECT s.id, (SELECT bool_or(up.trashed_at IS NOT NULL) FROM up WHERE up.share_id = s.id)
              OR NOT (rights.it AND 'publish-outside' = ANY(p.duties)) AS broken
         FROM share s JOIN rights ON rights.share_id = s.id JOIN person p ON p.id = s.created_by`,
  );
  return new Map(rows.map((r) => [r.id, r.broken]));
}

/** What the database says of every share, and what core says of what a walk over everything finds. */
async function compareStates(words: string): Promise<void> {
  const m = office.db.manager;
  const at = office.clock.date();
  const broken = await naively(m);
  const records = await sharesById(m, at, [...broken.keys()]);
  const said = await m.query<{ id: string; state: number }[]>(`SELECT s.id, ${stateAt('$1')} AS state FROM share s`, [
    at,
  ]);
  const states = new Map(
    records.map((r) => {
      const window = { opensAt: r.opensAt?.getTime() ?? null, closesAt: r.closesAt?.getTime() ?? null };
      const { visitLimit, visitsUsed } = r;
      const [withdrawnAt, barredAt] = [r.withdrawnAt?.getTime() ?? null, r.barredAt?.getTime() ?? null];
      const facts = { window, visitLimit, visitsUsed, withdrawnAt, barredAt };
      return [r.id, shareState({ ...facts, broken: broken.get(r.id) as boolean }, at.getTime())];
    }),
  );
  expect(new Map(said.map((s) => [s.id, SHARE_STATES[s.state]])), words).toEqual(states);
  const scope = { personId: records[0]?.createdBy as string, all: true, managed: false };
  const open = records.filter((r) => r.homeOwners.every((owner) => owner === scope.personId));
  const found = shareFindings(
    open.map((r) => ({
      id: r.id,
      state: states.get(r.id) as ShareState,
      opensAt: r.opensAt?.getTime() ?? null,
      closesAt: r.closesAt?.getTime() ?? null,
      createdAt: r.createdAt.getTime(),
      lastVisitAt: null,
      barredAt: r.barredAt?.getTime() ?? null,
    })),
    at.getTime(),
  );
  await ensureScope(m, scope, at);
  const needing = await sharesNeeding(m, scope, at, 1000);
  expect(new Set(needing.shares.map((s) => s.id)), words).toEqual(new Set(found.map((f) => f.shareId)));
  expect(needing.count).toBe(found.length);
  expect(await checkRows(office.db)).toEqual([]);
}

describe('what stands against a share', () => {
  it('is what a walk over everything finds, whatever happens to items, folders, grants and people', async () => {
    const seeded = new Random(20_261_127);
    const random = () => seeded.next();
    const pick = <T>(of: readonly T[]): T => of[Math.floor(random() * of.length)] as T;
    const tomasId = (await office.db.query<{ id: string }[]>("SELECT id FROM person WHERE sign_in_name = 'tomas'"))[0]
      ?.id as string;
    const folders = [office.roots.projects];
    for (let i = 0; i < 9; i += 1) folders.push(await folder(iris, pick(folders), `folder ${i}`));
    const files: string[] = [];
    for (let i = 0; i < 12; i += 1)
      files.push((await iris.upload(pick(folders), `file ${i}`, Buffer.from(`${i}`))).body.id);
    const items = [...folders.slice(1), ...files];
    const gone: string[] = [];
    let disabled = false;
    const day = 86_400_000;
    const at = (days: number) => new Date(office.clock.now() + days * day).toISOString();
    const acts: Record<string, () => Promise<unknown>> = {
      publish: () =>
        pick([iris, tomas]).ask('POST', '/api/shares', {
          title: 'Plans',
          nodeIds: [...new Set([pick(items), pick(items)])],
          window: { opensAt: pick([null, at(2)]), closesAt: pick([null, at(3), at(40)]) },
          password: null,
          visitLimit: pick([null, 1]),
        }),
      visit: () =>
        office.db.query(
          'UPDATE share SET visits_used = 1 WHERE id IN (SELECT id FROM share WHERE visits_used = 0 LIMIT 1)',
        ),
      withdraw: async () => {
        const [share] = await office.db.query<{ id: string }[]>(
          'SELECT id FROM share ORDER BY md5(id::text || $1) LIMIT 1',
          [String(random())],
        );
        await iris.ask('PATCH', `/api/shares/${share?.id}`, { withdrawn: random() < 0.5 });
      },
      trash: async () => {
        const item = pick(items);
        if ((await trash(iris, [item])).status < 300) gone.push(item);
      },
      putBack: () => putBack(iris, [pick([...gone, pick(items)])]),
      putElsewhere: () => putBack(iris, [pick([...gone, pick(items)])], pick(folders)),
      purge: () => purge(iris, [pick([...gone, pick(items)])]),
      move: () => move(iris, [pick(items)], pick([...folders, office.roots.iris]), 'keep-both'),
      close: () => setInherits(office.db, office.clock.date(), pick(folders.slice(1)), random() < 0.4),
      grant: () => grantOn(office.db, pick(folders), tomasId, pick(['edit', 'view'] as const)),
      grantFor: () => grantOn(office.db, pick(folders), tomasId, 'edit', { until: new Date(office.clock.now() + day) }),
      end: () => endGrants(office.db, pick(folders.slice(1))),
      duty: () =>
        office.db.query(
          `UPDATE person SET duties = CASE WHEN 'publish-outside' = ANY(duties) THEN array_remove(duties, 'publish-outside')
                                          ELSE array_append(duties, 'publish-outside') END WHERE id = $1`,
          [tomasId],
        ),
      disable: async () => {
        disabled = !disabled;
        await setDisabled(office.db, office.clock.date(), 'tomas', disabled);
      },
    };
    for (let step = 0; step < 120; step += 1) {
      const name = step < 14 ? 'publish' : pick(Object.keys(acts));
      await (acts[name] as () => Promise<unknown>)();
      office.clock.advance(Math.floor(random() * day));
      await compareStates(`step ${step}: ${name}`);
    }
    await setDisabled(office.db, office.clock.date(), 'tomas', false);
    const counts = await office.db.query<{ kind: string }[]>('SELECT DISTINCT kind FROM share_fault');
    expect(counts.length).toBeGreaterThan(0);
  });

  it('is known although a folder above an item went to the trash, or elsewhere, while it was being published', async () => {
    for (let round = 0; round < 15; round += 1) {
      const upper = await folder(iris, office.roots.projects, `upper ${round}`);
      const lower = await folder(iris, upper, 'lower');
      const { id } = (await iris.upload(lower, 'plan.pdf', Buffer.from(`plan ${round}`))).body;
      const asked = {
        title: 'Plans',
        nodeIds: [id],
        window: { opensAt: null, closesAt: null },
        password: null,
        visitLimit: null,
      };
      await Promise.all([
        iris.ask('POST', '/api/shares', asked),
        round % 2 ? trash(iris, [upper]) : move(iris, [lower], office.roots.projects, 'keep-both'),
        iris.ask('POST', '/api/shares', asked),
        round % 3 ? trash(iris, [lower]) : Promise.resolve(),
      ]);
      expect(await checkRows(office.db)).toEqual([]);
    }
  });

  it('is told to a visitor as soon as a folder far above is thrown away, and put back', async () => {
    const upper = await folder(iris, office.roots.projects, 'far above');
    let place = upper;
    for (let depth = 0; depth < 12; depth += 1) place = await folder(iris, place, `level ${depth}`);
    const { id } = (await iris.upload(place, 'deep.txt', Buffer.from('deep'))).body;
    const share = await office.publish(iris, [id]);
    const state = async () =>
      (await office.client().ask<{ state: string }>('GET', `/s/${share.token}/door`)).body.state;
    expect(await state()).toBe('open');
    await trash(iris, [upper]);
    expect(await state()).toBe('broken');
    await putBack(iris, [upper]);
    expect(await state()).toBe('open');
  });
});
