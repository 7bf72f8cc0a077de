import { DataSource, type DataSourceOptions, type QueryRunner } from 'typeorm';
import { makeQueues } from '../jobs/queues.js';
import { LOCKS } from '../locks.js';
import { log } from '../log/log.js';
import { MIGRATIONS } from './migrations.js';

/**
 * What an office asks for lies in memory for the most part, so the page that an index points to costs less than all
 * pages in their order. With PostgreSQL's own figures, made for a disk that turns, a session that begins while a table
 * has one page keeps plans that read it whole, foreign keys' too, until somebody looks at its statistics again:
 * thousands of rows later.
 */
export const SESSION_OPTIONS = '-c seq_page_cost=2 -c random_page_cost=0.5';

export function dataSourceOptions(url: string, entities: (new () => object)[]): DataSourceOptions {
  return {
    type: 'postgres',
    url,
    entities,
    migrations: MIGRATIONS,
    synchronize: false,
    migrationsRun: false,
    poolSize: 16,
    // A lost connection is replaced by the pool; without this handler the driver would end the process.
    poolErrorHandler: (error: Error) => log.warn({ err: error }, 'a database connection was lost'),
    extra: { connectionTimeoutMillis: 5000, idleTimeoutMillis: 30_000, options: SESSION_OPTIONS },
  };
}

/** For a database that is made for a trial and taken away under whoever still asks it. */
export const trialOptions = (url: string): DataSourceOptions =>
  ({ ...dataSourceOptions(url, []), poolErrorHandler: () => undefined }) as DataSourceOptions;

/** @throws Error when the database was made by a newer program: what it means by its tables is not known here */
async function requireKnown(runner: QueryRunner): Promise<void> {
  if (!(await runner.hasTable('migrations'))) return;
  const rows = (await runner.query('SELECT name FROM migrations ORDER BY timestamp DESC')) as { name: string }[];
  const known = new Set(MIGRATIONS.map((migration) => migration.name));
  const newer = rows.find(({ name }) => !known.has(name));
  if (newer)
    throw new Error(
      `the database was made by a newer Lockfast Quay (it has ${newer.name}). Start that version, or restore a backup`,
    );
}

/** Runs what is missing of the migrations, and makes what the queue needs, one process at a time. */
export async function migrate(source: DataSource): Promise<void> {
  const runner = source.createQueryRunner();
  await runner.connect();
  try {
    await runner.query('SELECT pg_advisory_lock($1)', [LOCKS.migration]);
    await requireKnown(runner);
    await source.runMigrations({ transaction: 'each' });
    await makeQueues(runner);
  } finally {
    await runner.query('SELECT pg_advisory_unlock($1)', [LOCKS.migration]);
    await runner.release();
  }
}
