import { afterEach, expect, it } from 'vitest';
import { LARGE_BYTES, ReaderMemory, readersHold } from './reader-memory.js';

const MOST = 64;
const all: ReaderMemory[] = [];
const reader = (): ReaderMemory => {
  const made = new ReaderMemory();
  all.push(made);
  return made;
};
afterEach(() => {
  for (const one of all.splice(0)) one.end();
  expect(readersHold()).toEqual({ readers: 0, largeBytes: 0 });
});

it('two large buffers for each while there are any, then one, and never more than there are', async () => {
  const counts = [];
  for (let n = 0; n < MOST / 2 - 1; n += 1) counts.push(await reader().growInTurn(2));
  const [last, crowded] = [reader(), reader()];
  expect(last.grow(1)).toBe(true);
  expect(await crowded.growInTurn(2)).toBe(true);
  expect([new Set(counts), crowded.largeCount]).toEqual([new Set([true]), 1]);
  expect(readersHold().largeBytes).toBe(MOST * LARGE_BYTES);
});

it('who finds none waits for a turn, in the order in which they came; nobody passes them', async () => {
  const holders = Array.from({ length: MOST }, reader);
  for (const one of holders) expect(one.grow(1)).toBe(true);
  const [first, second] = [reader(), reader()];
  const got: string[] = [];
  const waiting = [
    first.growInTurn(2).then(() => got.push('first')),
    second.growInTurn(2).then(() => got.push('second')),
  ];
  holders[0]?.shrink();
  expect(reader().grow(1)).toBe(false);
  holders[1]?.shrink();
  await Promise.all(waiting);
  expect([got, first.largeCount, second.largeCount]).toEqual([['first', 'second'], 1, 1]);
});

it('does not wait for ever where slow readers hold them all, and takes none later', async () => {
  const holders = Array.from({ length: MOST }, reader);
  for (const one of holders) one.grow(1);
  const patient = reader();
  expect(await patient.growInTurn(2)).toBe(false);
  holders[0]?.shrink();
  expect([patient.isLarge, readersHold().largeBytes]).toEqual([false, (MOST - 1) * LARGE_BYTES]);
});
