import { spawnSync } from 'node:child_process';
import { join } from 'node:path';
import { build, dataFolder, requireNpmPackages, requirePrograms, ROOT } from './lib/install.mjs';
import { withDatabase } from './lib/running.mjs';
import { environment, portsFrom } from './start.mjs';

/** Accounts, for whoever has the machine: when nobody can sign in any more, too. */
export async function run(args) {
  requirePrograms('postgres', 'setpriv');
  requireNpmPackages();
  build();
  const folder = dataFolder(args);
  // What is about where the data lies is no part of what is asked.
  const asked = args.filter((a, i) => !['--demo', '--port'].includes(a) && args[i - 1] !== '--port');
  return withDatabase(
    args,
    (databaseUrl) =>
      spawnSync(process.execPath, [join(ROOT, 'apps/server/dist/accounts/main.js'), ...asked], {
        env: { ...process.env, ...environment(folder, databaseUrl, portsFrom(args), '127.0.0.1') },
        stdio: 'inherit',
      }).status ?? 1,
  );
}
