import { spawnSync } from 'node:child_process';
import { join } from 'node:path';
import { build, dataFolder, requireNpmPackages, requirePrograms, ROOT } from './lib/install.mjs';
import { withDatabase } from './lib/running.mjs';
import { environment, portsFrom } from './start.mjs';

/** Looks at everything that makes a server fail one day. */
export async function run(args) {
  requirePrograms('postgres', 'setpriv');
  requireNpmPackages();
  build();
  return withDatabase(args, (databaseUrl) => {
    const done = spawnSync(
      process.execPath,
      [join(ROOT, 'apps/server/dist/health/main.js'), ...(args.includes('--json') ? ['--json'] : [])],
      {
        env: { ...process.env, ...environment(dataFolder(args), databaseUrl, portsFrom(args), '127.0.0.1') },
        stdio: 'inherit',
      },
    );
    return done.status ?? 1;
  });
}
