// Has backups made and brought back by the server's own program for that.
import { spawn } from 'node:child_process';
import { join } from 'node:path';
import { ROOT } from './install.mjs';
import { asUser } from './office.mjs';
import { fail } from './words.mjs';

/** @returns what the program ended with; a fault ends the command with its words */
export function copier(order, env = process.env, user = null) {
  const program = join(ROOT, 'apps/server/dist/backups/program.js');
  const child = spawn(...asUser(user, process.execPath, [program]), {
    env,
    stdio: ['inherit', 'inherit', 'inherit', 'ipc'],
  });
  let shown = '';
  const show = (words) => {
    if (!process.stdout.isTTY || words === shown) return;
    process.stdout.write(`\r\u001b[K${words}`);
    shown = words;
  };
  return new Promise((resolve, reject) => {
    child.on('message', (said) => {
      if (said.step) show(`${said.step.words}${said.step.total ? ` (${said.step.done} of ${said.step.total})` : ''}`);
      else show('');
      if (said.done) resolve(said.done);
      if (said.failed) reject(said.failed);
    });
    child.once('exit', () => reject({ words: 'the program that copies ended before it was done.' }));
    child.send(order);
  }).catch((failed) => fail(failed.words ?? failed.message));
}
