import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { policyWords, versionsToRemove, type VersionFacts } from './retention.js';

const NOW = Date.parse('2026-11-25T10:00:00Z');
const DAY = 86_400_000;
const version = (number: number, daysAgo: number, kept = false): VersionFacts => ({
  id: `v${number}`,
  number,
  createdAt: NOW - daysAgo * DAY,
  kept,
});
const ids = (versions: VersionFacts[], versionsKept: number, thinAfterDays: number | null = null) =>
  versionsToRemove(versions, { versionsKept, thinAfterDays }, NOW)
    .map((r) => r.id)
    .sort();

// The rule is the product's own; the cases were worked out by hand.
describe('which versions a policy removes', () => {
  it('the oldest beyond the number', () =>
    expect(ids([version(1, 4), version(2, 3), version(3, 2), version(4, 1)], 2)).toEqual(['v1', 'v2']));
  it('never one that is kept for ever, which does not count either', () =>
    expect(ids([version(1, 4, true), version(2, 3), version(3, 2, true), version(4, 1)], 1)).toEqual(['v2']));
  it('never the present one, however old', () => expect(ids([version(1, 4000)], 1, 1)).toEqual([]));
  it('of old ones all but the newest of each week', () => {
    // 2026-10-01 is a Thursday, as the epoch was: a week of this rule begins on it.
    const at = (iso: string, number: number): VersionFacts => ({
      id: `v${number}`,
      number,
      createdAt: Date.parse(iso),
      kept: false,
    });
    const list = [
      at('2026-10-01T09:00:00Z', 1),
      at('2026-10-02T09:00:00Z', 2),
      at('2026-10-07T23:59:00Z', 3),
      at('2026-10-08T00:01:00Z', 4),
      at('2026-11-24T09:00:00Z', 5),
      at('2026-11-24T10:00:00Z', 6),
    ];
    expect(ids(list, 32, 14)).toEqual(['v1', 'v2']);
  });
  it('keeps at most as many as it says, and is settled after one go', () => {
    const list = fc.uniqueArray(fc.integer({ min: 1, max: 200 }), { minLength: 1, maxLength: 60 }).chain((numbers) =>
      fc.tuple(
        ...numbers.map((number) =>
          fc.record({
            number: fc.constant(number),
            id: fc.constant(`v${number}`),
            createdAt: fc.integer({ min: NOW - 400 * DAY, max: NOW }),
            kept: fc.boolean(),
          }),
        ),
      ),
    );
    fc.assert(
      fc.property(
        list,
        fc.integer({ min: 1, max: 40 }),
        fc.option(fc.integer({ min: 1, max: 100 })),
        (versions, versionsKept, thinAfterDays) => {
          const removed = new Set(versionsToRemove(versions, { versionsKept, thinAfterDays }, NOW).map((r) => r.id));
          const left = versions.filter((v) => !removed.has(v.id));
          const newest = [...versions].sort((a, b) => b.number - a.number)[0];
          expect(left).toContain(newest);
          expect(versions.filter((v) => v.kept && removed.has(v.id))).toEqual([]);
          // The present one stays even when only kept ones are older.
          expect(left.filter((v) => !v.kept).length).toBeLessThanOrEqual(Math.max(1, versionsKept));
          expect(versionsToRemove(left, { versionsKept, thinAfterDays }, NOW)).toEqual([]);
        },
      ),
    );
  });
  it('is said in words', () =>
    expect([
      policyWords({ versionsKept: 32, thinAfterDays: null }),
      policyWords({ versionsKept: 1, thinAfterDays: 30 }),
    ]).toEqual([
      'The newest 32 versions of a file are kept.',
      'Only the present version is kept; of those older than 30 days, one a week.',
    ]));
});
