import { actBits, type AccessLevel } from '@quay/core';
import type { Grantable, GrantFor, NewGrant } from '@quay/contract';
import type { EntityManager } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';
import { grouped } from '../platform/grouped.js';
import { FOLDER_SEEN } from './access.queries.js';

export interface StoredGrant {
  id: string;
  folderId: string;
  subject: GrantFor;
  level: AccessLevel;
  since: Date;
  until: Date | null;
  grantedBy: string | null;
  endedAt: Date | null;
  endedBy: string | null;
}

const GRANTS = `SELECT g.id, g.node_id AS "folderId", g.level, g.since, g.until, by_.name AS "grantedBy",
  g.ended_at AS "endedAt",
       ender.name AS "endedBy", json_build_object('kind', g.subject_kind, 'id', coalesce(g.person_id, g.group_id),
         'name', coalesce(p.name, t.name, 'All staff')) AS subject
  FROM access_grant g LEFT JOIN person p ON p.id = g.person_id LEFT JOIN people_group t ON t.id = g.group_id
  LEFT JOIN person by_ ON by_.id = g.granted_by LEFT JOIN person ender ON ender.id = g.ended_by`;

export function grantsByIds(m: EntityManager, ids: string[]): Promise<StoredGrant[]> {
  return m.query(`${GRANTS} WHERE g.id = ANY($1) ORDER BY g.since, g.id`, [ids]);
}

/** What was granted on a folder and is over, the latest first. */
export function grantsEndedOn(m: EntityManager, folderId: string, at: Date): Promise<StoredGrant[]> {
  return m.query(
    `${GRANTS} WHERE g.node_id = $1 AND (g.ended_at IS NOT NULL OR g.until <= $2)
      ORDER BY least(g.ended_at, g.until) DESC, g.id DESC LIMIT 50`,
    [folderId, at],
  );
}

export async function insertGrant(
  tx: EntityManager,
  g: {
    folderId: string;
    subject: Pick<GrantFor, 'kind' | 'id'>;
    level: AccessLevel;
    since: Date;
    until: Date | null;
    by: string;
  },
): Promise<void> {
  const { kind, id } = g.subject;
  await tx.query(
    `INSERT INTO access_grant (id, node_id, subject_kind, person_id, group_id, level, since, until, granted_by)
     VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9)`,
    [
      uuidv7(),
      g.folderId,
      kind,
      kind === 'person' ? id : null,
      kind === 'group' ? id : null,
      g.level,
      g.since,
      g.until,
      g.by,
    ],
  );
}

export async function endGrant(tx: EntityManager, grantId: string, at: Date, by: string): Promise<void> {
  await tx.query('UPDATE access_grant SET ended_at = $2, ended_by = $3 WHERE id = $1 AND ended_at IS NULL', [
    grantId,
    at,
    by,
  ]);
}

/**
 * Whom a grant names, held so that they do not end meanwhile; null when there is no such person or group (any more).
 */
export async function grantSubject(
  tx: EntityManager,
  { kind, id }: NewGrant['subject'],
  at: Date,
): Promise<GrantFor | null> {
  if (kind === 'staff') return { kind, id: null, name: 'All staff' };
  const [row] =
    kind === 'person'
      ? await tx.query<{ name: string }[]>('SELECT name FROM person WHERE id = $1 AND disabled_at IS NULL FOR SHARE', [
          id,
        ])
      : await tx.query<{ name: string }[]>(
          'SELECT name FROM people_group WHERE id = $1 AND (ended_at IS NULL OR ended_at > $2) FOR SHARE',
          [id, at],
        );
  return row ? { kind, id: id as string, name: row.name } : null;
}

export async function grantable(m: EntityManager, at: Date, { endedToo = false } = {}): Promise<Grantable> {
  const people = await m.query<Grantable['people']>(
    `SELECT id, name, role = 'guest' AS guest FROM person WHERE disabled_at IS NULL ORDER BY name`,
  );
  const groups = await m.query<Grantable['groups']>(
    `SELECT g.id, g.name, (
       WITH RECURSIVE inside AS (
         SELECT m.person_id, m.member_group_id FROM membership m WHERE m.group_id = g.id AND m.ended_at IS NULL
         UNION
         SELECT m.person_id, m.member_group_id FROM inside JOIN membership m
             ON m.group_id = inside.member_group_id AND m.ended_at IS NULL
       ) SELECT count(DISTINCT person_id)::int FROM inside WHERE person_id IS NOT NULL) AS people
       FROM people_group g WHERE $2 OR g.ended_at IS NULL OR g.ended_at > $1 ORDER BY g.name`,
    [at, endedToo],
  );
  return { people, groups };
}

export function peopleByIds(m: EntityManager, ids: string[]): Promise<{ id: string; name: string }[]> {
  return m.query('SELECT id, name FROM person WHERE id = ANY($1)', [ids]);
}

export async function namesOfFolders(m: EntityManager, ids: string[]): Promise<Map<string, string>> {
  const rows = await m.query<{ id: string; name: string }[]>('SELECT id, name FROM node WHERE id = ANY($1)', [ids]);
  return new Map(rows.map((r) => [r.id, r.name]));
}

/**
 * Folders directly in one that somebody does not see and whose grants they may manage all the same. After
 * `ensureReach`.
 */
export function closedIn(
  m: EntityManager,
  personId: string,
  folderId: string,
): Promise<{ id: string; name: string }[]> {
  return m.query(
    `SELECT n.id, n.name FROM access_root r JOIN node n ON n.id = r.folder_id
       JOIN access_reach a ON a.root = r.id AND a.person_id = $1
      WHERE r.lies_in = $2 AND n.trashed_at IS NULL
        AND (a.acts & ${actBits(['manage'])}) <> 0 AND (a.acts & ${FOLDER_SEEN}) = 0
          ORDER BY n.name COLLATE natural_order`,
    [personId, folderId],
  );
}

/** Who may manage in folders by a grant on them that holds: people, and groups as such, by name. */
export async function managersOf(m: EntityManager, folderIds: string[], at: Date): Promise<Map<string, string[]>> {
  const rows = await m.query<{ folderId: string; name: string }[]>(
    `SELECT g.node_id AS "folderId", coalesce(p.name, t.name, 'All staff') AS name
       FROM access_grant g LEFT JOIN person p ON p.id = g.person_id LEFT JOIN people_group t ON t.id = g.group_id
      WHERE g.node_id = ANY($1) AND g.level = 'manage' AND g.since <= $2 AND g.ended_at IS NULL
        AND (g.until IS NULL OR g.until > $2)
      ORDER BY name`,
    [folderIds, at],
  );
  const named = grouped(rows, (r) => r.folderId);
  return new Map([...named].map(([folderId, found]) => [folderId, found.map((r) => r.name)]));
}

/** What was granted to somebody alone and holds, or is to come. */
export function grantsTo(m: EntityManager, personId: string, at: Date): Promise<StoredGrant[]> {
  return m.query(
    `${GRANTS} JOIN node n ON n.id = g.node_id AND n.purged_at IS NULL
      WHERE g.person_id = $1 AND g.ended_at IS NULL AND (g.until IS NULL OR g.until > $2) ORDER BY g.since, g.id`,
    [personId, at],
  );
}
