import 'reflect-metadata';
import { readFileSync } from 'node:fs';
import { onTheMachine } from '../settled.js';
import { readAnswers } from './answers-file.js';
import { SetupService } from './setup.service.js';

/** Makes an office of a file of answers, without a browser. @returns the exit code */
async function main(path: string): Promise<number> {
  const read = readAnswers(readFileSync(path, 'utf8'));
  if ('faults' in read) {
    for (const { line, path: member, words } of read.faults)
      console.error(`${path}${line ? `, line ${line}` : ''}: ${member ? `${member}: ` : ''}${words}`);
    return 1;
  }
  return onTheMachine(async (app) => {
    const begun = await app.get(SetupService).makeOf(read.answers);
    if (begun) console.log(`${begun.office} has begun; ${read.answers.you.signInName} can sign in.`);
    else console.log('There is an office already. Nothing was changed.');
  });
}

process.exitCode = await main(process.argv[2] ?? '');
