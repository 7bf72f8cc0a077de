import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { shareFindings, type FindingFacts } from './findings.js';
import { SHARE_STATES } from './share.js';

const NOW = Date.parse('2026-11-24T10:00:00Z');
const DAY = 86_400_000;
const share = (part: Partial<FindingFacts>): FindingFacts => ({
  id: 's',
  state: 'open',
  opensAt: null,
  closesAt: NOW + 7 * DAY,
  createdAt: NOW - DAY,
  lastVisitAt: null,
  barredAt: null,
  ...part,
});
const kinds = (...shares: Partial<FindingFacts>[]) => shareFindings(shares.map(share), NOW).map((f) => f.kind);

// The rule is the product's own; each edge was worked out by hand.
describe('what needs a hand', () => {
  it('nothing, where a share is open for a while', () => expect(kinds({})).toEqual([]));

  it.each([
    [{ closesAt: NOW + DAY }, ['closes-soon']],
    [{ closesAt: NOW + DAY + 1 }, []],
    [{ closesAt: NOW + 1 }, ['closes-soon']],
    [{ closesAt: null, createdAt: NOW - 28 * DAY }, ['open-for-ever']],
    [{ closesAt: null, createdAt: NOW - 28 * DAY + 1 }, []],
    // From its opening on, not from when it was made.
    [{ closesAt: null, createdAt: NOW - 60 * DAY, opensAt: NOW - 27 * DAY }, []],
    [{ closesAt: null, createdAt: NOW - 60 * DAY, opensAt: NOW - 28 * DAY }, ['open-for-ever']],
    [{ state: 'usedUp' }, ['used-up-early']],
    [{ state: 'closed', barredAt: NOW - DAY }, ['barred']],
    [{ state: 'closed', barredAt: NOW - DAY, closesAt: NOW }, []],
    [{ state: 'withdrawn', barredAt: NOW - DAY }, []],
    [{ state: 'usedUp', closesAt: null }, ['used-up-early']],
    [{ state: 'usedUp', closesAt: NOW }, []],
    [{ state: 'broken' }, ['broken']],
    [{ state: 'broken', closesAt: NOW - 1 }, []],
    [{ state: 'withdrawn' }, []],
    [{ state: 'closed', closesAt: NOW - 1 }, []],
    [{ state: 'scheduled', opensAt: NOW + DAY, closesAt: NOW + DAY }, []],
  ] as const)('%j: %j', (part, expected) => expect(kinds(part)).toEqual(expected));

  it('comes in order of harm', () =>
    expect(
      kinds(
        { closesAt: NOW + 1000 },
        { state: 'usedUp' },
        { closesAt: null, createdAt: NOW - 99 * DAY },
        { state: 'broken' },
      ),
    ).toEqual(['broken', 'open-for-ever', 'used-up-early', 'closes-soon']));

  it('is at most one thing for each share, and of shares that were asked about', () => {
    const shares = fc.uniqueArray(
      fc.record<FindingFacts>({
        id: fc.uuid(),
        state: fc.constantFrom(...SHARE_STATES),
        opensAt: fc.option(fc.integer({ min: NOW - 99 * DAY, max: NOW + 99 * DAY })),
        closesAt: fc.option(fc.integer({ min: NOW - 99 * DAY, max: NOW + 99 * DAY })),
        createdAt: fc.integer({ min: NOW - 99 * DAY, max: NOW }),
        lastVisitAt: fc.constant(null),
        barredAt: fc.option(fc.integer({ min: NOW - 99 * DAY, max: NOW })),
      }),
      { selector: (s) => s.id },
    );
    fc.assert(
      fc.property(shares, (list) => {
        const found = shareFindings(list, NOW).map((f) => f.shareId);
        expect(new Set(found).size).toBe(found.length);
        for (const id of found) {
          const facts = list.find((s) => s.id === id);
          const isOver = facts?.barredAt === null ? ['withdrawn', 'closed', 'scheduled'] : ['withdrawn', 'scheduled'];
          expect(isOver).not.toContain(facts?.state);
        }
      }),
    );
  });
});
