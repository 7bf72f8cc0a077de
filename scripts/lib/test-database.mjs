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

let running = null;
let users = 0;

/** Vitest's global setup; two projects that run together share one server. */
export async function setup(project) {
  requirePrograms('postgres', 'setpriv');
  mkdirSync(VAR, { recursive: true });
  users += 1;
  running ??= freePort().then((port) => startPostgres(join(VAR, 'test-postgres'), port, { fast: true }));
  const server = await running;
  project.provide('databaseUrl', server.url('postgres'));
  return async () => {
    users -= 1;
    if (users === 0) await server.stop();
  };
}

export default setup;
