import { randomBytes } from 'node:crypto';
import { open, rm, type FileHandle } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { Readable } from 'node:stream';
import { expect, it } from 'vitest';
import { freshPouring, pour } from './pour.js';

it('does not say that it failed while a write is under way, which would lengthen again what is cut off', async () => {
  const path = join(tmpdir(), `pour-${randomBytes(6).toString('hex')}`);
  const file = await open(path, 'w+');
  try {
    let written = false;
    const write = async (...args: Parameters<FileHandle['write']>) => {
      await new Promise((resolve) => setTimeout(resolve, 50));
      const done = await file.write(...args);
      written = true;
      return done;
    };
    const slow = new Proxy(file, { get: (of, key) => (key === 'write' ? write : (Reflect.get(of, key) as unknown)) });
    const none = () => Promise.reject(new Error('no room'));
    // More than a block, so that one is being written when room is refused.
    await expect(pour(Readable.from([randomBytes(300_000)]), slow, freshPouring(), { ask: none })).rejects.toThrow(
      'no room',
    );
    expect(written).toBe(true);
    await file.truncate(0);
    expect((await file.stat()).size).toBe(0);
  } finally {
    await file.close();
    await rm(path);
  }
});
