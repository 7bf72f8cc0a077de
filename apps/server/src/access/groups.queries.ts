import type { GroupMember, GroupRow, MemberAsked } from '@quay/contract';
import type { Membership } from '@quay/core';
import type { EntityManager } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';
import { grouped } from '../platform/grouped.js';
import { grantable } from './grants.queries.js';

/** Who puts somebody into a group: a person, the directory, or the identity provider. */
export type MemberSource = 'hand' | 'directory' | 'provider';

interface MemberRecord extends Omit<GroupMember, 'since'> {
  groupId: string;
  since: Date;
}

/** Every group that has not ended, with whoever is in it and whoever manages it. */
export async function groupsNow(m: EntityManager, at: Date): Promise<GroupRow[]> {
  const { groups } = await grantable(m, at);
  const members = await m.query<MemberRecord[]>(
    `SELECT m.group_id AS "groupId", CASE WHEN m.person_id IS NULL THEN 'group' ELSE 'person' END AS kind,
            coalesce(p.id, g.id) AS id, coalesce(p.name, g.name) AS name, m.since,
            m.source AS by
       FROM membership m LEFT JOIN person p ON p.id = m.person_id LEFT JOIN people_group g ON g.id = m.member_group_id
      WHERE m.ended_at IS NULL AND (g.id IS NULL OR g.ended_at IS NULL)
      ORDER BY m.person_id IS NOT NULL, coalesce(p.name, g.name)`,
  );
  const managers = await m.query<{ groupId: string; id: string; name: string }[]>(
    `SELECT gm.group_id AS "groupId", p.id, p.name FROM group_manager gm JOIN person p ON p.id = gm.person_id
      WHERE gm.ended_at IS NULL AND p.disabled_at IS NULL ORDER BY p.name`,
  );
  const [membersOf, managersOf] = [grouped(members, (r) => r.groupId), grouped(managers, (r) => r.groupId)];
  return groups.map(({ id, name, people }) => ({
    ...{ id, name, people },
    members: (membersOf.get(id) ?? []).map((r) => ({
      ...{ kind: r.kind, id: r.id, name: r.name, by: r.by },
      since: r.since.toISOString(),
    })),
    managers: (managersOf.get(id) ?? []).map((r) => ({ id: r.id, name: r.name })),
  }));
}

/** A group that has not ended, held until the transaction ends. */
export async function heldGroup(tx: EntityManager, groupId: string): Promise<{ id: string; name: string } | null> {
  const [row] = await tx.query<{ id: string; name: string }[]>(
    'SELECT id, name FROM people_group WHERE id = $1 AND ended_at IS NULL FOR UPDATE',
    [groupId],
  );
  return row ?? null;
}

/** @returns false: a group of that name is there */
export async function insertGroup(tx: EntityManager, name: string, at: Date): Promise<string | null> {
  const id = uuidv7();
  const rows = await tx.query<unknown[]>(
    `INSERT INTO people_group (id, name, since) VALUES ($1, $2, $3)
      ON CONFLICT (name) WHERE ended_at IS NULL DO NOTHING RETURNING id`,
    [id, name, at],
  );
  return rows.length > 0 ? id : null;
}

export async function isGroupNamed(tx: EntityManager, name: string): Promise<boolean> {
  const rows = await tx.query<unknown[]>('SELECT 1 FROM people_group WHERE name = $1 AND ended_at IS NULL', [name]);
  return rows.length > 0;
}

export async function renameGroup(tx: EntityManager, groupId: string, name: string): Promise<void> {
  await tx.query('UPDATE people_group SET name = $2 WHERE id = $1', [groupId, name]);
}

/** A group ends, and never vanishes: it gives nothing from then on, and what it gave before is remembered. */
export async function endGroup(tx: EntityManager, groupId: string, at: Date): Promise<void> {
  await tx.query('UPDATE people_group SET ended_at = greatest(since, $2) WHERE id = $1', [groupId, at]);
}

