import type { Writable } from 'node:stream';

/**
 * Waits until a stream takes more, or has gone. Nobody goes on listening after that, however often it is waited for.
 */
export function drained(stream: Writable): Promise<void> {
  if (stream.destroyed || !stream.writableNeedDrain) return Promise.resolve();
  return new Promise((resolve) => {
    const done = () => {
      stream.off('drain', done).off('close', done);
      resolve();
    };
    stream.on('drain', done).on('close', done);
  });
}
