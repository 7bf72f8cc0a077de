// Dispatches the commands of ./quay. Plain Node.js without packages: this runs before anything is installed.
import { fail, Stop } from './lib/words.mjs';

const COMMANDS = {
  demo: ['set up everything, load the demo office, start the product and the outside world', './demo.mjs'],
  dev: [
    'develop: the demo, with the server built and started anew and the web application replaced as you write',
    './dev.mjs',
  ],
  start: ['start the product: on first start, a page that sets it up; from then on, the office', './start.mjs'],
  setup: ['the first start without a browser: --answers FILE', './setup.mjs'],
  admin: ['accounts, for whoever has the machine: list, make, link, sign-out, factor-off', './admin.mjs'],
  check: ['check everything that must hold between database, ledger and disk (--deep reads every blob)', './check.mjs'],
  doctor: ['look at everything that makes a server fail one day, with what to do about it (--json)', './doctor.mjs'],
  install: ['install this checkout as a service of the machine (as root)', './install.mjs'],
  upgrade: [
    'put this checkout in the place of the installed program; what fails leaves the old one serving',
    './upgrade.mjs',
  ],
  uninstall: ['take the installed program away, and leave the data', './uninstall.mjs'],
  backup: ['copy database and blobs to a folder, only what is new, verified', './backup.mjs'],
  restore: ['bring a backup back into an empty place, verified', './restore.mjs'],
  test: ['run everything that is checked; or a part (unit, server, browser), files, or what --changed', './test.mjs'],
  probe: [
    'look from this machine whether an address can be reached; or stand here as a vantage (--serve PORT)',
    './probe.mjs',
  ],
  relay: ['pass visitors on to offices whose line lets nobody in, on a rented machine (docs/relay.md)', './relay.mjs'],
  bench: ['measure transfers and archives side by side with general-purpose tools', './bench.mjs'],
  screenshots: ['take the pictures in docs/screenshots from demo data', './screenshots.mjs'],
  help: ['show this', null],
};

const [name = 'help', ...args] = process.argv.slice(2);
const [major, minor] = process.versions.node.split('.').map(Number);
try {
  if (major < 20 || (major === 20 && minor < 19))
    fail(`Node.js 20.19 or newer is needed; this is ${process.versions.node}.`);
  const command = COMMANDS[name];
  if (!command && !['-h', '--help'].includes(name)) fail(`there is no command "${name}". ./quay help lists them.`);
  if (!command?.[1]) {
    console.log('Usage: ./quay COMMAND\n');
    for (const [key, [words]] of Object.entries(COMMANDS)) console.log(`  ${key.padEnd(12)} ${words}`);
    console.log(
      '\n  start --port N  serve on port N (4180 otherwise); --host A: only there\n  demo --fresh    start over with new demo data; --port as above\n  admin, check, doctor, backup, restore --demo   the data of the demo, not of the office',
    );
  } else {
    const { run } = await import(command[1]);
    process.exitCode = (await run(args)) ?? 0;
  }
} catch (error) {
  if (!(error instanceof Stop)) throw error;
  console.error(`quay: ${error.message}`);
  process.exitCode = 1;
}