/** Every membership that holds, as core takes them. */
export async function membershipsNow(tx: EntityManager): Promise<Membership[]> {
  const rows = await tx.query<{ groupId: string; kind: 'person' | 'group'; id: string; since: Date }[]>(
    `SELECT group_id AS "groupId", CASE WHEN person_id IS NULL THEN 'group' ELSE 'person' END AS kind,
            coalesce(person_id, member_group_id) AS id, since FROM membership WHERE ended_at IS NULL`,
  );
  return rows.map((r) => ({
    groupId: r.groupId,
    member: { kind: r.kind, id: r.id },
    since: r.since.getTime(),
    until: null,
  }));
}

/** The names of groups, ended ones too. */
export async function groupNames(m: EntityManager): Promise<Map<string, string>> {
  const rows = await m.query<{ id: string; name: string }[]>('SELECT id, name FROM people_group');
  return new Map(rows.map((r) => [r.id, r.name]));
}

const MEMBER = `group_id = $1 AND coalesce(person_id, member_group_id) = $2 AND ended_at IS NULL`;

/** By whom somebody is in a group; null: they are not in it. */
export async function memberBy(tx: EntityManager, groupId: string, memberId: string): Promise<MemberSource | null> {
  const [row] = await tx.query<{ source: MemberSource }[]>(`SELECT source FROM membership WHERE ${MEMBER}`, [
    groupId,
    memberId,
  ]);
  return row?.source ?? null;
}

export async function insertMember(
  tx: EntityManager,
  {
    groupId,
    member,
    by,
    at,
    source = 'hand',
  }: { groupId: string; member: MemberAsked; by: string | null; at: Date; source?: MemberSource },
): Promise<void> {
  await tx.query(
    `INSERT INTO membership (id, group_id, person_id, member_group_id, source, since, added_by)
      VALUES ($1, $2, $3, $4, $5, $6, $7)`,
    [
      ...[uuidv7(), groupId, member.kind === 'person' ? member.id : null],
      ...[member.kind === 'group' ? member.id : null, source, at, by],
    ],
  );
}

/** @returns false: they were not in it */
export async function endMember(
  tx: EntityManager,
  { groupId, memberId, by, at }: { groupId: string; memberId: string; by: string | null; at: Date },
): Promise<boolean> {
  const [, ended] = (await tx.query(
    `UPDATE membership SET ended_at = greatest(since, $3), ended_by = $4 WHERE ${MEMBER}`,
    [groupId, memberId, at, by],
  )) as [unknown, number];
  return ended > 0;
}

/** Ends every membership of somebody, and that they manage groups. @returns the groups */
export async function endGroupsOf(
  tx: EntityManager,
  { personId, by, at }: { personId: string; by: string; at: Date },
): Promise<{ groupIds: string[]; managedIds: string[] }> {
  const [left] = (await tx.query(
    `UPDATE membership SET ended_at = greatest(since, $2), ended_by = $3
      WHERE person_id = $1 AND ended_at IS NULL RETURNING group_id AS id`,
    [personId, at, by],
  )) as [{ id: string }[], number];
  const [managed] = (await tx.query(
    `UPDATE group_manager SET ended_at = greatest(since, $2) WHERE person_id = $1 AND ended_at IS NULL
      RETURNING group_id AS id`,
    [personId, at],
  )) as [{ id: string }[], number];
  return { groupIds: left.map((r) => r.id), managedIds: managed.map((r) => r.id) };
}

