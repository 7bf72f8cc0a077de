// Runs the relay: compiled files without dependencies, which may as well be copied to a rented machine and run by node.
import { spawnSync } from 'node:child_process';
import { existsSync } from 'node:fs';
import { join } from 'node:path';
import { build, requireNpmPackages, ROOT } from './lib/install.mjs';

const FILE = join(ROOT, 'packages/relay/dist/main.js');

export function run(args) {
  if (!existsSync(FILE)) {
    requireNpmPackages();
    build();
  }
  // The relay itself takes the signals; this only waits for it.
  for (const signal of ['SIGINT', 'SIGTERM', 'SIGHUP']) process.on(signal, () => undefined);
  return spawnSync(process.execPath, [FILE, ...args], { stdio: 'inherit' }).status ?? 1;
}
