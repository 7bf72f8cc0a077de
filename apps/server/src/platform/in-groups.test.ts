import { expect, it } from 'vitest';
import { inGroups } from './in-groups.js';

const numbers = (count: number) => Array.from({ length: count }, (_, i) => i);
const soon = () => new Promise((resolve) => setImmediate(resolve));

it('works through all of it in order, so many together and so many groups side by side', async () => {
  const groups: number[][] = [];
  let [now, most] = [0, 0];
  const left = await inGroups(numbers(12), { size: 5, lanes: 2, beganWithinMs: 60_000 }, async (group) => {
    groups.push(group);
    most = Math.max(most, (now += 1));
    await soon();
    now -= 1;
  });
  expect(groups).toEqual([
    [0, 1, 2, 3, 4],
    [5, 6, 7, 8, 9],
    [10, 11],
  ]);
  expect([left, most]).toEqual([[], 2]);
});

it('begins nothing once its time is up, and says what is left', async () => {
  const done: number[] = [];
  const left = await inGroups(numbers(5), { size: 2, lanes: 1, beganWithinMs: 20 }, async (group) => {
    done.push(...group);
    await new Promise((resolve) => setTimeout(resolve, 30));
  });
  expect([done, left]).toEqual([
    [0, 1],
    [2, 3, 4],
  ]);
  expect(await inGroups([], { size: 2, lanes: 2, beganWithinMs: 0 }, () => Promise.resolve())).toEqual([]);
});
