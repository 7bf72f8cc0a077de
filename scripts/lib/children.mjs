// Child processes that end with us, however we end.
import { fork } from 'node:child_process';
import { fail } from './words.mjs';

/**
 * A heap that grows by a third instead of doubling or more, and a smaller young generation: a little of the archives'
 * speed for a third of the memory. Old space may be 72 MB before it is collected: buffers of uploads count against its
 * limit, and with the little that is alive here everything was collected ten times a second (docs/benchmarks.md).
 * No source maps: they took 80 MB and slowed every error (docs/benchmarks.md).
 */
export const NODE_FLAGS = ['--heap-growing-percent=35', '--max-semi-space-size=8', '--initial-old-space-size=72'];

/**
 * Starts a compiled program and waits until it says that it is ready. It ends when our end of its channel closes.
 * MALLOC_ARENA_MAX (mallopt(3)): many threads that come and go would each keep memory of their own.
 */
export function startProgram(script, env, name) {
  const child = fork(script, [], {
    env: { MALLOC_ARENA_MAX: '2', ...process.env, ...env },
    execArgv: NODE_FLAGS,
    stdio: ['ignore', 'inherit', 'inherit', 'ipc'],
    detached: true,
  });
  const ready = new Promise((resolve, reject) => {
    child.once('message', (message) => (message.ready ? resolve(message) : reject(new Error(message.failed))));
    child.once('exit', (code) => reject(new Error(`it ended (${code}) before it was ready`)));
  });
  const stop = () =>
    new Promise((resolve) => {
      if (child.exitCode !== null || child.signalCode !== null) return resolve();
      child.once('exit', resolve);
      child.kill('SIGTERM');
      setTimeout(() => child.kill('SIGKILL'), 8000).unref();
    });
  return ready.then(
    (message) => ({ child, stop, message }),
    async (error) => {
      await stop();
      fail(`${name} did not start: ${error.message}.`);
    },
  );
}
