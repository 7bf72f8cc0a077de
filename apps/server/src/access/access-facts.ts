import {
  chainOf,
  groupAsker,
  waysIn,
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
       SELECT r.id, r.folder_id, 0 AS height FROM folder_access f JOIN access_root r ON r.id = f.root
         WHERE f.folder_id = $1
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
 * A folder and those above it as they lay at a moment, with all that access depends on there, the folder first. Empty
 * when it was not there yet, or not any more.
 */
export async function loadChainAt(m: EntityManager, folderId: string, at: Date): Promise<RootFolder[]> {
  const rows = await m.query<{ id: string; above: string | null; storeId: string; kind: StoreFact['kind'] }[]>(
    `WITH RECURSIVE up AS (
       SELECT p.node_id, p.parent_id, 0 AS height FROM node_past p
        WHERE p.node_id = $1 AND p.since <= $2 AND (p.until IS NULL OR p.until > $2)
       UNION ALL
       SELECT p.node_id, p.parent_id, up.height + 1 FROM up JOIN node_past p
           ON p.node_id = up.parent_id AND p.since <= $2 AND (p.until IS NULL OR p.until > $2)
     ), top AS (SELECT n.store_id FROM up JOIN node n ON n.id = up.node_id WHERE up.parent_id IS NULL)
     SELECT up.node_id AS id, up.parent_id AS above, s.id AS "storeId", s.kind
       FROM up CROSS JOIN top JOIN store s ON s.id = top.store_id ORDER BY up.height`,
    [folderId, at],
  );
  const folders = await withFacts(m, rows);
  return rows.map((r) => folders.get(r.id) as RootFolder);
}

/** Folders where something stands that access depends on, with all of it, as the tree lies now: these, or every one. */
export async function loadRoots(m: EntityManager, only: number[] | null = null): Promise<Map<string, RootFolder>> {
  const folders = await m.query<{ id: string; above: string | null; storeId: string; kind: StoreFact['kind'] }[]>(
    `SELECT r.folder_id AS id, above.folder_id AS above, s.id AS "storeId", s.kind
       FROM access_root r JOIN node n ON n.id = r.folder_id JOIN store s ON s.id = n.store_id
       LEFT JOIN folder_access a ON a.folder_id = n.parent_id LEFT JOIN access_root above ON above.id = a.root
      WHERE $1::int[] IS NULL OR r.id = ANY($1)`,
    [only],
  );
  return withFacts(m, folders);
}

/**
 * Folders where something stood at a moment that access depended on, with all of it, as the tree lay then. Stores' own
 * folders are among them.
 */
export async function loadRootsAt(m: EntityManager, at: Date): Promise<Map<string, RootFolder>> {
  const folders = await m.query<{ id: string; above: string | null; storeId: string; kind: StoreFact['kind'] }[]>(
    // From the few that can be meant to their rows of the past, never the other way round.
    `WITH RECURSIVE meant AS MATERIALIZED (
       SELECT node_id FROM access_grant WHERE since <= $1 AND coalesce(least(until, ended_at), 'infinity') > $1
       UNION SELECT node_id FROM node_past
              WHERE (NOT inherits OR others_rule IS NOT NULL) AND since <= $1 AND (until IS NULL OR until > $1)
       UNION SELECT top.id FROM store s CROSS JOIN LATERAL (
              SELECT n.id FROM node n WHERE n.store_id = s.id AND n.parent_id IS NULL OFFSET 0) top
     ), root AS MATERIALIZED (
       SELECT meant.node_id, here.parent_id FROM meant CROSS JOIN LATERAL (
           SELECT p.parent_id FROM node_past p
            WHERE p.node_id = meant.node_id AND p.since <= $1 AND (p.until IS NULL OR p.until > $1) AND NOT p.trashed
           OFFSET 0) here
     ), up AS (
       SELECT root.node_id AS id, root.parent_id, false AS trashed, 1 AS height FROM root
       UNION ALL
       SELECT up.id, above.parent_id, up.trashed OR above.trashed, up.height + 1 FROM up CROSS JOIN LATERAL (
           SELECT p.parent_id, p.trashed FROM node_past p
            WHERE p.node_id = up.parent_id AND p.since <= $1 AND (p.until IS NULL OR p.until > $1) OFFSET 0) above
         WHERE up.parent_id NOT IN (SELECT node_id FROM root)
     )
     SELECT top.id, top.above, top."storeId", top.kind FROM (
     SELECT DISTINCT ON (up.id) up.id, up.trashed, CASE WHEN r.node_id IS NULL THEN NULL ELSE up.parent_id END AS above,
            s.id AS "storeId", s.kind
       FROM up JOIN node n ON n.id = up.id JOIN store s ON s.id = n.store_id
       LEFT JOIN root r ON r.node_id = up.parent_id
      ORDER BY up.id, up.height DESC) top WHERE NOT top.trashed`,
    [at],
  );
  return withFacts(m, folders);
}

/** Folders with their facts. One question after the other, because it is asked within transactions too. */
async function withFacts(
  m: EntityManager,
  folders: { id: string; above: string | null; storeId: string; kind: StoreFact['kind'] }[],
): Promise<Map<string, RootFolder>> {
  const folderIds = folders.map((f) => f.id);
  const storeIds = [...new Set(folders.map((f) => f.storeId))];
  const owners = await m.query<(Dated & { storeId: string; personId: string })[]>(
    'SELECT store_id AS "storeId", person_id AS "personId", since, until FROM home_owner WHERE store_id = ANY($1)',
    [storeIds],
  );
  const archived = await m.query<(Dated & { storeId: string })[]>(
    'SELECT store_id AS "storeId", since, until FROM store_archived WHERE store_id = ANY($1)',
    [storeIds],
  );
  const grants = await m.query<(Dated & GrantRow)[]>(
    // What was ended early ended then.
    `SELECT g.id, g.node_id AS "folderId", g.subject_kind AS kind, coalesce(g.person_id, g.group_id) AS "subjectId",
      g.level,
            g.since, least(g.until, g.ended_at) AS until FROM access_grant g WHERE g.node_id = ANY($1)`,
    [folderIds],
  );
  const rules = await m.query<(Dated & { folderId: string; inherits: boolean; rule: OthersRule | null })[]>(
    `SELECT p.node_id AS "folderId", p.inherits, p.others_rule AS rule, p.since, p.until FROM node_past p
      WHERE p.node_id = ANY($1) AND (NOT p.inherits OR p.others_rule IS NOT NULL)`,
    [folderIds],
  );
  const ownersOf = grouped(owners, (o) => o.storeId);
  const archivedOf = grouped(archived, (a) => a.storeId);
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
      const ofStore = (ownersOf.get(storeId) ?? []).map((o) => ({ personId: o.personId, ...period(o) }));
      const whenArchived = (archivedOf.get(storeId) ?? []).map(period);
      return [id, { ...fact, above, store: { kind, owners: ofStore, archived: whenArchived } }];
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
    // An account that ends by itself cannot be used after that, whether or not it was written down by then.
    `SELECT t.person_id AS "personId", t.role, t.usable, t.since,
            CASE WHEN t.until IS NULL AND t.usable AND p.ends_at IS NOT NULL
              THEN greatest(t.since, p.ends_at) ELSE t.until END AS until
       FROM person_past t JOIN person p ON p.id = t.person_id
      WHERE $1::uuid[] IS NULL OR t.person_id = ANY($1) ORDER BY t.person_id, t.since`,
    [personIds],
  );
  const { memberships, groups } = await loadGroups(m, personIds);
  const ways = waysIn(memberships, groups);
  return [...grouped(people, (p) => p.personId)].map(([personId, past]) => ({
    personId,
    guest: past.filter((p) => p.role === 'guest').map(period),
    account: past.filter((p) => p.usable).map(period),
    admin: past.filter((p) => p.role === 'admin').map(period),
    groups: ways({ kind: 'person', id: personId }),
  }));
}

