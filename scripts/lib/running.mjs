// Commands that work beside a running product, or by themselves.
import { spawnSync } from 'node:child_process';
import { existsSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { dataFolder, ROOT } from './install.mjs';
import { answers, requireDatabase, startPostgres } from './postgres.mjs';
import { fail, option } from './words.mjs';

/**
 * Runs work with the address of the database: of the one that runs, or of one that is started for it.
 * @param how `make`: it is made where there is none yet
 */
export async function withDatabase(args, work, { make = false } = {}) {
  const port = Number(option(args, '--port', '4180')) + 1;
  const folder = join(dataFolder(args), 'postgres');
  if (!make && !existsSync(join(folder, 'password')))
    fail(`there is no database in ${folder} yet. ./quay start makes one; --demo means that of ./quay demo.`);
  const present = await answers(port);
  const started = present ? null : await startPostgres(folder, port);
  try {
    if (started && make) await requireDatabase(started, 'quay');
    return await work(
      started
        ? started.url('quay')
        : `postgres://quay:${readFileSync(join(folder, 'password'), 'utf8')}@127.0.0.1:${port}/quay`,
    );
  } finally {
    await started?.stop();
  }
}

/** Runs the checker; @returns whether everything holds */
export function check(env, deep = false) {
  return (
    spawnSync(
      process.execPath,
      ['--enable-source-maps', join(ROOT, 'apps/server/dist/check/main.js'), ...(deep ? ['--deep'] : [])],
      { env: { ...process.env, ...env }, stdio: 'inherit' },
    ).status === 0
  );
}
