// A PostgreSQL server for one run of the tests: started before the first, ended after the last.
import { mkdirSync } from 'node:fs';
import { createServer } from 'node:net';
import { join } from 'node:path';
import { requirePrograms, VAR } from './install.mjs';
import { startPostgres } from './postgres.mjs';

export function freePort() {
  return new Promise((resolve, reject) => {
    const probe = createServer();
    probe.once('error', reject);
    probe.listen(0, '127.0.0.1', () => {
      const { port } = probe.address();
      probe.close(() => resolve(port));
    });
  });
}

/** Vitest's global setup, once for each project. */
export async function setup(project) {
  requirePrograms('postgres', 'setpriv');
  mkdirSync(VAR, { recursive: true });
  const server = await startPostgres(join(VAR, `test-postgres-${project.name}`), await freePort(), { fast: true });
  project.provide('databaseUrl', server.url('postgres'));
  await dropOld(server.url('postgres'));
  return server.stop;
}

/** What earlier runs left, which may have been stopped at any moment; the template stays. */
async function dropOld(url) {
  // Commands that only want a free port run before any package is there.
  const { default: pg } = await import('pg');
  const client = new pg.Client({ connectionString: url });
  await client.connect();
  const { rows } = await client.query("SELECT datname FROM pg_database WHERE datname ~ '^t_[0-9a-f]{32}$'");
  for (const { datname } of rows) await client.query(`DROP DATABASE ${client.escapeIdentifier(datname)}`);
  await client.end();
}

export default setup;
