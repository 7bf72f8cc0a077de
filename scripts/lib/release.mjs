// An installed program: releases beside each other, of which one is current. Each has a database of its own, so that one
// rename switches program and data together, and back.
import { spawnSync } from 'node:child_process';
import {
  cpSync,
  existsSync,
  mkdirSync,
  readdirSync,
  readFileSync,
  readlinkSync,
  realpathSync,
  renameSync,
  rmSync,
  symlinkSync,
  writeFileSync,
} from 'node:fs';
import { basename, dirname, join } from 'node:path';
import { build, hashOf, requireNpmPackages, ROOT } from './install.mjs';
import { asUser, installedRelease } from './office.mjs';
import { fail, say } from './words.mjs';

/** Where things lie on a machine (FHS 3.0); below `root` for a trial. */
export const placesAt = (root) => ({
  opt: join(root, 'opt/lockfast-quay'),
  etc: join(root, 'etc/lockfast-quay'),
  config: join(root, 'etc/lockfast-quay/config.yaml'),
  data: join(root, 'var/lib/lockfast-quay'),
  units: join(root, 'etc/systemd/system'),
  command: join(root, 'usr/local/bin/lockfast-quay'),
});

/** What a release is made of, beside its packages. */
const FILES = ['package.json', 'package-lock.json', 'quay', 'scripts', 'docs/setup.yaml', 'docs/config.yaml'];

export const newReleaseId = () => new Date().toISOString().replace(/\D/g, '').slice(0, 14);

/**
 * Builds a release beside those that are there; what broke off is no release.
 * @param env what it is told of itself
 */
export function makeRelease(opt, id, env) {
  requireNpmPackages();
  build();
  say(`Putting together release ${id} ...`);
  const folder = join(opt, 'releases', id);
  const making = `${folder}.making`;
  rmSync(making, { recursive: true, force: true });
  mkdirSync(join(making, 'docs'), { recursive: true, mode: 0o755 });
  const { workspaces } = JSON.parse(readFileSync(join(ROOT, 'package.json'), 'utf8'));
  for (const file of FILES) cpSync(join(ROOT, file), join(making, file), { recursive: true });
  for (const file of readdirSync(join(ROOT, 'docs')).filter((name) => name.endsWith('.md')))
    cpSync(join(ROOT, 'docs', file), join(making, 'docs', file));
  for (const part of workspaces) {
    mkdirSync(join(making, part), { recursive: true });
    cpSync(join(ROOT, part, 'package.json'), join(making, part, 'package.json'));
    if (part !== 'apps/outside') cpSync(join(ROOT, part, 'dist'), join(making, part, 'dist'), { recursive: true });
  }
  const packages = makePackages(opt);
  linkPackages(packages, join(making, 'node_modules'));
  for (const part of workspaces)
    if (existsSync(join(packages, part, 'node_modules')))
      symlinkSync(join(packages, part, 'node_modules'), join(making, part, 'node_modules'));
  writeFileSync(join(making, 'release.env'), envText(env));
  must('chmod', ['-R', 'u=rwX,go=rX', making]);
  must('sync', ['-f', making]);
  renameSync(making, folder);
  return folder;
}

/**
 * The packages of a state of the lock file, which releases share: copied, because nothing is asked of the network, and
 * because what is installed belongs to the machine; what only building needs is taken away.
 */
function makePackages(opt) {
  const folder = join(opt, 'packages', hashOf('package-lock.json').slice(0, 16));
  if (existsSync(folder)) return folder;
  say('Copying packages ...');
  const making = `${folder}.making`;
  rmSync(making, { recursive: true, force: true });
  mkdirSync(making, { recursive: true, mode: 0o755 });
  for (const file of ['package.json', 'package-lock.json']) cpSync(join(ROOT, file), join(making, file));
  for (const part of JSON.parse(readFileSync(join(ROOT, 'package.json'), 'utf8')).workspaces) {
    mkdirSync(join(making, part), { recursive: true });
    cpSync(join(ROOT, part, 'package.json'), join(making, part, 'package.json'));
    copyModules(part, making);
  }
  copyModules('.', making);
  must('npm', ['prune', '--omit=dev', '--no-audit', '--no-fund', '--ignore-scripts', '--loglevel=error'], making);
  must('chmod', ['-R', 'u=rwX,go=rX', making]);
  must('sync', ['-f', making]);
  renameSync(making, folder);
  return folder;
}

/** Of the whole, or what a part has for itself because others have another version. */
function copyModules(part, to) {
  const from = join(ROOT, part, 'node_modules');
  if (existsSync(from)) must('cp', ['-r', '--preserve=mode,links', '--reflink=auto', from, join(to, part)]);
}

