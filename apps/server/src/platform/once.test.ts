import { expect, it } from 'vitest';
import { Once } from './once.js';

it('what several ask for at the same moment is done once, and anew for those who come later', async () => {
  const once = new Once<number>();
  let times = 0;
  const work = async () => (times += 1);
  expect(await Promise.all([once.once('a', work), once.once('a', work), once.once('b', work)])).toEqual([1, 1, 2]);
  expect(await once.once('a', work)).toBe(3);
});

it('a failure is told to all who waited, and is not remembered', async () => {
  const once = new Once<string>();
  let times = 0;
  const fails = async (): Promise<string> => {
    times += 1;
    throw new Error('away');
  };
  const both = await Promise.allSettled([once.once('a', fails), once.once('a', fails)]);
  expect([times, ...both.map((b) => b.status)]).toEqual([1, 'rejected', 'rejected']);
  expect(await once.once('a', async () => 'there')).toBe('there');
});
