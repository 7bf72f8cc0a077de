import { describe, expect, it } from 'vitest';
import { ACCESS_LEVELS } from './access.js';
import { actBits, ACTS, actsOf, actsOfBits, LEVEL_FOR_ACT, levelOfActs } from './acts.js';

describe('levels', () => {
  it('are sets of acts and no ladder: who adds files does not read what is there by that', () => {
    expect(actsOf('contribute', 'nothing').all).toEqual(['add']);
    expect(actsOf('download', 'nothing').all).toEqual(['see', 'read']);
  });
  it('that are named for an act let somebody do it, and none before them does', () => {
    for (const act of ACTS) {
      const least = ACCESS_LEVELS.indexOf(LEVEL_FOR_ACT[act]);
      ACCESS_LEVELS.forEach((level, i) => expect(actsOf(level, 'read').all.includes(act)).toBe(i >= least));
    }
  });
});

describe('acts', () => {
  it('are told by the level they came from, and not at all where only grants can be managed', () => {
    for (const level of ACCESS_LEVELS) expect(levelOfActs(actsOf(level, 'read').all)).toBe(level);
    expect([levelOfActs([]), levelOfActs(['manage'])]).toEqual([null, null]);
  });
  it('are kept as bits and come back in their order', () => {
    for (const level of ACCESS_LEVELS) {
      const { all } = actsOf(level, 'see');
      expect(actsOfBits(actBits(all))).toEqual(ACTS.filter((act) => all.includes(act)));
    }
    expect(actBits(ACTS)).toBe(2 ** ACTS.length - 1);
  });
});
