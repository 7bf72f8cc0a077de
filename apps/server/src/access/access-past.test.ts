import type { Explanation, FolderPage } from '@quay/contract';
import { ACCESS_LEVELS, OTHERS_RULES } from '@quay/core';
import { randomUUID } from 'node:crypto';
import { afterAll, beforeAll, expect, it } from 'vitest';
import { folder, move } from '../_fixtures/acts.js';
import { endGrants, grantOn, setDisabled, setInherits, setOthersRule } from '../_fixtures/grants.js';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';

// What somebody could do at a moment, as it is told afterwards, is what they could do then: snapshots are taken at each
// moment by looking, and compared when everything has changed again and again.

let office: TestOffice;
let iris: Client;
const people: { name: string; id: string }[] = [];

beforeAll(async () => {
  office = await openOffice();
  iris = await office.signedIn('iris');
  for (const row of await office.db.query<{ name: string; id: string }[]>(
    'SELECT sign_in_name AS name, id FROM person ORDER BY 1',
  ))
    people.push(row);
});
afterAll(() => office.close());

/** Small numbers that are the same in every run. */
function numbers(seed: number): (below: number) => number {
  let at = seed;
  return (below) => {
    at = (at * 1_103_515_245 + 12_345) % 2_147_483_648;
    return Math.floor((at / 2_147_483_648) * below);
  };
}

/** The level that each person has in each folder, as the folder itself tells them now. */
async function snapshot(folders: string[]): Promise<Record<string, string | null>> {
  const seen: Record<string, string | null> = {};
  for (const { name } of people.filter((p) => p.name !== 'iris')) {
    const [row] = await office.db.query<{ off: boolean }[]>(
      'SELECT disabled_at IS NOT NULL AS off FROM person WHERE sign_in_name = $1',
      [name],
    );
    const client = row?.off ? null : await office.signedIn(name as 'tomas' | 'rosa');
    for (const id of folders) {
      const page = client && (await client.ask<FolderPage>('GET', `/api/folders/${id}`));
      seen[`${name} ${id}`] = page?.status === 200 ? (page.body.folder?.level ?? null) : null;
    }
  }
  return seen;
}

async function told(folders: string[], at: string): Promise<Record<string, string | null>> {
  const all: Record<string, string | null> = {};
  for (const { name, id: personId } of people.filter((p) => p.name !== 'iris'))
    for (const id of folders) {
      const path = `/api/folders/${id}/access/explain?personId=${personId}&at=${encodeURIComponent(at)}`;
      all[`${name} ${id}`] = (await iris.ask<Explanation>('GET', path)).body.level;
    }
  return all;
}

it('answers about the past equal what was seen then, over grants, ends, stops, rules, moves and accounts', async () => {
  const pick = numbers(20_261_127);
  const folders: string[] = [];
  for (let n = 0; n < 4; n += 1)
    folders.push(await folder(iris, folders[pick(n + 1)] ?? office.roots.partners, `F ${n} ${randomUUID()}`));
  const db = office.db;
  const any = () => folders[pick(folders.length)] as string;
  const person = () => people[1 + pick(2)]?.id as string;
  const changes: (() => Promise<unknown>)[] = [
    () => grantOn(db, any(), person(), ACCESS_LEVELS[pick(5)] as 'view', { since: office.clock.date() }),
    () =>
      grantOn(db, any(), null, ACCESS_LEVELS[pick(5)] as 'view', {
        since: office.clock.date(),
        until: new Date(office.clock.now() + 150_000),
      }),
    () => endGrants(db, any(), office.clock.date()),
    () => setInherits(db, office.clock.date(), any(), pick(2) === 0),
    () => setOthersRule(db, office.clock.date(), any(), OTHERS_RULES[pick(3)] as 'see'),
    () => move(iris, [any()], [office.roots.partners, any()][pick(2)] as string),
    () => setDisabled(db, office.clock.date(), 'rosa', pick(2) === 0),
  ];
  const taken: { at: string; seen: Record<string, string | null> }[] = [];
  for (let n = 0; n < 40; n += 1) {
    office.clock.advance(30_000);
    await changes[pick(changes.length)]?.();
    office.clock.advance(30_000);
    taken.push({ at: office.clock.date().toISOString(), seen: await snapshot(folders) });
  }
  const levels = new Set(taken.flatMap(({ seen }) => Object.values(seen)));
  expect(levels.size).toBeGreaterThan(3);
  for (const { at, seen } of taken) expect({ at, told: await told(folders, at) }).toEqual({ at, told: seen });
});
