import { describe, expect, it } from 'vitest';
import { shareFindings } from './findings.js';
import { nextChange, shareState, visitMayContinue, VISIT_LIFETIME_SECONDS, type ShareFacts } from './share.js';

const facts = (part: Partial<ShareFacts> = {}): ShareFacts => ({
  window: { opensAt: 100, closesAt: 200 },
  withdrawnAt: null,
  broken: false,
  visitLimit: null,
  visitsUsed: 0,
  barredAt: null,
  ...part,
});

describe('the state of a share is the first that applies', () => {
  const everything = facts({ withdrawnAt: 50, broken: true, visitLimit: 1, visitsUsed: 1 });
  it('withdrawn before all', () => expect(shareState(everything, 300)).toBe('withdrawn'));
  it('then broken', () => expect(shareState({ ...everything, withdrawnAt: null }, 300)).toBe('broken'));
  it('then used up', () => expect(shareState({ ...everything, withdrawnAt: null, broken: false }, 300)).toBe('usedUp'));
  it('then closed, scheduled, open', () => {
    expect(shareState(facts(), 200)).toBe('closed');
    expect(shareState(facts(), 99)).toBe('scheduled');
    expect(shareState(facts(), 150)).toBe('open');
  });
  it('closed while a guardrail keeps it closed, also before it would open', () => {
    expect(shareState(facts({ barredAt: 120 }), 119)).toBe('open');
    expect(shareState(facts({ barredAt: 120 }), 120)).toBe('closed');
    expect(shareState(facts({ barredAt: 20 }), 50)).toBe('closed');
    expect(nextChange(facts({ barredAt: 20 }), 50)).toBeNull();
  });
  it('the Nth visit uses a limit of N up', () => {
    expect(shareState(facts({ visitLimit: 3, visitsUsed: 2 }), 150)).toBe('open');
    expect(shareState(facts({ visitLimit: 3, visitsUsed: 3 }), 150)).toBe('usedUp');
  });
});

describe('what time brings next', () => {
  it('is the opening, then the closing, then nothing', () => {
    expect(nextChange(facts(), 50)).toEqual({ at: 100, state: 'open' });
    expect(nextChange(facts(), 150)).toEqual({ at: 200, state: 'closed' });
    expect(nextChange(facts(), 200)).toBeNull();
    expect(nextChange(facts({ withdrawnAt: 1 }), 150)).toBeNull();
  });
});

describe('a visit that has begun', () => {
  it('goes on when the limit is reached by others', () =>
    expect(visitMayContinue(facts({ visitLimit: 1, visitsUsed: 1 }), 150, 160)).toBe(true));
  it.each([[{ withdrawnAt: 155 }], [{ broken: true }], [{ window: { opensAt: null, closesAt: 160 } }]])(
    'ends with %j',
    (part) => expect(visitMayContinue(facts(part), 150, 160)).toBe(false),
  );
  it('ends after its lifetime', () => {
    const open = facts({ window: { opensAt: null, closesAt: null } });
    expect(visitMayContinue(open, 0, VISIT_LIFETIME_SECONDS * 1000 - 1)).toBe(true);
    expect(visitMayContinue(open, 0, VISIT_LIFETIME_SECONDS * 1000)).toBe(false);
  });
});

describe('findings', () => {
  const now = 100 * 86_400_000;
  const share = {
    id: 'a',
    state: 'open' as const,
    opensAt: null,
    closesAt: null,
    createdAt: 0,
    lastVisitAt: null,
    barredAt: null,
  };
  it('come in order of harm', () => {
    const found = shareFindings(
      [
        { ...share, id: 'soon', closesAt: now + 1000 },
        { ...share, id: 'ever' },
        { ...share, id: 'broken', state: 'broken' },
        { ...share, id: 'used', state: 'usedUp' },
      ],
      now,
    );
    expect(found.map((f) => f.shareId)).toEqual(['broken', 'ever', 'used', 'soon']);
  });
  it('leave alone what is over, new or far from its end', () => {
    expect(
      shareFindings(
        [
          { ...share, state: 'broken', closesAt: now - 1 },
          { ...share, createdAt: now - 86_400_000 },
          { ...share, closesAt: now + 5 * 86_400_000 },
          { ...share, state: 'closed', closesAt: now - 1 },
        ],
        now,
      ),
    ).toEqual([]);
  });
});