/** Groups as if they asked: what whoever joins one gets by that alone; null: every group there ever was. */
export async function loadGroupAskers(
  m: EntityManager,
  groupIds: string[] | null,
): Promise<{ asker: Asker; name: string; since: number; until: number | null }[]> {
  // No person's memberships are needed.
  const { memberships, groups } = await loadGroups(m, []);
  const ways = waysIn(memberships, groups);
  const wanted = groups.filter((g) => groupIds === null || groupIds.includes(g.id));
  return wanted.map(({ id, name, since, until }) => {
    const itself = { groupId: id, through: [id], since, until };
    const through = ways({ kind: 'group', id }).map((g) => ({ ...g, through: [id, ...g.through] }));
    return { asker: groupAsker(id, [itself, ...through]), name, since, until };
  });
}

async function loadGroups(
  m: EntityManager,
  personIds: string[] | null,
): Promise<{ memberships: Membership[]; groups: GroupFact[] }> {
  const rows = await m.query<(Dated & { groupId: string; personId: string | null; memberGroupId: string | null })[]>(
    `SELECT group_id AS "groupId", person_id AS "personId", member_group_id AS "memberGroupId", since, ended_at AS until
         FROM membership WHERE $1::uuid[] IS NULL OR person_id IS NULL OR person_id = ANY($1)`,
    [personIds],
  );
  const groups = await m.query<(Dated & { id: string; name: string })[]>(
    'SELECT id, name, since, ended_at AS until FROM people_group ORDER BY name',
  );
  return {
    memberships: rows.map((row) => ({
      groupId: row.groupId,
      member:
        row.personId === null
          ? { kind: 'group' as const, id: row.memberGroupId as string }
          : { kind: 'person' as const, id: row.personId },
      ...period(row),
    })),
    groups: groups.map((g) => ({ id: g.id, name: g.name, ...period(g) })),
  };
}
