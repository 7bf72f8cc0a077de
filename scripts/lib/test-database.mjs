// A PostgreSQL server for one run of the tests: started before the first, ended after the last.
import { randomInt } from 'node:crypto';
import { mkdirSync } from 'node:fs';
import { createServer } from 'node:net';
import { join } from 'node:path';
import { requirePrograms, VAR } from './install.mjs';
import { startPostgres } from './postgres.mjs';

/** Linux gives ports from 32768 on to outgoing connections (ip(7), ip_local_port_range): one of those may be taken at any moment. */
const [LOWEST, HIGHEST] = [10_000, 32_000];

/** A port that nothing listens on. */
export function freePort() {
  return new Promise((resolve) => {
    const probe = createServer();
    const look = () => probe.listen(randomInt(LOWEST, HIGHEST), '127.0.0.1');
    probe.on('error', look);
    probe.once('listening', () => {
      const { port } = probe.address();
      probe.close(() => resolve(port));
    });
    look();
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
