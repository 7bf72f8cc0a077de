import { runProgram, withOffice } from './lib/office.mjs';

/** Checks everything that must hold between database, ledger and disk. */
export async function run(args) {
  const asked = args.includes('--deep') ? ['--deep'] : [];
  return withOffice(args, (env, user) => runProgram('check/main.js', asked, env, user));
}
