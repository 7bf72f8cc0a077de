import { createHash } from 'node:crypto';
import { describe, expect, it } from 'vitest';
import { Pouring } from './blobs/blob-threads.js';
import { Thread } from './thread.js';

const SCRIPT = 'platform/blobs/blob.thread.js';

describe('a thread that answers', () => {
  it('tells what went wrong with the code of the system, and goes on', async () => {
    const thread = new Thread(SCRIPT);
    const files = [{ folder: '/nowhere', path: '/nowhere/x', bytes: new Uint8Array(3), overwrite: true }];
    await expect(thread.ask('writeEach', { root: '/nowhere', files })).rejects.toMatchObject({ code: 'ENOENT' });
    // EBADF: a descriptor that no process has.
    const piece = new Uint8Array(1);
    await expect(thread.ask('pour', { state: 1, fd: 99_999, piece, position: 0 })).rejects.toMatchObject({
      code: 'EBADF',
    });
    expect(await thread.ask('hashEach', { pieces: [new Uint8Array(0)] })).toHaveLength(1);
    expect(thread.asked).toBe(0);
  });

  it('fails what is asked of one that cannot start or has ended, and starts anew', async () => {
    const missing = new Thread('platform/no-such-thread.js');
    await expect(missing.ask('x', {})).rejects.toThrow();
    await expect(missing.ask('x', {})).rejects.toThrow();
    expect(missing.asked).toBe(0);
  });
});

describe('hashes beside', () => {
  it('are of each stream by itself, however many come at once and in whatever pieces', async () => {
    const streams = Array.from({ length: 20 }, (_, n) =>
      Array.from({ length: 30 }, (_, i) => Buffer.alloc(1 + i * n, i)),
    );
    const digests = await Promise.all(
      streams.map(async (pieces) => {
        const pouring = new Pouring();
        for (const piece of pieces) await pouring.take(piece);
        return pouring.digest();
      }),
    );
    for (const [n, { sha256 }] of digests.entries())
      expect(
        sha256.equals(
          createHash('sha256')
            .update(Buffer.concat(streams[n] as Buffer[]))
            .digest(),
        ),
      ).toBe(true);
  });

  it('leave the memory that they are asked about as it is', async () => {
    const pooled = Buffer.from('in a pool that others share');
    const pouring = new Pouring();
    await pouring.take(pooled);
    expect(pooled.toString()).toBe('in a pool that others share');
    pouring.drop();
  });
});
