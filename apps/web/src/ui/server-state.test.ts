import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest';
import { Refresher, staleAfter, type StateKey } from './server-state';

beforeEach(() => void vi.useFakeTimers());
afterEach(() => void vi.useRealTimers());

describe('what has become stale', () => {
  const asked: { at: number; key: StateKey }[] = [];
  const refresher = () => {
    asked.length = 0;
    const begun = Date.now();
    return new Refresher((key) => asked.push({ at: Date.now() - begun, key }));
  };

  it('is asked for at once', () => {
    refresher().add([['folder', 'a']]);
    expect(asked).toEqual([{ at: 0, key: ['folder', 'a'] }]);
  });

  it('is asked for a few times while ten thousand files arrive, and once more after the last', async () => {
    const some = refresher();
    for (let i = 0; i < 10_000; i += 1) {
      some.add(staleAfter({ topic: 'node', id: 'here' }));
      await vi.advanceTimersByTimeAsync(1);
    }
    await vi.advanceTimersByTimeAsync(10_000);
    const times = asked.filter((a) => a.key[0] === 'folder').map((a) => a.at);
    expect(times.length).toBeLessThanOrEqual(8);
    expect(times.at(-1)).toBeGreaterThanOrEqual(9_999);
  });

  it('is asked for soon again after it was quiet', async () => {
    const some = refresher();
    for (let i = 0; i < 100; i += 1) {
      some.add([['stores']]);
      await vi.advanceTimersByTimeAsync(50);
    }
    await vi.advanceTimersByTimeAsync(20_000);
    const before = asked.length;
    some.add([['stores']]);
    some.add([['stores']]);
    await vi.advanceTimersByTimeAsync(200);
    expect(asked.length).toBe(before + 2);
  });

  it('is told of nobody after the end', async () => {
    const some = refresher();
    some.add([['stores']]);
    some.add([['shares']]);
    some.end();
    await vi.advanceTimersByTimeAsync(10_000);
    expect(asked.map((a) => a.key)).toEqual([['stores']]);
  });

  it('names the folder that changed, and not every folder', () => {
    expect(staleAfter({ topic: 'node', id: 'a' })).toContainEqual(['folder', 'a']);
    expect(staleAfter({ topic: 'node', id: 'a' })).not.toContainEqual(['folder']);
  });
});
