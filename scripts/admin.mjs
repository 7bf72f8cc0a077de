import { runProgram, withOffice } from './lib/office.mjs';

/** Accounts, for whoever has the machine: when nobody can sign in any more, too. */
export async function run(args) {
  // What is about where the data lies is no part of what is asked.
  const asked = args.filter((a, i) => !['--demo', '--port'].includes(a) && args[i - 1] !== '--port');
  return withOffice(args, (env, user) => runProgram('accounts/main.js', asked, env, user));
}
