import { existsSync, mkdirSync, readdirSync, readFileSync } from 'node:fs';
import { join, resolve } from 'node:path';
import { createInterface } from 'node:readline/promises';
import { copier } from './lib/copier.mjs';
import { build, dataFolder, requireNpmPackages, requirePrograms, ROOT } from './lib/install.mjs';
import { installedRelease, runProgram, withOffice } from './lib/office.mjs';
import { changeRelease, newReleaseId, runRelease, serviceOf } from './lib/release.mjs';
import { requireDatabase, startPostgres } from './lib/postgres.mjs';
import { check } from './lib/running.mjs';
import { freePort } from './lib/test-database.mjs';
import { fail, option, positional, say } from './lib/words.mjs';

const USAGE = `./quay restore FOLDER [--from 20261125T101500] [--identity KEY-FILE]
  --into EMPTY-FOLDER         all of it, into an empty place (otherwise that of ./quay start)
  --only "Projects/Weir House" [--to "Projects"]   a store, a folder or a file, into the office as it is now`;

export async function run(args) {
  const [source] = positional(args, ['--from', '--into', '--identity', '--only', '--to', '--port']);
  if (!source) fail(`from where?\n${USAGE}`);
  const folder = resolve(source);
  const stamp = await chosen(folder, option(args, '--from', null));
  const identity = option(args, '--identity', null);
  const only = option(args, '--only', null);
  return only === null ? restoreAll(args, folder, stamp, identity) : restorePart(args, folder, stamp, identity, only);
}

/** Which backup: what was asked for, or what is chosen from a list; the newest where nobody can be asked. */
async function chosen(folder, asked) {
  const stamps = existsSync(folder)
    ? readdirSync(folder)
        .filter((n) => /^\d{8}T\d{6}$/.test(n))
        .sort()
    : [];
  if (stamps.length === 0) fail(`there is no backup in ${folder}.`);
  if (asked !== null && !stamps.includes(asked))
    fail(`there is no such backup in ${folder}. It holds: ${stamps.join(', ')}`);
  if (asked !== null) return asked;
  if (!process.stdin.isTTY || !process.stdout.isTTY || stamps.length === 1) return stamps.at(-1);
  const newestFirst = stamps.toReversed();
  for (const [index, stamp] of newestFirst.entries())
    say(`${String(index + 1).padStart(4)}  ${described(folder, stamp)}`);
  const asking = createInterface({ input: process.stdin, output: process.stdout });
  try {
    for (;;) {
      const answer = (await asking.question('Which? (1 is the newest) ')).trim() || '1';
      const found = newestFirst[Number(answer) - 1];
      if (found) return found;
      say(`A number from 1 to ${newestFirst.length}.`);
    }
  } finally {
    asking.close();
  }
}

function described(folder, stamp) {
  try {
    const {
      at,
      blobs,
      bytes,
      recipients = [],
    } = JSON.parse(readFileSync(join(folder, stamp, 'manifest.json'), 'utf8'));
    const when = new Date(at).toLocaleString('en-GB', { dateStyle: 'full', timeStyle: 'short' });
    return `${when}, ${blobs} files (${(bytes / 1e6).toFixed(1)} MB)${recipients.length ? ', encrypted' : ''}`;
  } catch {
    return `${stamp}, and what it holds cannot be read`;
  }
}

/** The data of an office, as the program that copies takes it. */
const placesIn = (folder) => ({
  blobRoot: join(folder, 'blobs'),
  keyFile: join(folder, 'sealing-key'),
  identityFile: join(folder, 'backup-identity'),
});

async function restoreAll(args, source, stamp, identity) {
  if (installedRelease()) return restoreInstalled(source, stamp, identity);
  const into = resolve(option(args, '--into', dataFolder(args)));
  requirePrograms('postgres', 'setpriv');
  requireNpmPackages();
  for (const name of ['postgres', 'blobs', 'sealing-key'])
    if (existsSync(join(into, name)))
      fail(
        `${into} is not empty: it holds "${name}". Choose another folder with --into, or move that away first. Nothing was changed.`,
      );
  build();
  mkdirSync(into, { recursive: true });
  const database = await startPostgres(join(into, 'postgres'), await freePort());
  try {
    await requireDatabase(database, 'quay');
    const databaseUrl = database.url('quay');
    const { blobRoot, keyFile, identityFile } = placesIn(into);
    // The key of the server that made it, where this is the same machine.
    const own = join(dataFolder(args), 'backup-identity');
    const done = await copier({
      kind: 'bring',
      bring: { source, stamp, databaseUrl, blobRoot, keyFile, identityFile },
      identityFiles: [...(identity ? [resolve(identity)] : []), ...(existsSync(own) ? [own] : [])],
    });
    say(`Brought back ${stamp} into ${into}: ${done.files} files, each compared with its checksum.`);
    for (const hex of done.missing) say(`missing or damaged in the backup: ${hex}`);
    const sound = check({ QUAY_DATABASE_URL: databaseUrl, QUAY_BLOBS: blobRoot, QUAY_KEY_FILE: keyFile });
    if (into !== dataFolder(args)) say(`Serve it with: QUAY_VAR=${into} ./quay start`);
    return sound && done.missing.length === 0 ? 0 : 1;
  } finally {
    await database.stop();
  }
}

/** All of it, into a server that was installed and has not begun: into a database of its own, to which it then goes over. */
async function restoreInstalled(source, stamp, identity) {
  const release = installedRelease();
  if (runRelease(ROOT, 'upgrade/main.js', ['begun']) === 'yes')
    fail(
      'there is an office on this server already. Bring it back on one that was just installed, or a part with --only.',
    );
  const service = serviceOf(release.QUAY_SERVICE);
  service?.stop();
  const database = `${release.QUAY_DATABASE_NAME.replace(/_\d{14}$/, '')}_${newReleaseId()}`;
  runRelease(ROOT, 'upgrade/main.js', ['make', database]);
  const env = { ...process.env, ...release, QUAY_DATABASE_NAME: database };
  const order = { kind: 'bring', bring: { source, stamp }, identityFiles: identity ? [resolve(identity)] : [] };
  const done = await copier(order, env, release.QUAY_USER ?? null);
  changeRelease(ROOT, { QUAY_DATABASE_NAME: database });
  service?.start();
  say(`Brought back ${stamp}: ${done.files} files, each compared with its checksum.`);
  for (const hex of done.missing) say(`missing or damaged in the backup: ${hex}`);
  if (!service) say('Start the server now.');
  return done.missing.length === 0 ? 0 : 1;
}

async function restorePart(args, source, stamp, identity, path) {
  const to = option(args, '--to', null);
  const asked = [
    ...[source, stamp, path],
    ...(to ? ['--to', to] : []),
    ...(identity ? ['--identity', resolve(identity)] : []),
  ];
  return withOffice(args, (env, user) => runProgram('backups/main.js', asked, env, user));
}
