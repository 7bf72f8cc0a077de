import { spawnSync } from 'node:child_process';
import { existsSync, mkdirSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { dataFolder, ROOT } from './lib/install.mjs';
import { answers } from './lib/postgres.mjs';
import { demoReach, setUpWayIn } from './lib/outside.mjs';
import { fail, say } from './lib/words.mjs';
import { open, portsFrom, untilEnded } from './start.mjs';

/** Where the demo's data lies: not where an office's does. */
export const DEMO = dataFolder(['--demo']);
const LOADED = join(DEMO, 'demo-loaded');

export async function run(args) {
  const began = Date.now();
  const fresh = args.includes('--fresh');
  if (fresh) await startOver(args);
  const office = await openDemo(args);
  await setUpWayIn(`http://127.0.0.1:${office.ports.web}`, `http://127.0.0.1:${office.ports.outside}`);
  say(`
Lockfast Quay is ready (${Math.round((Date.now() - began) / 1000)} s).

  The product         http://127.0.0.1:${office.ports.web}
  The API's page      http://127.0.0.1:${office.ports.web}/api/docs
  The outside world   http://127.0.0.1:${office.ports.outside}   (names, router, certificates, probes, mail, text messages)

  Sign in as   iris    password  weir-lantern-copper-tide     (admin)
               tomas   password  gravel-heron-silent-oar      (staff)

  Ctrl C ends everything.`);
  await untilEnded(office);
}

/** The demo office with the outside world round it. */
export const openDemo = (args) => open(args, { folder: DEMO, outside: true, between: (env) => load(env, args) });

export async function startOver(args) {
  const ports = portsFrom(args);
  if (await answers(ports.database))
    fail(`something answers on port ${ports.database}: is the demo still running? End it before starting over.`);
  for (const name of [
    'postgres',
    'blobs',
    'sealing-key',
    'backups',
    'backup-identity',
    'outside-keys.json',
    'reach.json',
    'demo-loaded',
    'adopt',
    'exports',
  ])
    rmSync(join(DEMO, name), { recursive: true, force: true });
}

/** Loads the demo office once. What a broken-off load left behind is cleared by the loader. */
export async function load(env, args) {
  if (existsSync(LOADED)) return;
  say('Loading the demo office ...');
  const clock = args.includes('--at') ? { QUAY_DEMO_AT: args[args.indexOf('--at') + 1] } : {};
  const done = spawnSync(process.execPath, [join(ROOT, 'apps/server/dist/demo/main.js')], {
    env: { ...process.env, ...env, ...demoReach(DEMO), ...clock, QUAY_ADDRESS: `http://127.0.0.1:${env.QUAY_PORT}` },
    stdio: ['ignore', 'inherit', 'inherit'],
  });
  if (done.status !== 0) fail('the demo office could not be loaded; see above.');
  plotterFolder();
  writeFileSync(LOADED, '');
}

/** A folder on the server's disk that waits to be adopted, as an old machine leaves it. */
function plotterFolder() {
  const folder = join(DEMO, 'adopt/Plotter room');
  mkdirSync(join(folder, 'Queue'), { recursive: true });
  for (let n = 1; n <= 6; n += 1)
    writeFileSync(
      join(folder, `Queue/Plot ${n}.hpgl`),
      `IN;SP1;PU${n * 100},0;PD${n * 100},4000;PU;SP0;\n`.repeat(400),
    );
  writeFileSync(join(folder, 'Paper: sizes?.txt'), 'A0 841 x 1189\nA1 594 x 841\n');
  writeFileSync(join(folder, 'Thumbs.db'), 'left behind');
}