/** Puts somebody into groups, as far as those have not ended and they are not in them. */
export async function joinAgain(
  tx: EntityManager,
  {
    personId,
    groupIds,
    managedIds,
    by,
    at,
  }: {
    personId: string;
    groupIds: string[];
    managedIds: string[];
    by: string;
    at: Date;
  },
): Promise<void> {
  const there = `SELECT id FROM people_group WHERE id = ANY($2) AND ended_at IS NULL`;
  await tx.query(
    `INSERT INTO membership (id, group_id, person_id, source, since, added_by)
      SELECT gen_random_uuid(), g.id, $1, 'hand', $3, $4 FROM (${there}) g
      ON CONFLICT (group_id, coalesce(person_id, member_group_id)) WHERE ended_at IS NULL DO NOTHING`,
    [personId, groupIds, at, by],
  );
  await tx.query(
    `INSERT INTO group_manager (group_id, person_id, since) SELECT g.id, $1, $3 FROM (${there}) g
      ON CONFLICT (group_id, person_id) WHERE ended_at IS NULL DO NOTHING`,
    [personId, managedIds, at],
  );
}

export async function managesGroup(m: EntityManager, groupId: string, personId: string): Promise<boolean> {
  const rows = await m.query<unknown[]>(
    'SELECT 1 FROM group_manager WHERE group_id = $1 AND person_id = $2 AND ended_at IS NULL',
    [groupId, personId],
  );
  return rows.length > 0;
}

export async function managesAny(m: EntityManager, personId: string): Promise<boolean> {
  const rows = await m.query<unknown[]>(
    `SELECT 1 FROM group_manager gm JOIN people_group g ON g.id = gm.group_id AND g.ended_at IS NULL
      WHERE gm.person_id = $1 AND gm.ended_at IS NULL LIMIT 1`,
    [personId],
  );
  return rows.length > 0;
}

/** From here on these manage the group, and nobody else. */
export async function setManagers(
  tx: EntityManager,
  { groupId, personIds, at }: { groupId: string; personIds: readonly string[]; at: Date },
): Promise<void> {
  await tx.query(
    `UPDATE group_manager SET ended_at = greatest(since, $3)
      WHERE group_id = $1 AND ended_at IS NULL AND person_id <> ALL($2)`,
    [groupId, personIds, at],
  );
  await tx.query(
    `INSERT INTO group_manager (group_id, person_id, since) SELECT $1, p, $3 FROM unnest($2::uuid[]) p
      ON CONFLICT (group_id, person_id) WHERE ended_at IS NULL DO NOTHING`,
    [groupId, personIds, at],
  );
}

/** Grants of people on folders on which a group has one, too, that they have left since: what they kept. */
export function keptAfterLeaving(m: EntityManager, at: Date) {
  return m.query<
    {
      grantId: string;
      level: string;
      until: Date | null;
      personId: string;
      person: string;
      folderId: string;
      folder: string;
      groupId: string;
      group: string;
      leftAt: Date;
    }[]
  >(
    `SELECT DISTINCT ON (mine.id) mine.id AS "grantId", mine.level, mine.until, p.id AS "personId", p.name AS person,
            n.id AS "folderId", n.name AS folder, g.id AS "groupId", g.name AS "group", gone.ended_at AS "leftAt"
       FROM access_grant mine JOIN person p ON p.id = mine.person_id AND p.disabled_at IS NULL
       JOIN node n ON n.id = mine.node_id AND n.purged_at IS NULL
       JOIN access_grant theirs ON theirs.node_id = mine.node_id AND theirs.group_id IS NOT NULL
        AND theirs.ended_at IS NULL AND (theirs.until IS NULL OR theirs.until > $1)
       JOIN people_group g ON g.id = theirs.group_id AND g.ended_at IS NULL
       JOIN membership gone ON gone.group_id = g.id AND gone.person_id = p.id
        AND gone.ended_at > mine.since AND gone.ended_at <= $1
      WHERE mine.ended_at IS NULL AND mine.since <= $1 AND (mine.until IS NULL OR mine.until > $1)
        AND NOT EXISTS (SELECT 1 FROM membership again
                         WHERE again.group_id = g.id AND again.person_id = p.id AND again.ended_at IS NULL)
      ORDER BY mine.id, gone.ended_at DESC`,
    [at],
  );
}
