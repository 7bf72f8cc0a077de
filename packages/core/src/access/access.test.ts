import { describe, expect, it } from 'vitest';
import { ACCESS_LEVELS, includes } from './access.js';
import { actBits, ACTS, actsOf, actsOfBits, levelOfActs } from './acts.js';

describe('levels', () => {
  it('include those before them, and nothing includes more than itself', () => {
    ACCESS_LEVELS.forEach((level, i) =>
      ACCESS_LEVELS.forEach((needed, j) => expect(includes(level, needed)).toBe(i >= j)),
    );
    expect(includes(null, 'view')).toBe(false);
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
