import { existsSync, mkdirSync } from 'node:fs';
import { join, resolve } from 'node:path';
import { backupsIn, bringBack } from './lib/backups.mjs';
import { build, dataFolder, requireNpmPackages, requirePrograms } from './lib/install.mjs';
import { requireDatabase, startPostgres } from './lib/postgres.mjs';
import { check } from './lib/running.mjs';
import { freePort } from './lib/test-database.mjs';
import { fail, option, say } from './lib/words.mjs';

export async function run(args) {
  const [source] = args.filter((a, i) => !a.startsWith('--') && !['--from', '--into'].includes(args[i - 1]));
  if (!source) fail('from where? ./quay restore FOLDER [--from 20261125T101500] [--into EMPTY-FOLDER]');
  const stamps = backupsIn(resolve(source));
  const stamp = option(args, '--from', stamps.at(-1));
  if (!stamp || !stamps.includes(stamp))
    fail(`there is no such backup in ${source}. It holds: ${stamps.join(', ') || 'none'}`);
  const into = resolve(option(args, '--into', dataFolder(args)));
  for (const name of ['postgres', 'blobs', 'sealing-key'])
    if (existsSync(join(into, name)))
      fail(
        `${into} is not empty: it holds "${name}". Choose another folder with --into, or move that away first. Nothing was changed.`,
      );
  requirePrograms('postgres', 'setpriv');
  requireNpmPackages();
  build();
  mkdirSync(into, { recursive: true });
  const database = await startPostgres(join(into, 'postgres'), await freePort());
  try {
    await requireDatabase(database, 'quay');
    const [databaseUrl, blobs, key] = [database.url('quay'), join(into, 'blobs'), join(into, 'sealing-key')];
    const done = await bringBack({ source: resolve(source), stamp, databaseUrl, blobs, key });
    say(`Brought back ${stamp} into ${into}: ${done.blobs} blobs, each compared with its checksum.`);
    for (const hex of done.missing) say(`missing or damaged in the backup: ${hex}`);
    const sound = check({ QUAY_DATABASE_URL: databaseUrl, QUAY_BLOBS: blobs, QUAY_KEY_FILE: key });
    if (into !== dataFolder(args)) say(`Serve it with: QUAY_VAR=${into} ./quay start`);
    return sound && done.missing.length === 0 ? 0 : 1;
  } finally {
    await database.stop();
  }
}
