// Puts in place what a machine with only Node.js and npm lacks.
import { spawnSync } from 'node:child_process';
import { createHash } from 'node:crypto';
import { existsSync, readdirSync, readFileSync, rmSync, statSync, writeFileSync } from 'node:fs';
import { join, resolve } from 'node:path';
import { fail, say } from './words.mjs';

export const ROOT = resolve(import.meta.dirname, '../..');
/** The compiler: several times as fast as the one in JavaScript. */
export const TSC = join(ROOT, 'node_modules/@typescript/native/bin/tsc');
/** Where what is made here lies: data, the demo, what tests and measurements leave. */
export const VAR = process.env.QUAY_VAR ?? join(ROOT, 'var');

/** The data of the office, or of the demo. */
export const dataFolder = (args) =>
  process.env.QUAY_VAR ?? join(ROOT, 'var', args.includes('--demo') ? 'demo' : 'office');

/** Programs and the Debian packages that bring them. */
const PACKAGES = {
  postgres: { debian: 'postgresql', found: () => postgresBin() !== null },
  chromium: { debian: 'chromium', found: () => onPath('chromium') },
  openssl: { debian: 'openssl', found: () => onPath('openssl') },
  unzip: { debian: 'unzip', found: () => onPath('unzip') },
  '7z': { debian: 'p7zip-full', found: () => onPath('7z') },
  curl: { debian: 'curl', found: () => onPath('curl') },
  zip: { debian: 'zip', found: () => onPath('zip') },
  nginx: { debian: 'nginx-light', found: () => onPath('nginx') || existsSync('/usr/sbin/nginx') },
  'nginx-stream': {
    debian: 'libnginx-mod-stream',
    found: () => existsSync('/usr/lib/nginx/modules/ngx_stream_module.so'),
  },
  wrk: { debian: 'wrk', found: () => onPath('wrk') },
  pdftoppm: { debian: 'poppler-utils', found: () => onPath('pdftoppm') },
  w3m: { debian: 'w3m', found: () => onPath('w3m') },
  qpdf: { debian: 'qpdf', found: () => onPath('qpdf') },
  dig: { debian: 'bind9-dnsutils', found: () => onPath('dig') && onPath('nsupdate') },
  named: { debian: 'bind9', found: () => onPath('named') || existsSync('/usr/sbin/named') },
  natpmpc: { debian: 'natpmpc', found: () => onPath('natpmpc') },
  dehydrated: { debian: 'dehydrated', found: () => onPath('dehydrated') },
  upnpc: { debian: 'miniupnpc', found: () => onPath('upnpc') },
  bwrap: { debian: 'bubblewrap', found: () => onPath('bwrap') },
  age: { debian: 'age', found: () => onPath('age') && onPath('age-keygen') },
  promtool: { debian: 'prometheus', found: () => onPath('promtool') },
  socat: { debian: 'socat', found: () => onPath('socat') },
  'systemd-analyze': { debian: 'systemd', found: () => onPath('systemd-analyze') && onPath('systemd-notify') },
  oathtool: { debian: 'oathtool', found: () => onPath('oathtool') },
  exim4: { debian: 'exim4-daemon-light', found: () => existsSync('/usr/sbin/exim4') },
  dovecot: { debian: 'dovecot-imapd', found: () => existsSync('/usr/sbin/dovecot') },
  'flufl.bounce': {
    debian: 'python3-flufl.bounce',
    found: () => existsSync('/usr/lib/python3/dist-packages/flufl/bounce'),
  },
  swaks: { debian: 'swaks', found: () => onPath('swaks') },
  clamd: { debian: 'clamav-daemon', found: () => installed('clamd') },
  clamdscan: { debian: 'clamdscan', found: () => onPath('clamdscan') },
  slapd: { debian: 'slapd', found: () => existsSync('/usr/sbin/slapd') },
  ldapmodify: { debian: 'ldap-utils', found: () => onPath('ldapmodify') },
  ip: { debian: 'iproute2', found: () => onPath('ip') },
  nft: { debian: 'nftables', found: () => installed('nft') },
  miniupnpd: { debian: 'miniupnpd-nftables', found: () => installed('miniupnpd') },
  knotd: { debian: 'knot', found: () => installed('knotd') },
  unbound: { debian: 'unbound', found: () => installed('unbound') },
  dnsmasq: { debian: 'dnsmasq-base', found: () => installed('dnsmasq') },
  turnserver: { debian: 'coturn', found: () => onPath('turnserver') },
  pebble: { debian: 'pebble', found: () => onPath('pebble') },
  setpriv: { debian: 'util-linux', found: () => onPath('setpriv') },
};

/** Programs of the system are not on everybody's path. */
const installed = (program) => onPath(program) || existsSync(`/usr/sbin/${program}`);

function onPath(program) {
  return (process.env.PATH ?? '').split(':').some((folder) => folder && existsSync(join(folder, program)));
}

/** Where Debian keeps the programs of the newest installed PostgreSQL server; null when there is none. */
export function postgresBin() {
  const base = '/usr/lib/postgresql';
  if (!existsSync(base)) return null;
  const versions = readdirSync(base)
    .filter((v) => existsSync(join(base, v, 'bin/initdb')))
    .sort((a, b) => Number(b) - Number(a));
  return versions.length ? join(base, versions[0], 'bin') : null;
}

/** Installs the Debian packages of the programs that are missing. */
export function requirePrograms(...programs) {
  const fault = putInPlace(...programs);
  if (fault) fail(fault);
}

