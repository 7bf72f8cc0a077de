import { runProgram, withOffice } from './lib/office.mjs';

/** Looks at everything that makes a server fail one day. */
export async function run(args) {
  const asked = args.includes('--json') ? ['--json'] : [];
  return withOffice(args, (env, user) => runProgram('health/main.js', asked, env, user));
}
