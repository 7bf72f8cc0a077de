import 'reflect-metadata';
import { SIGN_IN_NAME } from '@quay/core';
import { emailSchema } from '@quay/contract';
import { Office } from '../platform/office.js';
import { onTheMachine } from '../settled.js';
import { AccountsService } from './accounts.service.js';

const USAGE = `./quay admin list                         everybody who has an account
./quay admin make NAME [--full "..." --mail ...]   make somebody an admin; --full and --mail for a new account
./quay admin link NAME                    a link by which NAME sets a password, once, within a day
./quay admin sign-out NAME                end all sessions of NAME
./quay admin factor-off NAME              switch off a second factor that NAME lost`;

/** What whoever has the machine does about accounts. @returns the exit code */
async function main([verb = '', name = '', ...more]: string[]): Promise<number> {
  const option = (flag: string) => more[more.indexOf(flag) + 1] ?? '';
  const signInName = name.toLowerCase();
  if (
    verb !== 'list' &&
    (!['make', 'link', 'sign-out', 'factor-off'].includes(verb) || !SIGN_IN_NAME.test(signInName))
  ) {
    console.error(USAGE);
    return 1;
  }
  const fresh = more.includes('--full') ? { name: option('--full').trim(), email: option('--mail') } : null;
  if (fresh && (fresh.name === '' || emailSchema.required().validate(fresh.email).error)) {
    console.error('A new account has a full name and a mail address: --full "Iris Ward" --mail iris@saltmarsh.example');
    return 1;
  }
  return onTheMachine(async (app) => {
    const accounts = app.get(AccountsService);
    const tellLink = async () => {
      const { token, name: whose, endsAt } = await accounts.passwordLink(signInName);
      const base = (await app.get(Office).addresses())[0]?.text ?? `http://127.0.0.1:${process.env['QUAY_PORT']}`;
      console.log(`${whose} sets a password here, once, until ${endsAt.toISOString()}:\n${base}/password/${token}`);
    };
    if (verb === 'list')
      for (const a of await accounts.list())
        console.log(
          `${a.signInName.padEnd(20)} ${a.role.padEnd(6)} ${a.name}${a.left ? ' (has left)' : ''}, ${a.sessions} sessions${a.factor ? ', second factor' : ''}`,
        );
    if (verb === 'make') {
      const { added } = await accounts.makeAdmin(signInName, fresh);
      console.log(`${signInName} is an admin.`);
      if (added) await tellLink();
    }
    if (verb === 'link') await tellLink();
    if (verb === 'factor-off') {
      const { name: whose, wasOn } = await accounts.factorOff(signInName);
      console.log(
        wasOn
          ? `${whose} signs in with the password alone now. Who lost a telephone better sets a new one: ./quay admin link ${signInName}`
          : `${whose} has no second factor.`,
      );
    }
    if (verb === 'sign-out') {
      const { name: whose, ended } = await accounts.endSessions(signInName);
      console.log(`${whose} is signed out everywhere (${ended} sessions).`);
    }
  });
}

process.exitCode = await main(process.argv.slice(2));
