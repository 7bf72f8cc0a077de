import { describe, expect, it } from 'vitest';
import { TIDY_AFTER_MS, tidyKind, type TidyFacts } from './tidy.js';

const NOW = Date.parse('2026-12-01T09:00:00Z');
const HOUR = 3_600_000;
const facts = (part: Partial<TidyFacts>): TidyFacts => ({
  ...{ window: { opensAt: null, closesAt: null }, withdrawnAt: null, broken: false, visitLimit: null, visitsUsed: 0 },
  ...{ barredAt: null, lastVisitAt: null, removesFiles: false },
  ...part,
});
const closing = (closesAt: number) => ({ window: { opensAt: null, closesAt } });

describe('what may be taken off the list', () => {
  it('has been closed or withdrawn for ninety days', () => {
    expect(tidyKind(facts(closing(NOW - TIDY_AFTER_MS)), NOW)).toBe('closed');
    expect(tidyKind(facts(closing(NOW - TIDY_AFTER_MS + 1)), NOW)).toBeNull();
    expect(tidyKind(facts({ withdrawnAt: NOW - TIDY_AFTER_MS }), NOW)).toBe('withdrawn');
    expect(tidyKind(facts({ withdrawnAt: NOW - HOUR, ...closing(NOW - 2 * TIDY_AFTER_MS) }), NOW)).toBeNull();
  });
  it('is used up, and nobody can be inside any more', () => {
    const used = { visitLimit: 2, visitsUsed: 2 };
    expect(tidyKind(facts({ ...used, lastVisitAt: NOW - 12 * HOUR }), NOW)).toBe('usedUp');
    expect(tidyKind(facts({ ...used, lastVisitAt: NOW - 12 * HOUR + 1 }), NOW)).toBeNull();
    expect(tidyKind(facts({ visitLimit: 2, visitsUsed: 1 }), NOW)).toBeNull();
  });
  it('is broken', () => expect(tidyKind(facts({ broken: true }), NOW)).toBe('broken'));
  it('is nothing that is open, to come, or closed by a rule', () => {
    expect(tidyKind(facts({}), NOW)).toBeNull();
    expect(tidyKind(facts({ window: { opensAt: NOW + HOUR, closesAt: null } }), NOW)).toBeNull();
    expect(tidyKind(facts({ barredAt: NOW - 2 * TIDY_AFTER_MS }), NOW)).toBeNull();
  });
  it('is nothing whose files are still to go with it', () => {
    const removing = { removesFiles: true, broken: true };
    expect(tidyKind(facts({ ...removing, ...closing(NOW + HOUR) }), NOW)).toBeNull();
    expect(tidyKind(facts({ ...removing, ...closing(NOW - HOUR) }), NOW)).toBe('broken');
  });
});
