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
  return server.stop;
}

export default setup;
