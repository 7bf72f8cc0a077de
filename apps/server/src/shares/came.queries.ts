import type { EntityManager } from 'typeorm';
import { isSeen } from '../access/access.queries.js';

// What came of a share: who came when, and what they took.

/** Visits between edges, and how many of them took something; nothing of spans without any. */
export async function visitsBetween(
  m: EntityManager,
  shareId: string,
  edges: readonly Date[],
): Promise<{ bar: number; visits: number; took: number }[]> {
  return m.query(
    `SELECT width_bucket(began_at, $2::timestamptz[]) - 1 AS bar, count(*)::int AS visits,
            (count(*) FILTER (WHERE archive_at IS NOT NULL
               OR EXISTS (SELECT 1 FROM visit_file f WHERE f.visit_id = visit.id)))::int AS took
       FROM visit WHERE share_id = $1 AND began_at >= $3 AND began_at < $4 GROUP BY 1 ORDER BY 1`,
    [shareId, edges, edges[0], edges.at(-1)],
  );
}

/** Whom a visit was let in as; null: anyone, and only the visit is known. */
export interface Taker {
  who: string | null;
  visitId: string;
}
export interface TakenRow {
  id: string;
  name: string;
  visits: number;
  lastAt: Date;
  takers: Taker[];
  total: number;
}

/** A few of those who a visit `v` of these rows was let in as, each once. */
const takersOf = (
  rows: string,
  most: string,
) => `(SELECT coalesce(json_agg(json_build_object('who', t.who, 'visitId', t.id)), '[]')
  FROM (SELECT DISTINCT ON (coalesce(v.recipient, p.name, v.id::text)) coalesce(v.recipient, p.name) AS who, v.id
          FROM ${rows} LEFT JOIN person p ON p.id = v.person_id
         ORDER BY coalesce(v.recipient, p.name, v.id::text), v.began_at LIMIT ${most}) t)`;

/** Files that were taken one by one, those that most visits took first, as far as whoever asks sees them. */
export function filesTaken(
  m: EntityManager,
  shareId: string,
  personId: string,
  { takers, files }: { takers: number; files: number },
): Promise<TakenRow[]> {
  return m.query(
    `SELECT n.id, n.name, taken.visits, taken."lastAt", (count(*) OVER ())::int AS total,
            ${takersOf('visit_file f JOIN visit v ON v.id = f.visit_id AND v.share_id = $1 AND f.node_id = n.id', '$3')} AS takers
       FROM (SELECT f.node_id, count(*)::int AS visits, max(f.first_at) AS "lastAt"
               FROM visit_file f JOIN visit v ON v.id = f.visit_id WHERE v.share_id = $1 GROUP BY f.node_id) taken
       JOIN node n ON n.id = taken.node_id AND ${isSeen('n', '$2')}
      ORDER BY taken.visits DESC, taken."lastAt" DESC, n.id LIMIT $4`,
    [shareId, personId, takers, files],
  );
}

/** Visits that took everything as one archive. */
export async function takenAsOne(
  m: EntityManager,
  shareId: string,
  takers: number,
): Promise<{ visits: number; takers: Taker[] }> {
  const [row] = await m.query<{ visits: number; takers: Taker[] }[]>(
    `SELECT (SELECT count(*)::int FROM visit WHERE share_id = $1 AND archive_at IS NOT NULL) AS visits,
            ${takersOf('(SELECT * FROM visit WHERE share_id = $1 AND archive_at IS NOT NULL) v', '$2')} AS takers`,
    [shareId, takers],
  );
  return row ?? { visits: 0, takers: [] };
}

/** Other shares with an item of this one that whoever asks sees: their own, or all where they run the server. */
export function relatedTo(
  m: EntityManager,
  shareId: string,
  { personId, all, limit }: { personId: string; all: boolean; limit: number },
): Promise<{ id: string }[]> {
  return m.query(
    `SELECT DISTINCT o.share_id AS id FROM share_item i JOIN share_item o ON o.node_id = i.node_id AND o.share_id <> $1
       JOIN share s ON s.id = o.share_id JOIN node n ON n.id = i.node_id AND ${isSeen('n', '$2')}
      WHERE i.share_id = $1 AND ($3 OR s.created_by = $2) LIMIT $4`,
    [shareId, personId, all, limit],
  );
}
