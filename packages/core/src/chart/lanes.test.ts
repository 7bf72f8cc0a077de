import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { assignLanes, largestOverlap, type Span } from './lanes.js';

const spans = fc
  .array(fc.tuple(fc.nat(500), fc.integer({ min: 1, max: 200 })), { maxLength: 60 })
  .map((list) => list.map(([from, length], i): Span => ({ id: `s${i}`, from, to: from + length })));
const overlaps = (a: Span, b: Span) => a.from < b.to && b.from < a.to;

describe('lanes (interval partitioning; Kleinberg and Tardos, Algorithm Design, §4.1)', () => {
  it('are as few as the largest overlap, and no two spans in one overlap', () => {
    fc.assert(
      fc.property(spans, (list) => {
        const lanes = assignLanes(list);
        for (const a of list)
          for (const b of list)
            if (a.id < b.id && lanes.get(a.id) === lanes.get(b.id)) expect(overlaps(a, b)).toBe(false);
        expect(new Set(lanes.values()).size).toBe(largestOverlap(list));
      }),
    );
  });
  it('hold that too when lanes are kept from before', () => {
    fc.assert(
      fc.property(spans, fc.nat(59), fc.integer({ min: 1, max: 200 }), (list, which, length) => {
        const before = assignLanes(list);
        const moved = list.map((s, i) => (i === which ? { ...s, to: s.from + length } : s));
        const after = assignLanes(moved, before);
        for (const a of moved)
          for (const b of moved)
            if (a.id < b.id && after.get(a.id) === after.get(b.id)) expect(overlaps(a, b)).toBe(false);
        expect(Math.max(-1, ...after.values()) + 1).toBeLessThanOrEqual(largestOverlap(moved));
      }),
    );
  });
  it('do not jump when one of them grows', () => {
    const list = [
      { id: 'a', from: 0, to: 10 },
      { id: 'b', from: 5, to: 15 },
      { id: 'c', from: 12, to: 20 },
    ];
    const before = assignLanes(list);
    const after = assignLanes(
      list.map((s) => (s.id === 'c' ? { ...s, to: 30 } : s)),
      before,
    );
    expect(after).toEqual(before);
  });
});
