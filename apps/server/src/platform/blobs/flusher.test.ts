import { describe, expect, it } from 'vitest';
import { flusher } from './flusher.js';

/** A disk whose flushes end when the test says so. */
function disk() {
  const under: { done: () => void; failed: (error: Error) => void }[] = [];
  const datasync = () => new Promise<void>((done, failed) => under.push({ done, failed }));
  return { datasync, under };
}

describe('flushing beside what arrives', () => {
  it('begins each time so much has come, one at a time, and tells up to where it is safe', async () => {
    const { datasync, under } = disk();
    const safe: number[] = [];
    const flush = flusher({ datasync }, 100, async (offset) => void safe.push(offset), 10);
    for (const written of [105, 110, 118, 130]) flush.look(written);
    expect(under).toHaveLength(1);
    under[0]?.done();
    await flush.settled();
    expect(safe).toEqual([110]);
    flush.look(119);
    expect(under).toHaveLength(1);
    flush.look(120);
    under[1]?.done();
    await flush.settled();
    expect(safe).toEqual([110, 120]);
  });
  it('a disk that failed once is not believed later, though it tells of it only once', async () => {
    const { datasync, under } = disk();
    const flush = flusher({ datasync }, 0, undefined, 10);
    flush.look(10);
    under[0]?.failed(new Error('EIO'));
    await expect(flush.settled()).rejects.toThrow('EIO');
    flush.look(20);
    expect(under).toHaveLength(1);
    await expect(flush.settled()).rejects.toThrow('EIO');
  });
});
