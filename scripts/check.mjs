import { join } from 'node:path';
import { build, dataFolder, requireNpmPackages, requirePrograms } from './lib/install.mjs';
import { check, withDatabase } from './lib/running.mjs';

export async function run(args) {
  requirePrograms('postgres', 'setpriv');
  requireNpmPackages();
  build();
  return withDatabase(args, async (databaseUrl) =>
    check(
      {
        QUAY_DATABASE_URL: databaseUrl,
        QUAY_BLOBS: join(dataFolder(args), 'blobs'),
        QUAY_KEY_FILE: join(dataFolder(args), 'sealing-key'),
      },
      args.includes('--deep'),
    )
      ? 0
      : 1,
  );
}
