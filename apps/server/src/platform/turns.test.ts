import { describe, expect, it } from 'vitest';
import { Turns } from './turns.js';

/** Work that ends when it is told to. */
function work() {
  let end = (): void => undefined;
  const done = new Promise<void>((resolve) => (end = resolve));
  return { done, end };
}
const tick = () => new Promise((resolve) => setImmediate(resolve));

describe('turns', () => {
  it('whoever asks for much waits for themselves, and nobody else for them', async () => {
    const turns = new Turns(2, 30);
    const log: string[] = [];
    const greedy = Array.from({ length: 30 }, (_, n) => ({ ...work(), n }));
    const all = greedy.map(({ done, n }) => turns.run('greedy', () => (log.push(`greedy ${n}`), done)));
    const other = turns.run('other', () => Promise.resolve(log.push('other')));
    await other;
    expect(log).toEqual(['greedy 0', 'other']);
    for (const { end } of greedy) end();
    await Promise.all(all);
    expect(log).toHaveLength(31);
  });
  it('goes on after a failure, and refuses what is too much', async () => {
    const turns = new Turns(1, 1);
    const first = work();
    const running = turns.run('a', () => first.done.then(() => Promise.reject(new Error('broken'))));
    const second = turns.run('a', () => Promise.resolve('second'));
    await tick();
    await expect(turns.run('a', () => Promise.resolve('third'))).rejects.toMatchObject({ code: 'turns.too-many' });
    first.end();
    await expect(running).rejects.toThrow('broken');
    expect(await second).toBe('second');
    expect(await turns.run('a', () => Promise.resolve('later'))).toBe('later');
  });
});
