import {
  ACCESS_LEVELS,
  ACTS,
  chainOf,
  effectiveAccess,
  type AccessLevel,
  type Act,
  type Role,
  type StoreKind,
} from '@quay/core';
import { randomUUID } from 'node:crypto';
import { DataSource } from 'typeorm';
import { afterAll, beforeAll, expect, it } from 'vitest';
import { freshDatabase } from '../_fixtures/office.js';
import { checkRows } from '../check/invariants.js';
import { SCHEMAS } from '../platform/database/migrations.js';
import { ACCESS_SCHEMA } from '../platform/database/schema-0006.js';
import { loadAskers, loadRoots } from './access-facts.js';

const BEFORE = SCHEMAS.slice(0, SCHEMAS.indexOf(ACCESS_SCHEMA));
const MADE = new Date('2026-03-02T09:00:00Z');
const LATER = Date.parse('2026-12-01T09:00:00Z');

/** What a level let somebody do while levels were a ladder. */
const LADDER: [AccessLevel, Act[]][] = [
  ['view', ['see']],
  ['download', ['read']],
  ['contribute', ['add']],
  ['edit', ['change', 'remove', 'publish']],
  ['manage', ['manage']],
];
function actsOfLadder(level: AccessLevel | null): Act[] {
  const up = LADDER.findIndex(([name]) => name === level);
  return LADDER.slice(0, up + 1).flatMap(([, acts]) => acts);
}

interface Asking {
  personId: string;
  role: Role;
  groupIds: string[];
}
interface StoreGrant {
  personId: string | null;
  groupId: string | null;
  level: AccessLevel;
}

/** The rule of before: the owner of a home, the admin elsewhere, or the highest level granted on the store. */
function levelBefore(who: Asking, kind: StoreKind, owner: string | null, grants: StoreGrant[]): AccessLevel | null {
  if (kind === 'home') return owner === who.personId ? 'manage' : null;
  if (who.role === 'admin' && kind === 'common') return 'manage';
  const theirs = grants.filter(
    (g) =>
      (g.personId === null && g.groupId === null) ||
      g.personId === who.personId ||
      (g.groupId !== null && who.groupIds.includes(g.groupId)),
  );
  return [...ACCESS_LEVELS].reverse().find((level) => theirs.some((g) => g.level === level)) ?? null;
}

let db: DataSource;
const rights: { person: string; folder: string; acts: Act[] }[] = [];
const id = () => randomUUID();
const [crew, office] = [id(), id()];

beforeAll(async () => {
  db = await new DataSource({ type: 'postgres', url: await freshDatabase({ empty: true }) }).initialize();
  for (const schema of BEFORE) await db.query(schema);
  await db.query('INSERT INTO people_group (id, name) VALUES ($1, $2), ($3, $4)', [
    crew,
    'Field crew',
    office,
    'Office',
  ]);
  const people: (Asking & { disabled: boolean })[] = [];
  for (const [role, groupIds, disabled] of [
    ['admin', [], false],
    ['staff', [crew], false],
    ['staff', [crew, office], false],
    ['staff', [], false],
    ['staff', [crew], true],
  ] as const) {
    const personId = id();
    people.push({ personId, role, groupIds: [...groupIds], disabled });
    await db.query(
      `INSERT INTO person (id, sign_in_name, email, name, initials, role, password_hash, created_at, disabled_at) VALUES ($1::uuid, $1::text, $1::text, 'Somebody', 'S', $2, '', $3, $4)`,
      [personId, role, MADE, disabled ? new Date(LATER - 1000) : null],
    );
    for (const group of groupIds)
      await db.query('INSERT INTO group_member (group_id, person_id) VALUES ($1, $2)', [group, personId]);
  }
  const [admin, one, two, three] = people.map((p) => p.personId);
  for (const [kind, owner, granted] of [
    ['home', one, []],
    ['home', admin, []],
    ['common', null, []],
    ['common', null, [[null, crew, 'contribute']]],
    [
      'common',
      null,
      [
        [null, null, 'view'],
        [three, null, 'manage'],
      ],
    ],
    [
      'common',
      null,
      [
        [two, null, 'download'],
        [null, office, 'edit'],
        [one, null, 'contribute'],
      ],
    ],
    ['sealed', null, [[one, null, 'edit']]],
  ] as [StoreKind, string | null, [string | null, string | null, AccessLevel][]][]) {
    const [store, root, folder] = [id(), id(), id()];
    await db.query('INSERT INTO store (id, kind, name, owner_id, created_at) VALUES ($1::uuid, $2, $1::text, $3, $4)', [
      store,
      kind,
      owner,
      MADE,
    ]);
    for (const [node, parent] of [
      [root, null],
      [folder, root],
    ])
      await db.query(
        `INSERT INTO node (id, store_id, parent_id, kind, name, name_key, created_at, changed_at) VALUES ($1::uuid, $2, $3, 'folder', $1::text, $1::text, $4, $4)`,
        [node, store, parent, MADE],
      );
    const grants = granted.map(([personId, groupId, level]) => ({ personId, groupId, level }));
    for (const g of grants)
      await db.query('INSERT INTO store_grant (id, store_id, person_id, group_id, level) VALUES ($1, $2, $3, $4, $5)', [
        id(),
        store,
        g.personId,
        g.groupId,
        g.level,
      ]);
    for (const person of people) {
      const level = person.disabled ? null : levelBefore(person, kind, owner, grants);
      rights.push({ person: person.personId, folder: root, acts: actsOfLadder(level) });
    }
  }
  for (const schema of SCHEMAS.slice(BEFORE.length)) await db.query(schema);
});
afterAll(() => db.destroy());

it('a database of the schema before has the same rights after, for everybody on every store', async () => {
  const roots = await loadRoots(db.manager);
  const askers = new Map((await loadAskers(db.manager, null)).map((a) => [a.personId, a]));
  expect(rights).toHaveLength(35);
  for (const { person, folder, acts } of rights) {
    const [root, asker] = [roots.get(folder), askers.get(person)];
    if (!root || !asker) throw new Error('somebody or something is gone');
    const is = effectiveAccess(chainOf(roots, folder), root.store, asker, LATER);
    expect(is.acts).toEqual(ACTS.filter((act) => acts.includes(act)));
  }
});

it('and everything that must hold does, when it has come to the schema of today', async () => {
  expect(await checkRows(db)).toEqual([]);
});
