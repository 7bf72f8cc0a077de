import { shownIn, type DatabaseFacts } from '@quay/core';
import type { DataSource } from 'typeorm';
import { JOBS_SCHEMA } from '../platform/jobs/queues.js';

/** Rows below which it does not matter how many are dead. */
const LEAST_DEAD = 100_000;

/** How the database is (PostgreSQL §27.2, §54). @param now milliseconds */
export async function databaseFacts(db: DataSource, zone: string, now: number): Promise<DatabaseFacts> {
  const [[row], settings, bloated] = await Promise.all([
    db.query<(Omit<DatabaseFacts, 'settings' | 'bloated' | 'zoneMinutes'> & { shown: string })[]>(
      `SELECT current_setting('server_version_num')::int AS version,
         pg_database_size(d.oid)::float8 AS "sizeBytes",
         (SELECT count(*) FROM pg_stat_activity WHERE backend_type = 'client backend')::int AS connections,
         age(d.datfrozenxid)::float8 AS "oldestTransactions",
         coalesce(d.datcollversion <> pg_database_collation_actual_version(d.oid), false) OR EXISTS (
           SELECT 1 FROM pg_collation c WHERE c.collversion <> pg_collation_actual_version(c.oid)
              AND EXISTS (SELECT 1 FROM pg_attribute a WHERE a.attcollation = c.oid AND a.attrelid >= 16384)
         ) AS "collationChanged",
         to_char(to_timestamp($2) AT TIME ZONE $1, 'YYYY-MM-DD"T"HH24:MI') AS shown
        FROM pg_database d WHERE d.datname = current_database()`,
      [zone, now / 1000],
    ),
    db.query<{ name: string; setting: string }[]>(
      `SELECT name, setting FROM pg_settings
        WHERE name IN ('fsync', 'full_page_writes', 'synchronous_commit', 'autovacuum', 'max_connections')`,
    ),
    db.query<DatabaseFacts['bloated']>(
      `SELECT relname AS "table", n_dead_tup::float8 / (n_live_tup + n_dead_tup) AS share FROM pg_stat_user_tables
        WHERE n_dead_tup > $1 ORDER BY 2 DESC LIMIT 5`,
      [LEAST_DEAD],
    ),
  ]);
  const { shown, ...facts } = row as NonNullable<typeof row>;
  return {
    ...facts,
    bloated,
    settings: Object.fromEntries(settings.map(({ name, setting }) => [name, setting])),
    zoneMinutes: Math.round((Date.parse(`${shown}Z`) - shownIn(zone, now)) / 60_000),
  };
}

/** What waits longest of what is due, and how much was given up; mail is counted by itself. */
export async function queueFacts(db: DataSource): Promise<{ waitingSince: number | null; givenUp: number }> {
  const [row] = await db.query<{ since: Date | null; givenUp: number }[]>(
    `SELECT min(start_after) FILTER (WHERE state IN ('created', 'retry') AND start_after < now()) AS since,
            count(*) FILTER (WHERE state = 'failed' AND name <> 'mail')::int AS "givenUp"
       FROM ${JOBS_SCHEMA}.job WHERE state IN ('created', 'retry', 'failed')`,
  );
  return { waitingSince: row?.since?.getTime() ?? null, givenUp: row?.givenUp ?? 0 };
}

/** Jobs by queue and state, of those that are not done. */
export function queueSizes(db: DataSource): Promise<{ name: string; state: string; count: number }[]> {
  return db.query(
    `SELECT name, state::text AS state, count(*)::int AS count FROM ${JOBS_SCHEMA}.job
      WHERE state IN ('created', 'retry', 'active', 'failed') GROUP BY 1, 2`,
  );
}

export async function unsentMail(db: DataSource, since: Date): Promise<number> {
  const [row] = await db.query<{ count: number }[]>(
    `SELECT count(*)::int AS count FROM mail WHERE state IN ('refused', 'given-up') AND ended_at > $1`,
    [since],
  );
  return row?.count ?? 0;
}
