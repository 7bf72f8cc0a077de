import { describe, expect, it } from 'vitest';
import { countOf, formatExactBytes, formatSize } from './size.js';
import { distanceInWords, momentInWords, zoneName } from './when.js';

describe('sizes in decimal units (IEC 80000-13)', () => {
  it.each([
    [0, '0 B'],
    [999, '999 B'],
    [1000, '1 kB'],
    [1500, '1.5 kB'],
    [48_213_004, '48.2 MB'],
    [99_960, '100 kB'],
    [999_499, '999 kB'],
    [999_500, '1 MB'],
    [1_600_000_000, '1.6 GB'],
    [2 ** 53, '9 PB'],
  ])('%d is %s', (bytes, words) => expect(formatSize(bytes)).toBe(words));
  it('exact bytes are grouped', () => expect(formatExactBytes(48_213_004)).toBe('48,213,004 bytes'));
  it('counts take their noun', () =>
    expect([countOf(1, 'item'), countOf(2, 'item'), countOf(0, 'person', 'people')]).toEqual([
      '1 item',
      '2 items',
      '0 people',
    ]));
});

describe('times in words', () => {
  const now = Date.parse('2026-11-24T10:04:00Z');
  it('are those of the zone', () => {
    expect(momentInWords(Date.parse('2026-12-08T17:00:00Z'), now, 'Europe/London')).toBe('Tue 8 Dec, 17:00');
    expect(momentInWords(Date.parse('2026-12-08T23:30:00Z'), now, 'Europe/Berlin')).toBe('Wed 9 Dec, 00:30');
    expect(momentInWords(Date.parse('2027-01-08T17:00:00Z'), now, 'Europe/London')).toBe('Fri 8 Jan 2027, 17:00');
    expect(momentInWords(Date.parse('2026-09-08T11:00:00Z'), now, 'Europe/London')).toBe('Tue 8 Sep, 12:00');
  });
  it("bear the zone's name", () =>
    expect([zoneName(now, 'Europe/London'), zoneName(Date.parse('2026-07-01T00:00:00Z'), 'Europe/London')]).toEqual([
      'GMT',
      'BST',
    ]));
  it.each([
    [30_000, 'in a moment'],
    [-30_000, 'just now'],
    [3 * 3_600_000, 'in 3 hours'],
    [-3 * 86_400_000, '3 days ago'],
    [-60_000, '1 minute ago'],
  ])('%d ms away: %s', (ms, words) => expect(distanceInWords(now + ms, now)).toBe(words));
});
