import { nameKey } from '@quay/core';
import type { EntityManager } from 'typeorm';

/** What a folder of the table is called. */
export interface FolderName {
  id: string;
  name: string;
  storeId: string;
  storeName: string;
}

/** Folders by the names that they had at a moment; null: that they have now, and out of the trash. */
export function folderNames(m: EntityManager, ids: string[], at: Date | null): Promise<FolderName[]> {
  const now = `SELECT n.id, CASE WHEN n.parent_id IS NULL THEN s.name ELSE n.name END AS name, s.id AS "storeId",
      s.name AS "storeName"
    FROM node n JOIN store s ON s.id = n.store_id WHERE n.id = ANY($1) AND n.purged_at IS NULL`;
  const then = `SELECT n.id, CASE WHEN p.parent_id IS NULL THEN s.name ELSE p.name END AS name, s.id AS "storeId",
      s.name AS "storeName"
    FROM node_past p JOIN node n ON n.id = p.node_id JOIN store s ON s.id = n.store_id
   WHERE p.node_id = ANY($1) AND p.since <= $2 AND (p.until IS NULL OR p.until > $2)`;
  return at === null ? m.query(now, [ids]) : m.query(then, [ids, at]);
}

export interface PersonAt {
  id: string;
  name: string;
  guest: boolean;
}

/** Who had an account that could be used at a moment, by name. */
export function peopleAt(m: EntityManager, at: Date): Promise<PersonAt[]> {
  return m.query(
    `SELECT p.id, p.name, t.role = 'guest' AS guest FROM person_past t JOIN person p ON p.id = t.person_id
      WHERE t.usable AND t.since <= $1 AND (t.until IS NULL OR t.until > $1)
        AND (t.until IS NOT NULL OR p.ends_at IS NULL OR p.ends_at > $1)
      ORDER BY p.name, p.id`,
    [at],
  );
}

/** When anything changed of who may what, by hours, since a moment. */
export function accessMoments(m: EntityManager, since: Date): Promise<{ at: Date; changes: number }[]> {
  return m.query(
    `SELECT date_trunc('hour', at) + interval '1 hour' AS at, count(*)::int AS changes FROM (
       SELECT since AS at FROM access_grant UNION ALL SELECT least(until, ended_at) FROM access_grant
       UNION ALL SELECT since FROM membership UNION ALL SELECT ended_at FROM membership
       UNION ALL SELECT since FROM people_group UNION ALL SELECT ended_at FROM people_group
       UNION ALL SELECT since FROM person_past
     ) happened WHERE at > $1 GROUP BY 1 ORDER BY 1`,
    [since],
  );
}

export interface PersonNamed {
  id: string;
  name: string;
  signInName: string;
}

/** Everybody whose account can be used, with the names that they go by. */
export function peopleNamed(m: EntityManager, at: Date): Promise<PersonNamed[]> {
  return m.query(
    `SELECT id, name, sign_in_name AS "signInName" FROM person
      WHERE disabled_at IS NULL AND (ends_at IS NULL OR ends_at > $1) ORDER BY name, id`,
    [at],
  );
}

/** Folders, and stores' own folders, that are called that, out of the trash, homes left out; a few at the most. */
export function foldersNamed(m: EntityManager, name: string): Promise<{ id: string; name: string }[]> {
  return m.query(
    `SELECT n.id, CASE WHEN n.parent_id IS NULL THEN s.name ELSE n.name END AS name
       FROM node n JOIN store s ON s.id = n.store_id AND s.kind = 'common'
      WHERE n.kind = 'folder' AND n.trashed_at IS NULL AND n.id IN (
              SELECT id FROM node WHERE name_key = $1 AND kind = 'folder' AND trashed_at IS NULL
              UNION ALL SELECT top.id FROM store named CROSS JOIN LATERAL (
                SELECT t.id FROM node t WHERE t.store_id = named.id AND t.parent_id IS NULL OFFSET 0) top
               WHERE lower(named.name) = lower($2))
      ORDER BY n.parent_id IS NOT NULL, n.id LIMIT 20`,
    [nameKey(name), name],
  );
}
