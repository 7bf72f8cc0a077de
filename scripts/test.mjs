// Everything that is checked, in the order in which a failure is cheapest; ends with one line "N passed, N failed".
import { spawnSync } from 'node:child_process';
import { mkdirSync, readFileSync, rmSync } from 'node:fs';
import { join } from 'node:path';
import { build, requireNpmPackages, requirePrograms, ROOT, VAR } from './lib/install.mjs';
import { say } from './lib/words.mjs';

const TSC = join(ROOT, 'node_modules/@typescript/native/bin/tsc');

export async function run(args) {
  requirePrograms(
    'postgres',
    'setpriv',
    'pdftoppm',
    'chromium',
    'unzip',
    '7z',
    'curl',
    'dig',
    'named',
    'natpmpc',
    'upnpc',
    'dehydrated',
  );
  requireNpmPackages();
  build();
  let passed = 0;
  let failed = 0;
  const count = (name, ok) => {
    say(`${ok ? 'ok    ' : 'FAILED'} ${name}`);
    if (ok) passed += 1;
    else failed += 1;
  };
  const check = (name, script, ...more) =>
    count(name, spawnSync(process.execPath, [script, ...more], { cwd: ROOT, stdio: 'inherit' }).status === 0);
  if (!args.length) {
    check('lint', join(ROOT, 'node_modules/eslint/bin/eslint.js'), '.', '--max-warnings=0');
    check('types of tests, benchmarks and browser journeys', TSC, '-p', 'tsconfig.json', '--noEmit');
    check('types of the web application', TSC, '-p', 'apps/web/tsconfig.json', '--noEmit');
  }
  mkdirSync(VAR, { recursive: true });
  for (const project of ['unit', 'server', 'browser']) {
    if (args.length && !args.includes(project)) continue;
    const report = join(VAR, `tests-${project}.json`);
    rmSync(report, { force: true });
    const done = spawnSync(
      process.execPath,
      [
        join(ROOT, 'node_modules/vitest/vitest.mjs'),
        'run',
        '--project',
        project,
        '--reporter=default',
        '--reporter=json',
        `--outputFile.json=${report}`,
      ],
      { cwd: ROOT, stdio: 'inherit' },
    );
    const result = readReport(report);
    passed += result.passed;
    failed += result.failed;
    // A run that broke without a failing test (no report, an error outside the tests) is a failure all the same.
    if (done.status !== 0 && result.failed === 0) count(`the ${project} tests as a whole`, false);
  }
  say(`${passed} passed, ${failed} failed`);
  return failed === 0 && passed > 0 ? 0 : 1;
}

function readReport(path) {
  try {
    const { numPassedTests, numFailedTests } = JSON.parse(readFileSync(path, 'utf8'));
    return { passed: numPassedTests, failed: numFailedTests };
  } catch {
    return { passed: 0, failed: 0 };
  }
}
