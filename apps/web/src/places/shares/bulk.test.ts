import type { ShareRow } from '@quay/contract';
import { describe, expect, it } from 'vitest';
import { canBe, doneWords, failedWords, stepsOf } from './bulk';

const ZONE = 'Europe/London';
const NOW = Date.parse('2026-12-01T10:00:00Z');
const row = (part: Partial<ShareRow>) =>
  ({
    ...{ id: 'x', title: 'Tender pack 3', opensAt: null, closesAt: '2026-12-08T17:00:00.000Z' },
    ...{ withdrawnAt: null, closed: false },
    ...part,
  }) as ShareRow;

describe('what is done to several shares', () => {
  it('extends each by a week from its end, or from now where it has closed', () => {
    const [open, closed] = stepsOf('extend', [row({}), row({ closesAt: '2026-11-01T17:00:00.000Z' })], NOW, ZONE);
    expect(open?.change).toEqual({ window: { opensAt: null, closesAt: '2026-12-15T17:00:00.000Z' } });
    expect(open?.before).toEqual({ window: { opensAt: null, closesAt: '2026-12-08T17:00:00.000Z' } });
    expect(closed?.change).toEqual({ window: { opensAt: null, closesAt: '2026-12-08T10:00:00.000Z' } });
  });
  it('leaves out what it cannot be done to', () => {
    const withdrawn = row({ withdrawnAt: '2026-11-30T10:00:00.000Z' });
    expect(canBe('extend', row({ closesAt: null }))).toBe(false);
    expect(canBe('extend', row({ closed: true }))).toBe(false);
    expect(canBe('withdraw', row({ closed: true }))).toBe(true);
    expect(stepsOf('withdraw', [withdrawn, row({})], NOW, ZONE)).toHaveLength(1);
    expect(stepsOf('reopen', [withdrawn, row({})], NOW, ZONE)).toEqual([
      { id: 'x', title: 'Tender pack 3', change: { withdrawn: false }, before: { withdrawn: true } },
    ]);
  });
  it('is told in words', () => {
    expect(doneWords('extend', 3)).toBe('3 shares extended by a week.');
    const why = 'A rule.';
    expect(failedWords([{ title: 'A', why }])).toBe('A: A rule.');
    expect(failedWords([1, 2, 3].map(() => ({ title: 'A', why })))).toBe('A: A rule. And 2 more could not be changed.');
  });
});
