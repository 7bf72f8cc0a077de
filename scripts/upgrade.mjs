import { spawnSync } from 'node:child_process';
import { readdirSync, rmSync } from 'node:fs';
import { basename, join, resolve } from 'node:path';
import { asUser, installedRelease } from './lib/office.mjs';
import {
  currentRelease,
  makeRelease,
  newReleaseId,
  placesAt,
  runRelease,
  serviceOf,
  switchTo,
  tidyReleases,
  waitReady,
} from './lib/release.mjs';
import { ROOT, takeLock } from './lib/install.mjs';
import { fail, option, say } from './lib/words.mjs';

/** Copies of the database before an upgrade that are kept. */
const DUMPS = 3;

/**
 * Puts this checkout in the place of the installed program: built beside it, on a copy of the database that is brought to
 * its schema and checked. One rename switches to both. Whatever fails, the old one serves again, on a database that
 * nobody has touched.
 */
export async function run(args) {
  const root = resolve(option(args, '--root', '/'));
  if (root === '/' && process.getuid() !== 0) fail('this is for the whole machine: run it as root.');
  const places = placesAt(root);
  if (!currentRelease(places.opt)) fail('it is not installed: ./quay install does that.');
  if (ROOT.startsWith(places.opt)) fail('run this in the checkout of the newer version, not in what is installed.');
  const lock = join(places.opt, 'upgrading');
  // The second try is for a lock that was left.
  if (!takeLock(lock) && !takeLock(lock)) fail('another upgrade goes on. Wait until it is done.');
  try {
    await upgrade(places, currentRelease(places.opt));
  } finally {
    rmSync(lock, { force: true });
  }
}

/** Two at once would each begin with the same database, and the second would lose what came after the first. */
async function upgrade(places, old) {
  const before = installedRelease(old);
  const service = serviceOf(before.QUAY_SERVICE);
  if (!service) fail('no service manager runs here, so nothing could be stopped and started: see docs/install.md.');
  const id = newReleaseId();
  const database = `${before.QUAY_DATABASE_NAME.replace(/_\d{14}$/, '')}_${id}`;
  const next = makeRelease(places.opt, id, { ...before, QUAY_DATABASE_NAME: database, QUAY_RELEASE: id });
  const dump = dumpFile(places.data, id, before.QUAY_USER);
  say('Stopping the server ...');
  service.guard();
  service.stop();
  try {
    // By the new program, on the old database.
    const asBefore = { QUAY_DATABASE_NAME: before.QUAY_DATABASE_NAME };
    say(`Copying the database, also to ${dump} ...`);
    runRelease(next, 'upgrade/main.js', ['dump', dump], asBefore);
    runRelease(next, 'upgrade/main.js', ['copy', database], asBefore);
    say('Bringing the copy to the new schema, and checking that everything holds ...');
    runRelease(next, 'upgrade/main.js', ['prepare', database], asBefore);
    switchTo(places.opt, id);
    say('Starting the new one ...');
    service.start();
    await waitReady(runRelease(next, 'upgrade/main.js', ['where']));
  } catch (error) {
    await goBack(places, service, old, next, database);
    fail(`the upgrade failed, and the old one serves again: ${error.message}`);
  } finally {
    service.unguard();
  }
  tidyReleases(places.opt, [basename(old), id]);
  say(
    `Release ${id} serves. The one before stays until the next upgrade; ./quay upgrade of its checkout goes back to it.`,
  );
}

async function goBack({ opt }, service, old, next, database) {
  service.stop();
  switchTo(opt, basename(old));
  service.start();
  try {
    runRelease(old, 'upgrade/main.js', ['drop', database]);
  } catch (error) {
    say(`The copy ${database} could not be removed: ${error.message}`);
  }
  rmSync(next, { recursive: true, force: true });
  await waitReady(runRelease(old, 'upgrade/main.js', ['where'])).catch((error) =>
    say(`The old one was started, but ${error.message}.`),
  );
}

/** Where the database of before is written to; the oldest of those go. */
function dumpFile(data, id, user) {
  const folder = join(data, 'before-upgrade');
  const [command, all] = asUser(user, 'mkdir', ['-p', '-m', '700', folder]);
  if (spawnSync(command, all, { stdio: 'inherit' }).status !== 0) fail(`${folder} could not be made.`);
  const dumps = readdirSync(folder).sort();
  for (const name of dumps.slice(0, Math.max(0, dumps.length - DUMPS + 1))) rmSync(join(folder, name));
  return join(folder, `${id}.dump`);
}
