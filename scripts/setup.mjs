import { spawnSync } from 'node:child_process';
import { existsSync, mkdirSync } from 'node:fs';
import { join, resolve } from 'node:path';
import { build, dataFolder, requireNpmPackages, requirePrograms, ROOT } from './lib/install.mjs';
import { withDatabase } from './lib/running.mjs';
import { fail, option } from './lib/words.mjs';
import { environment, portsFrom } from './start.mjs';

/** The first start without a browser; asked again, it changes nothing. */
export async function run(args) {
  const file = option(args, '--answers', null);
  if (!file) fail('which answers? ./quay setup --answers FILE   (docs/setup.yaml is one to begin with)');
  if (!existsSync(file)) fail(`there is no file ${file}.`);
  requirePrograms('postgres', 'setpriv');
  requireNpmPackages();
  build();
  const folder = dataFolder(args);
  mkdirSync(folder, { recursive: true });
  return withDatabase(
    args,
    (databaseUrl) =>
      spawnSync(process.execPath, [join(ROOT, 'apps/server/dist/setup/main.js'), resolve(file)], {
        env: { ...process.env, ...environment(folder, databaseUrl, portsFrom(args), '127.0.0.1') },
        stdio: 'inherit',
      }).status ?? 1,
    { make: true },
  );
}
