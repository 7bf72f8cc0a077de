import {
  chainOf,
  groupsOf,
  type AccessLevel,
  type Asker,
  type FolderFact,
  type GrantSubject,
  type GroupFact,
  type Membership,
  type OthersRule,
  type Period,
  type Role,
  type RootFolder,
  type StoreFact,
} from '@quay/core';
import type { EntityManager } from 'typeorm';
import { grouped } from '../platform/grouped.js';

interface Dated {
  since: Date;
  until: Date | null;
}

const period = ({ since, until }: Dated): Period => ({ since: since.getTime(), until: until?.getTime() ?? null });

/** A folder with facts at or above a folder and those above it, as core takes them: the nearest first. */
export async function loadChain(m: EntityManager, folderId: string): Promise<RootFolder[]> {
  const rows = await m.query<{ id: number; folderId: string }[]>(
    `WITH RECURSIVE up AS (
       SELECT r.id, r.folder_id, 0 AS height FROM folder_access f JOIN access_root r ON r.id = f.root WHERE f.folder_id = $1
       UNION ALL
       SELECT r.id, r.folder_id, up.height + 1 FROM up JOIN node n ON n.id = up.folder_id
         JOIN folder_access f ON f.folder_id = n.parent_id JOIN access_root r ON r.id = f.root
     ) SELECT id, folder_id AS "folderId" FROM up ORDER BY height`,
    [folderId],
  );
  const roots = await loadRoots(
    m,
    rows.map((r) => r.id),
  );
  return rows[0] ? chainOf(roots, rows[0].folderId) : [];
}

/**
 * Folders where something stands that access depends on, with all of it, as the tree lies now: these, or every one. One
 * question after the other, because it is asked within transactions too.
 */
export async function loadRoots(m: EntityManager, only: number[] | null = null): Promise<Map<string, RootFolder>> {
  const folders = await m.query<{ id: string; above: string | null; storeId: string; kind: StoreFact['kind'] }[]>(
    `SELECT r.folder_id AS id, above.folder_id AS above, s.id AS "storeId", s.kind
         FROM access_root r JOIN node n ON n.id = r.folder_id JOIN store s ON s.id = n.store_id
         LEFT JOIN folder_access a ON a.folder_id = n.parent_id LEFT JOIN access_root above ON above.id = a.root
        WHERE $1::int[] IS NULL OR r.id = ANY($1)`,
    [only],
  );
  const owners = await m.query<(Dated & { storeId: string; personId: string })[]>(
    'SELECT store_id AS "storeId", person_id AS "personId", since, until FROM home_owner',
  );
  const grants = await m.query<(Dated & GrantRow)[]>(
    // What was ended early ended then.
    `SELECT g.id, g.node_id AS "folderId", g.subject_kind AS kind, coalesce(g.person_id, g.group_id) AS "subjectId", g.level,
              g.since, least(g.until, g.ended_at) AS until
         FROM access_grant g JOIN access_root r ON r.folder_id = g.node_id WHERE $1::int[] IS NULL OR r.id = ANY($1)`,
    [only],
  );
  const rules = await m.query<(Dated & { folderId: string; inherits: boolean; rule: OthersRule | null })[]>(
    `SELECT p.node_id AS "folderId", p.inherits, p.others_rule AS rule, p.since, p.until
         FROM node_past p JOIN access_root r ON r.folder_id = p.node_id
        WHERE (NOT p.inherits OR p.others_rule IS NOT NULL) AND ($1::int[] IS NULL OR r.id = ANY($1))`,
    [only],
  );
  const ownersOf = grouped(owners, (o) => o.storeId);
  const grantsOn = grouped(grants, (g) => g.folderId);
  const rulesOf = grouped(rules, (r) => r.folderId);
  return new Map(
    folders.map(({ id, above, storeId, kind }) => {
      const own = rulesOf.get(id) ?? [];
      const fact: FolderFact = {
        id,
        grants: (grantsOn.get(id) ?? []).map((g) => ({
          id: g.id,
          subject: subjectOf(g),
          level: g.level,
          ...period(g),
        })),
        stops: own.filter((r) => !r.inherits).map(period),
        others: own.flatMap((r) => (r.rule === null ? [] : [{ rule: r.rule, ...period(r) }])),
      };
      const store = {
        kind,
        owners: (ownersOf.get(storeId) ?? []).map((o) => ({ personId: o.personId, ...period(o) })),
      };
      return [id, { ...fact, above, store }];
    }),
  );
}

interface GrantRow {
  id: string;
  folderId: string;
  kind: GrantSubject['kind'];
  subjectId: string | null;
  level: AccessLevel;
}

const subjectOf = ({ kind, subjectId }: GrantRow): GrantSubject =>
  kind === 'staff' ? { kind } : { kind, id: subjectId as string };

/** People as access sees them; null: everybody who ever had an account. */
export async function loadAskers(m: EntityManager, personIds: string[] | null): Promise<Asker[]> {
  const people = await m.query<(Dated & { personId: string; role: Role; usable: boolean })[]>(
    `SELECT person_id AS "personId", role, usable, since, until FROM person_past
        WHERE $1::uuid[] IS NULL OR person_id = ANY($1) ORDER BY person_id, since`,
    [personIds],
  );
  const memberships = await m.query<
    (Dated & { groupId: string; personId: string | null; memberGroupId: string | null })[]
  >(
    `SELECT group_id AS "groupId", person_id AS "personId", member_group_id AS "memberGroupId", since, ended_at AS until
         FROM membership WHERE $1::uuid[] IS NULL OR person_id IS NULL OR person_id = ANY($1)`,
    [personIds],
  );
  const groups = await m.query<(Dated & { id: string; name: string })[]>(
    'SELECT id, name, since, ended_at AS until FROM people_group',
  );
  const inGroups: Membership[] = memberships.map((row) => ({
    groupId: row.groupId,
    member:
      row.personId === null ? { kind: 'group', id: row.memberGroupId as string } : { kind: 'person', id: row.personId },
    ...period(row),
  }));
  const known: GroupFact[] = groups.map((g) => ({ id: g.id, name: g.name, ...period(g) }));
  return [...grouped(people, (p) => p.personId)].map(([personId, past]) => ({
    personId,
    guest: past.at(-1)?.role === 'guest',
    account: past.filter((p) => p.usable).map(period),
    admin: past.filter((p) => p.role === 'admin').map(period),
    groups: groupsOf(personId, inGroups, known),
  }));
}