/** A release finds the packages where they are shared, and its own beside itself. */
function linkPackages(shared, to) {
  mkdirSync(join(to, '@quay'), { recursive: true });
  const from = join(shared, 'node_modules');
  for (const name of readdirSync(from))
    if (name !== '@quay' && !name.startsWith('.')) symlinkSync(join(from, name), join(to, name));
  for (const name of readdirSync(join(from, '@quay')))
    cpSync(join(from, '@quay', name), join(to, '@quay', name), { verbatimSymlinks: true });
}

const envText = (env) =>
  Object.entries(env)
    .filter(([, value]) => value !== null && value !== undefined)
    .map(([name, value]) => `${name}=${value}\n`)
    .join('');

function must(command, args, cwd) {
  const done = spawnSync(command, args, { cwd, encoding: 'utf8', stdio: ['ignore', 'ignore', 'pipe'] });
  if (done.status !== 0) fail(`${command} failed: ${(done.stderr ?? '').trim().split('\n').at(-1)}`);
}

/** Tells a release something else of itself, in one step. */
export function changeRelease(folder, more) {
  const path = join(folder, 'release.env');
  writeFileSync(`${path}.next`, envText({ ...installedRelease(folder), ...more }));
  renameSync(`${path}.next`, path);
}

/** The folder of the release that is current; null: none is. */
export function currentRelease(opt) {
  const link = join(opt, 'current');
  return existsSync(link) ? join(opt, 'releases', basename(readlinkSync(link))) : null;
}

/** Makes a release the current one, in one step (rename(2)). */
export function switchTo(opt, id) {
  const next = join(opt, 'current.next');
  rmSync(next, { force: true });
  symlinkSync(join('releases', id), next);
  renameSync(next, join(opt, 'current'));
}

/** Runs a program of a release as whom it serves as. @returns what it printed; @throws with its last line */
export function runRelease(folder, script, args, more = {}) {
  const env = { ...process.env, ...installedRelease(folder), ...more };
  const [command, all] = asUser(env.QUAY_USER, process.execPath, [join(folder, 'apps/server/dist', script), ...args]);
  const done = spawnSync(command, all, { env, encoding: 'utf8', stdio: ['ignore', 'pipe', 'pipe'] });
  if (done.status !== 0) throw new Error((done.stderr ?? '').trim().split('\n').at(-1) || `${script} failed`);
  return done.stdout.trim();
}

/** What starts and stops an installed server; `null` where nothing does. */
export function serviceOf(command) {
  if (command) {
    const call = (verb) => must(command, [verb]);
    return { start: () => call('start'), stop: () => call('stop'), guard: () => undefined, unguard: () => undefined };
  }
  if (!existsSync('/run/systemd/system')) return null;
  const call = (...args) => must('systemctl', args);
  return {
    start: () => call('restart', 'lockfast-quay.service'),
    stop: () => call('stop', 'lockfast-quay.service'),
    // Should this be killed while the server is stopped, it is started again all the same, as it was.
    guard: () =>
      must('systemd-run', [
        '--unit=lockfast-quay-guard',
        '--on-active=20min',
        '--collect',
        'systemctl',
        'start',
        'lockfast-quay.service',
      ]),
    unguard: () => spawnSync('systemctl', ['stop', 'lockfast-quay-guard.timer'], { stdio: 'ignore' }),
  };
}

/** Waits until the server answers that it is ready. @throws Error when it does not in time */
export async function waitReady(url, seconds = 120) {
  const until = Date.now() + seconds * 1000;
  let last = 'nothing answers';
  while (Date.now() < until) {
    const said = await fetch(url, { signal: globalThis.AbortSignal.timeout(5000) }).then(
      async (answer) => (answer.ok ? null : await answer.text()),
      (error) => error.cause?.code ?? error.message,
    );
    if (said === null) return;
    last = said.trim();
    await new Promise((resolve) => setTimeout(resolve, 300));
  }
  throw new Error(`it was not ready within ${seconds} seconds (${last})`);
}

/** Removes releases but the ones that are named, and packages and databases of releases that are not there any more. */
export function tidyReleases(opt, keep) {
  const releases = join(opt, 'releases');
  for (const name of readdirSync(releases))
    if (!keep.includes(name)) rmSync(join(releases, name), { recursive: true, force: true });
  const used = keep
    .filter((name) => existsSync(join(releases, name)))
    .map((name) => basename(dirname(dirname(realpathSync(join(releases, name, 'node_modules/pg'))))));
  for (const name of readdirSync(join(opt, 'packages')))
    if (!used.includes(name)) rmSync(join(opt, 'packages', name), { recursive: true, force: true });
  const databases = keep
    .filter((name) => existsSync(join(releases, name)))
    .map((name) => installedRelease(join(releases, name)).QUAY_DATABASE_NAME);
  runRelease(currentRelease(opt), 'upgrade/main.js', ['tidy', ...databases]);
}