/** The same. @returns what stands in the way; null: they are there */
export function putInPlace(...programs) {
  const missing = programs.filter((p) => !PACKAGES[p].found());
  if (missing.length === 0) return null;
  const names = missing.map((p) => PACKAGES[p].debian);
  if (process.getuid() !== 0)
    return `missing: ${names.join(', ')}. Install with: sudo apt-get install ${names.join(' ')}`;
  say(`Installing ${names.join(', ')} ...`);
  const env = { ...process.env, DEBIAN_FRONTEND: 'noninteractive' };
  spawnSync('apt-get', ['update', '-qq'], { env, stdio: ['ignore', 'ignore', 'inherit'] });
  const done = withoutServing(() =>
    spawnSync('apt-get', ['install', '-y', '-qq', '--no-install-recommends', ...names], {
      env,
      stdio: ['ignore', 'ignore', 'pipe'],
      encoding: 'utf8',
    }),
  );
  const still = missing.filter((p) => !PACKAGES[p].found());
  if (done.status === 0 && still.length === 0) return null;
  const reason = (done.stderr ?? '').trim().split('\n').slice(-3).join('\n');
  return `could not install ${names.join(', ')}. Try: apt-get update && apt-get install ${names.join(' ')}\n${reason}`;
}

const POLICY = '/usr/sbin/policy-rc.d';

/** Name servers and the like that are installed for tests do not begin to serve on this machine (invoke-rc.d(8): 101). */
function withoutServing(install) {
  if (existsSync(POLICY)) return install();
  writeFileSync(POLICY, '#!/bin/sh\nexit 101\n', { mode: 0o755 });
  try {
    return install();
  } finally {
    rmSync(POLICY, { force: true });
  }
}

/** Whether a process is there, whoever's it is. */
const isAlive = (pid) => existsSync(`/proc/${pid}`);

/** Whether a lock is of a command that is not there any more; one without a name has ten seconds to write it. */
function isLeft(lock) {
  try {
    const holder = readFileSync(lock, 'utf8');
    return holder === '' ? Date.now() - statSync(lock).mtimeMs > 10_000 : !isAlive(holder);
  } catch {
    // Given back meanwhile.
    return false;
  }
}

/** @returns whether this command has the lock now; one that was left is taken over */
export function takeLock(lock) {
  try {
    writeFileSync(lock, String(process.pid), { flag: 'wx' });
    return true;
  } catch (error) {
    if (error.code !== 'EEXIST') throw error;
    if (isLeft(lock)) rmSync(lock, { force: true });
    return false;
  }
}

/**
 * Runs work while no other command of this checkout does: two that install or build at once take each other's files
 * away. The lock of a command that died is taken over.
 */
function alone(work) {
  const lock = join(ROOT, '.quay-busy');
  while (!takeLock(lock)) Atomics.wait(new Int32Array(new SharedArrayBuffer(4)), 0, 0, 200);
  try {
    return work();
  } finally {
    rmSync(lock, { force: true });
  }
}

/** Installs the npm packages of the lock file, once for each state of it. */
export function requireNpmPackages() {
  if (!areNpmPackagesThere()) alone(() => areNpmPackagesThere() || installNpmPackages());
}

const NPM_STAMP = join(ROOT, 'node_modules/.quay-lock');
const areNpmPackagesThere = () =>
  existsSync(NPM_STAMP) && readFileSync(NPM_STAMP, 'utf8') === hashOf('package-lock.json');

function installNpmPackages() {
  say('Installing npm packages ...');
  const done = spawnSync('npm', ['ci', '--no-audit', '--no-fund', '--loglevel=error'], {
    cwd: ROOT,
    stdio: ['ignore', 'pipe', 'pipe'],
    encoding: 'utf8',
  });
  if (done.status !== 0) fail(`npm ci failed:\n${done.stderr.trim().split('\n').slice(-8).join('\n')}`);
  writeFileSync(NPM_STAMP, hashOf('package-lock.json'));
}

export function hashOf(...files) {
  const hash = createHash('sha256');
  for (const file of files) hash.update(readFileSync(join(ROOT, file)));
  return hash.digest('hex');
}

/** Builds server, outside world and web application, unless nothing has changed since the last time. */
export function build() {
  alone(buildAlone);
}

function buildAlone() {
  const state = sourceState();
  const stamp = join(ROOT, 'node_modules/.quay-built');
  if (existsSync(stamp) && readFileSync(stamp, 'utf8') === state && existsSync(join(ROOT, 'apps/web/dist/index.html')))
    return;
  say('Building ...');
  for (const [command, args, cwd] of [
    ['node', ['node_modules/@typescript/native/bin/tsc', '-b', 'tsconfig.build.json'], ROOT],
    ['node', [join(ROOT, 'node_modules/vite/bin/vite.js'), 'build', '--logLevel', 'warn'], join(ROOT, 'apps/web')],
  ]) {
    const done = spawnSync(command, args, { cwd, stdio: ['ignore', 'inherit', 'inherit'] });
    if (done.status !== 0) fail('the build failed; see above.');
  }
  writeFileSync(stamp, state);
}

/** A hash over the names, sizes and times of everything that is built. */
function sourceState() {
  const hash = createHash('sha256');
  const walk = (folder) => {
    for (const entry of readdirSync(folder, { withFileTypes: true }).sort((a, b) => (a.name < b.name ? -1 : 1))) {
      if (['node_modules', 'dist', 'var'].includes(entry.name)) continue;
      const path = join(folder, entry.name);
      if (entry.isDirectory()) walk(path);
      else hash.update(path).update(readFileSync(path));
    }
  };
  for (const folder of ['packages', 'apps']) walk(join(ROOT, folder));
  return hash.update(hashOf('package-lock.json')).digest('hex');
}
