import { DataSource, type DataSourceOptions } from 'typeorm';
import { makeQueues } from '../jobs/queues.js';
import { LOCKS } from '../locks.js';
import { log } from '../log/log.js';
import { MIGRATIONS } from './migrations.js';

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
    extra: { connectionTimeoutMillis: 5000, idleTimeoutMillis: 30_000 },
  };
}

/** Runs what is missing of the migrations, and makes what the queue needs, one process at a time. */
export async function migrate(source: DataSource): Promise<void> {
  const runner = source.createQueryRunner();
  await runner.connect();
  try {
    await runner.query('SELECT pg_advisory_lock($1)', [LOCKS.migration]);
    await source.runMigrations({ transaction: 'each' });
    await makeQueues(runner);
  } finally {
    await runner.query('SELECT pg_advisory_unlock($1)', [LOCKS.migration]);
    await runner.release();
  }
}
