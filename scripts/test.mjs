// Everything that is checked, in the order in which a failure is cheapest; ends with one line "N passed, N failed".
// Or a part of it: ./quay test unit|server|browser|lab, files, or what --changed since the last commit touches.
import { spawn } from 'node:child_process';
import { mkdirSync, readFileSync, rmSync } from 'node:fs';
import { join, relative } from 'node:path';
import { build, putInPlace, requireNpmPackages, requirePrograms, ROOT, TSC, VAR } from './lib/install.mjs';
import { canMakeNetworks } from './lib/networks.mjs';
import { say } from './lib/words.mjs';

const PROJECTS = ['unit', 'server', 'browser', 'lab'];
const PROGRAMS = [
  ...['postgres', 'setpriv', 'bwrap', 'pdftoppm', 'qpdf', 'w3m', 'chromium', 'unzip', '7z', 'curl', 'openssl', 'age'],
  ...['dig', 'named', 'natpmpc', 'upnpc', 'dehydrated', 'promtool', 'socat', 'systemd-analyze', 'exim4', 'oathtool'],
  ...['slapd', 'ldapmodify', 'dovecot', 'swaks', 'flufl.bounce', 'clamd', 'clamdscan'],
];
/** What stands in the networks of the laboratory. */
const LAB_PROGRAMS = ['nft', 'miniupnpd', 'knotd', 'unbound', 'dnsmasq', 'turnserver', 'pebble', 'nginx'];
const inModules = (path) => join(ROOT, 'node_modules', path);

/** How much of a failing test's words stand in the list at the end. */
const WORDS_OF_A_FAILURE = 600;

let passed = 0;
let failed = 0;
/** What failed, named once more at the end: a long run is read from its last lines. */
const failures = [];

export async function run(args) {
  requirePrograms(...PROGRAMS);
  requireNpmPackages();
  build();
  mkdirSync(VAR, { recursive: true });
  const chosen = PROJECTS.filter((project) => args.includes(project));
  const rest = args.filter((arg) => !chosen.includes(arg));
  if (args.length === 0) {
    // Two lanes, one for each core: what is read, and what is run.
    await Promise.all([
      lane([() => check('lint', inModules('eslint/bin/eslint.js'), '.', '--max-warnings=0')]),
      lane([
        () => check('types of tests, benchmarks and browser journeys', TSC, '-p', 'tsconfig.json', '--noEmit'),
        () => check('types of the web application', TSC, '-p', 'apps/web/tsconfig.json', '--noEmit'),
        () => check('layout (prettier)', inModules('prettier/bin/prettier.cjs'), '--check', '--log-level=warn', '.'),
        () => tests('unit', []),
      ]),
    ]);
    // The laboratory waits most of its time, for leases and for caches. A browser minds more who else is at work.
    await Promise.all([tests('server', []), lab([])]);
    await tests('browser', []);
  } else
    for (const project of chosen.length ? chosen : PROJECTS)
      await (project === 'lab' ? lab(rest) : tests(project, rest));
  for (const failure of failures) say(`FAILED ${failure}`);
  say(`${passed} passed, ${failed} failed`);
  return failed === 0 && passed > 0 ? 0 : 1;
}

async function lane(steps) {
  for (const step of steps) await step();
}

function count(name, ok) {
  say(`${ok ? 'ok    ' : 'FAILED'} ${name}`);
  if (ok) passed += 1;
  else {
    failed += 1;
    failures.push(name);
  }
}

/** Runs a script of a package. What it says is shown in one piece, so that two lanes do not mix. */
function started(script, args) {
  return new Promise((resolve) => {
    const child = spawn(process.execPath, [script, ...args], { cwd: ROOT, stdio: ['ignore', 'pipe', 'pipe'] });
    let text = '';
    const take = (piece) => (text += piece);
    child.stdout.on('data', take);
    child.stderr.on('data', take);
    child.once('close', (code) => {
      process.stdout.write(text);
      resolve(code);
    });
  });
}

async function check(name, script, ...args) {
  count(name, (await started(script, args)) === 0);
}

/** What stands in the way of networks of their own, which are for root, where the kernel makes them; null: nothing. */
function labObstacle() {
  if (process.getuid() !== 0) return 'it takes root';
  const missing = putInPlace('ip');
  if (missing) return missing;
  return canMakeNetworks() ? putInPlace(...LAB_PROGRAMS) : 'this kernel makes no network namespaces';
}

async function lab(more) {
  const obstacle = labObstacle();
  if (obstacle) say(`The laboratory was left out: ${obstacle}`);
  else await tests('lab', more);
}

async function tests(project, more) {
  const report = join(VAR, `tests-${project}.json`);
  rmSync(report, { force: true });
  const args = ['run', '--project', project, '--reporter=default', '--reporter=json', `--outputFile.json=${report}`];
  const code = await started(inModules('vitest/vitest.mjs'), [...args, '--passWithNoTests', ...more]);
  const result = readReport(report);
  passed += result.passed;
  failed += result.failed;
  failures.push(...result.failures);
  // A run that broke without a failing test (no report, an error outside the tests) is a failure all the same.
  if (code !== 0 && result.failed === 0) count(`the ${project} tests as a whole`, false);
}

function readReport(path) {
  try {
    const { numPassedTests, numFailedTests, testResults } = JSON.parse(readFileSync(path, 'utf8'));
    return { passed: numPassedTests, failed: numFailedTests, failures: testResults.flatMap(failuresOf) };
  } catch {
    return { passed: 0, failed: 0, failures: [] };
  }
}

/** The failing tests of one file, and what broke the file itself: where, which, and what it said first. */
function failuresOf({ name, message, assertionResults }) {
  const tests = assertionResults
    .filter(({ status }) => status === 'failed')
    .map(({ fullName, failureMessages }) => ({ which: fullName, said: failureMessages.join('\n') }));
  const whole = message ? [{ which: 'the file as a whole', said: message }] : [];
  return [...whole, ...tests].map(
    ({ which, said }) => `${relative(ROOT, name)}: ${which}\n${said.slice(0, WORDS_OF_A_FAILURE)}`,
  );
}
