import fc from 'fast-check';
import { TheilSenRegression } from 'ml-regression-theil-sen';
import { describe, expect, it } from 'vitest';
import { fillForecast, theilSen } from './forecast.js';

const DAY = 86_400_000;

describe('the Theil–Sen line', () => {
  it('is that of an independent implementation (npm ml-regression-theil-sen)', () => {
    const points = fc
      .array(fc.tuple(fc.integer({ min: 0, max: 400 }), fc.integer({ min: -1000, max: 1000 })), {
        minLength: 3,
        maxLength: 40,
      })
      .filter((p) => new Set(p.map(([x]) => x)).size > 2 && new Set(p.map(([x]) => x)).size === p.length)
      // Of an even number of values the package takes the lower middle one, where the median is the mean of both.
      .filter((p) => p.length % 4 === 3);
    fc.assert(
      fc.property(points, (list) => {
        const theirs = new TheilSenRegression(
          list.map(([x]) => x),
          list.map(([, y]) => y),
        );
        expect(theilSen(list)?.slope).toBeCloseTo(theirs.slope, 9);
        expect(theilSen(list)?.intercept).toBeCloseTo(theirs.intercept, 6);
      }),
    );
  });
  // Hollander and Wolfe, Nonparametric Statistical Methods, §9.3 give M = (N ± C)/2; the figures are worked from that by hand.
  it('has an interval that holds the slope and shrinks on a straight line', () => {
    const straight = theilSen(Array.from({ length: 30 }, (_, i) => [i, 5 + 3 * i] as const));
    expect([straight?.slope, straight?.low, straight?.high, straight?.intercept]).toEqual([3, 3, 3, 5]);
    const bent = theilSen([
      [0, 0],
      [1, 2],
      [2, 1],
      [3, 5],
      [4, 4],
      [5, 9],
      [6, 6],
      [7, 8],
    ]);
    expect(bent && bent.low <= bent.slope && bent.slope <= bent.high && bent.low < bent.high).toBe(true);
  });
  it('is not moved by a fifth of wild values', () => {
    const wild = Array.from({ length: 30 }, (_, i) => [i, i % 6 === 0 ? 1e6 : 2 * i] as const);
    expect(theilSen(wild)?.slope).toBeCloseTo(2, 0);
  });
  it('does not exist for one point or one column', () =>
    expect([
      theilSen([[1, 1]]),
      theilSen([
        [1, 1],
        [1, 5],
      ]),
    ]).toEqual([null, null]));
});

describe('when the room is full', () => {
  const now = Date.parse('2026-11-25T00:00:00Z');
  const rising = Array.from({ length: 30 }, (_, i) => ({ at: now - (29 - i) * DAY, usedBytes: 1_000_000 * (i + 1) }));
  it('is where the line meets the capacity', () =>
    expect(fillForecast(rising, 50_000_000, now)?.fullAt).toBe(now + 20 * DAY));
  it('is never when nothing grows, and now when it is full already', () => {
    expect(
      fillForecast(
        rising.map((s) => ({ ...s, usedBytes: 7 })),
        50,
        now,
      ),
    ).toMatchObject({ bytesPerDay: 0, fullAt: null });
    expect(fillForecast(rising, 30_000_000, now)?.fullAt).toBe(now);
  });
  it('is not guessed from a few days', () => expect(fillForecast(rising.slice(0, 6), 50_000_000, now)).toBeNull());
});
