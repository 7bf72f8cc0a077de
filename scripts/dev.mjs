// The loop of whoever writes code: database and outside world stand, the server is built and started anew when its
// sources change, the web application shows a change without being loaded again.
import { spawn, spawnSync } from 'node:child_process';
import { existsSync, watch } from 'node:fs';
import { join } from 'node:path';
import { openDemo, startOver } from './demo.mjs';
import { ROOT, TSC } from './lib/install.mjs';
import { setUpWayIn } from './lib/outside.mjs';
import { say } from './lib/words.mjs';
import { untilEnded } from './start.mjs';

const SOURCES = ['packages/core/src', 'packages/contract/src', 'packages/probe/src', 'apps/server/src'];
const SETTLE_MS = 150;

export async function run(args) {
  if (args.includes('--fresh')) await startOver(args);
  const office = await openDemo(args);
  await setUpWayIn(`http://127.0.0.1:${office.ports.web}`, `http://127.0.0.1:${office.ports.outside}`);
  const web = startWeb(office.ports);
  office.children.push(web);
  const stopOffice = office.stop;
  office.stop = async () => {
    web.kill('SIGTERM');
    await stopOffice();
  };
  restartOnChange(office);
  say(`
  The web application   http://127.0.0.1:${office.ports.web + 6}   shows changes at once
  The server            http://127.0.0.1:${office.ports.web}   is built and started anew when its sources change

  Sign in as iris, password weir-lantern-copper-tide. Ctrl C ends everything.`);
  await untilEnded(office);
}

function startWeb(ports) {
  const vite = join(ROOT, 'node_modules/vite/bin/vite.js');
  const own = join(ROOT, 'apps/web/node_modules/vite/bin/vite.js');
  const args = ['--port', String(ports.web + 6), '--strictPort', '--host', '127.0.0.1', '--clearScreen', 'false'];
  return spawn(process.execPath, [existsSync(own) ? own : vite, ...args], {
    cwd: join(ROOT, 'apps/web'),
    env: { ...process.env, QUAY_DEV_SERVER: `http://127.0.0.1:${ports.web}` },
    stdio: ['ignore', 'ignore', 'inherit'],
  });
}

/** Builds and restarts the server when something changes; what does not build leaves the one that runs. */
function restartOnChange(office) {
  let timer = null;
  let busy = Promise.resolve();
  const again = async (name) => {
    say(`changed: ${name}`);
    const built = spawnSync(process.execPath, [TSC, '-b', 'tsconfig.build.json'], { cwd: ROOT, stdio: 'inherit' });
    if (built.status !== 0) return say('It does not build; the server goes on as it was.');
    const began = Date.now();
    await office.restartServer();
    say(`The server has started anew (${Date.now() - began} ms).`);
  };
  for (const folder of SOURCES)
    watch(join(ROOT, folder), { recursive: true }, (_event, name) => {
      if (!name || !/\.ts$/.test(name) || /\.test\.ts$/.test(name)) return;
      clearTimeout(timer);
      timer = setTimeout(() => {
        busy = busy.then(() => again(name)).catch((error) => say(`The server did not start: ${error.message}`));
      }, SETTLE_MS);
    });
}
