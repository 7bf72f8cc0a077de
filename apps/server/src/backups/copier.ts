import { fork, type ChildProcess } from 'node:child_process';
import { on } from 'node:events';
import { existsSync } from 'node:fs';
import { join, resolve } from 'node:path';
import { BackupFault } from './copying/fault.js';
import type { Step } from './copying/make.js';
import type { Answer, Order, Said } from './program.js';

/** Compiled; tests run from the sources, beside which what is built lies. */
const PROGRAM = [
  join(import.meta.dirname, 'program.js'),
  resolve(import.meta.dirname, '../../dist/backups/program.js'),
].find((path) => existsSync(path)) as string;

/**
 * Has an order carried out by a process of its own: encrypting and reading back would hold up whoever asks for anything
 * else.
 * @param tell hears how far it is; when it fails, the process is ended
 * @throws BackupFault
 */
export async function copy<A extends Answer>(order: Order, tell: (step: Step) => Promise<void>): Promise<A> {
  const child = fork(PROGRAM, [], { stdio: ['ignore', 'ignore', 'inherit', 'ipc'], execArgv: [], detached: true });
  try {
    child.send(order);
    for await (const said of saidBy(child)) {
      if ('step' in said) await tell(said.step);
      if ('failed' in said) throw new BackupFault(said.failed.code, said.failed.words);
      if ('done' in said) return said.done as A;
    }
    throw new BackupFault('backup.broke-off', 'the program that copies ended before it was done.');
  } finally {
    child.kill('SIGKILL');
  }
}

async function* saidBy(child: ChildProcess): AsyncGenerator<Said> {
  const ended = new AbortController();
  child.once('exit', () => ended.abort());
  child.once('error', () => ended.abort());
  try {
    for await (const [said] of on(child, 'message', { signal: ended.signal })) yield said as Said;
  } catch (error) {
    if ((error as Error).name !== 'AbortError') throw error;
  }
}
