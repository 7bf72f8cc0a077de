import { spawnSync } from 'node:child_process';
import { existsSync, rmSync } from 'node:fs';
import { join, resolve } from 'node:path';
import { installedRelease } from './lib/office.mjs';
import { currentRelease, placesAt, serviceOf } from './lib/release.mjs';
import { fail, option, say } from './lib/words.mjs';

const UNITS = ['lockfast-quay.service', 'lockfast-quay-previews.socket', 'lockfast-quay-previews@.service'];

/** Takes the program away, and leaves what is the office's. */
export async function run(args) {
  const root = resolve(option(args, '--root', '/'));
  if (root === '/' && process.getuid() !== 0) fail('this is for the whole machine: run it as root.');
  const places = placesAt(root);
  const current = currentRelease(places.opt);
  if (!current) fail('it is not installed.');
  const { QUAY_SERVICE, QUAY_DATABASE_NAME } = installedRelease(current);
  serviceOf(QUAY_SERVICE)?.stop();
  if (root === '/' && existsSync('/run/systemd/system'))
    spawnSync('systemctl', ['disable', '--now', ...UNITS.slice(0, 2)], { stdio: 'inherit' });
  for (const path of [places.opt, places.command, ...UNITS.map((name) => join(places.units, name))])
    rmSync(path, { recursive: true, force: true });
  say(`The program is gone. What is the office's stays:
  ${places.data}    the bytes of files, the keys
  ${places.etc}    the configuration
  the database ${QUAY_DATABASE_NAME}, as the configuration names its server
./quay install takes them up again. To be rid of them, remove those, and the user quay.`);
}
