import { PassThrough } from 'node:stream';
import { describe, expect, it } from 'vitest';
import { drained } from './drained.js';

describe('a stream that is waited for', () => {
  it('takes more, piece after piece, and nobody is left listening', async () => {
    const stream = new PassThrough({ highWaterMark: 10 });
    for (let n = 0; n < 30; n += 1) {
      stream.write(Buffer.alloc(20));
      const waits = drained(stream);
      stream.read();
      await waits;
    }
    expect([stream.listenerCount('drain'), stream.listenerCount('close')]).toEqual([0, 0]);
  });
  it('that goes away is not waited for, nor one that has gone', async () => {
    const stream = new PassThrough({ highWaterMark: 1 });
    stream.write('xx');
    const waits = drained(stream);
    stream.destroy();
    await waits;
    await drained(stream);
  });
});
