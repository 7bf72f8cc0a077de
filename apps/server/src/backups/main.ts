import 'reflect-metadata';
import { onTheMachine } from '../settled.js';
import { configFromEnvironment } from '../platform/config.js';
import { existsSync } from 'node:fs';
import { sourceOf } from './source.js';
import { faultOf } from './copying/fault.js';
import { identitiesOf, openerWith } from './copying/sealer.js';
import { BringPart } from './part.service.js';

/** Brings a part of a backup into the office: FOLDER STAMP PATH [--to FOLDER] [--identity FILE]. @returns the exit code */
async function main([source = '', stamp = '', path = '', ...more]: string[]): Promise<number> {
  const option = (flag: string) => (more.includes(flag) ? (more[more.indexOf(flag) + 1] ?? null) : null);
  const config = configFromEnvironment(process.env);
  let failed = false;
  const ended = await onTheMachine(async (app) => {
    try {
      const asked = option('--identity');
      const own = sourceOf(config).identityFile;
      const files = [asked, existsSync(own) ? own : null].filter((f) => f !== null);
      const open = openerWith((await Promise.all(files.map(identitiesOf))).flat());
      const order = { databaseUrl: config.databaseUrl, source, stamp, path, into: option('--to') };
      const { words, notes } = await app.get(BringPart).bring(order, open, (step) => console.log(step));
      for (const note of notes) console.log(note);
      console.log(words);
    } catch (error) {
      console.error(`quay: ${faultOf(error).message}`);
      failed = true;
    }
  });
  return failed ? 1 : ended;
}

process.exitCode = await main(process.argv.slice(2));
