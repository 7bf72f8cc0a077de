// Runs programs of the server on the data of an office: of this checkout, or of an installed server.
import { spawnSync } from 'node:child_process';
import { existsSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { build, dataFolder, requireNpmPackages, requirePrograms, ROOT } from './install.mjs';
import { withDatabase } from './running.mjs';
import { environment, portsFrom } from '../start.mjs';

/** What an installed program is told of itself: beside it lies `release.env`. Null: this is a checkout. */
export function installedRelease(root = ROOT) {
  const file = join(root, 'release.env');
  if (!existsSync(file)) return null;
  return Object.fromEntries(
    readFileSync(file, 'utf8')
      .split('\n')
      .filter((line) => /^\w+=/.test(line))
      .map((line) => [line.slice(0, line.indexOf('=')), line.slice(line.indexOf('=') + 1)]),
  );
}

/** How a command is run as whom an installed server runs as; peer authentication and rights of files ask for that. */
export const asUser = (user, command, args) =>
  process.getuid() === 0 && user
    ? ['setpriv', [`--reuid=${user}`, `--regid=${user}`, '--init-groups', '--', command, ...args]]
    : [command, args];

/**
 * @param work is given the environment of the server's programs, and whom they run as (null: whoever asks)
 * @param how `make`: a database is made where there is none yet
 */
export async function withOffice(args, work, how = {}) {
  const release = installedRelease();
  if (release) return work({ ...process.env, ...release }, release.QUAY_USER ?? null);
  requirePrograms('postgres', 'setpriv');
  requireNpmPackages();
  build();
  return withDatabase(
    args,
    (databaseUrl) =>
      work({ ...process.env, ...environment(dataFolder(args), databaseUrl, portsFrom(args), '127.0.0.1') }, null),
    how,
  );
}

/** Runs one of the server's programs to its end, by its path below dist. @returns its exit code */
export function runProgram(script, args, env, user) {
  const program = join(ROOT, 'apps/server/dist', script);
  const [command, all] = asUser(user, process.execPath, ['--enable-source-maps', program, ...args]);
  return spawnSync(command, all, { env, stdio: 'inherit' }).status ?? 1;
}
