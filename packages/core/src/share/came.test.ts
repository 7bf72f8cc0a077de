import { describe, expect, it } from 'vitest';
import { visitEdges } from './came.js';

const ZONE = 'Europe/London';
const at = (iso: string) => Date.parse(iso);

describe('the bars of visits', () => {
  it('are hours for the first three days, and hold both ends', () => {
    const { step, edges } = visitEdges(at('2026-12-01T09:20:00Z'), at('2026-12-01T11:00:00Z'), ZONE);
    expect(step).toBe('hour');
    expect(edges.map((e) => new Date(e).toISOString().slice(11, 16))).toEqual(['09:00', '10:00', '11:00', '12:00']);
  });
  it('are days of the calendar then, over a clock change too (London, 25 October 2026, IANA: a day of 25 hours)', () => {
    const { step, edges } = visitEdges(at('2026-10-23T12:00:00Z'), at('2026-10-27T12:00:00Z'), ZONE);
    expect(step).toBe('day');
    const hours = edges.slice(1).map((e, i) => (e - (edges[i] as number)) / 3_600_000);
    expect(hours).toEqual([24, 24, 25, 24, 24]);
  });
  it('are never many, and each moment lies in one', () => {
    for (const days of [0, 1, 3, 4, 60, 88, 89, 200, 700, 3650]) {
      const from = at('2026-03-02T17:31:00Z');
      const to = from + days * 86_400_000;
      const { edges } = visitEdges(from, to, ZONE);
      expect(edges[0]).toBeLessThanOrEqual(from);
      expect(edges.at(-1)).toBeGreaterThan(to);
      expect(edges.at(-2)).toBeLessThanOrEqual(to);
      expect(edges.length, String(days)).toBeLessThanOrEqual(days > 2500 ? 140 : 92);
    }
  });
  it('are there for a share that was made just now', () =>
    expect(visitEdges(at('2026-12-01T09:00:00Z'), at('2026-12-01T09:00:00Z'), ZONE).edges).toHaveLength(2));
});
