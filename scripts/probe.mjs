// Runs the probe: one compiled file without dependencies, which may as well be copied elsewhere and run by node alone.
import { spawnSync } from 'node:child_process';
import { existsSync } from 'node:fs';
import { join } from 'node:path';
import { build, requireNpmPackages, ROOT } from './lib/install.mjs';

const FILE = join(ROOT, 'packages/probe/dist/probe.js');

export function run(args) {
  if (!existsSync(FILE)) {
    requireNpmPackages();
    build();
  }
  return spawnSync(process.execPath, [FILE, ...args], { stdio: 'inherit' }).status ?? 1;
}
