import { describe, expect, it } from 'vitest';
import { isOutgoingDue } from './outgoing.js';

const DAY = 86_400_000;
const NOW = Date.parse('2026-12-01T10:00:00Z');
const ago = (days: number) => NOW - days * DAY;
const due = (changed: number, ends: (number | null)[]) =>
  isOutgoingDue({ changedAt: ago(changed), sharesEnd: ends.map((e) => (e === null ? null : ago(e))) }, 30, NOW);

describe('what lies in Outgoing', () => {
  it.each([
    ['came long ago and went nowhere', 31, [], true],
    ['came lately', 29, [], false],
    ['is in a share that could be opened still', 400, [200, null], false],
    ['was in one until lately', 400, [200, 29], false],
    ['was in one long ago', 400, [200, 30], true],
  ] as [string, number, (number | null)[], boolean][])('that %s', (_, changed, ends, expected) =>
    expect(due(changed, ends)).toBe(expected),
  );
});
