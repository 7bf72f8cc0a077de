import { describe, expect, it } from 'vitest';
import { Thread } from './thread.js';

const SCRIPT = 'platform/blobs/blob.thread.js';

describe('a thread that answers', () => {
  it('tells what went wrong with the code of the system, and goes on', async () => {
    const thread = new Thread(SCRIPT);
    const files = [{ folder: '/nowhere', path: '/nowhere/x', bytes: new Uint8Array(3), overwrite: true }];
    await expect(thread.ask('writeEach', { root: '/nowhere', files })).rejects.toMatchObject({ code: 'ENOENT' });
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
