import { describe, expect, it } from 'vitest';
import {
  extendedBy,
  fromLocalField,
  presetCloses,
  startOfDay,
  momentLater,
  momentLaterOf,
  movedOn,
  toLocalField,
  windowFault,
  windowPhase,
} from './window.js';

// IANA time zone database, europe: London leaves summer time on the last Sunday of October at 01:00 UTC and enters it on
// the last Sunday of March at 01:00 UTC: 25 Oct 2026 and 28 Mar 2027.
const ZONE = 'Europe/London';
const at = (text: string) => Date.parse(text);
const HOUR = 3_600_000;
const utc = (text: string) => Date.parse(`${text}Z`);

describe('a window is half-open', () => {
  const window = { opensAt: 100, closesAt: 200 };
  it.each([
    [99, 'scheduled'],
    [100, 'open'],
    [199, 'open'],
    [200, 'closed'],
  ] as const)('at %i it is %s', (at, phase) => expect(windowPhase(window, at)).toBe(phase));
  it('without ends it is always open', () => expect(windowPhase({ opensAt: null, closesAt: null }, 0)).toBe('open'));
});

describe('presets are calendar arithmetic', () => {
  it('a week across the end of summer time is the same wall time, 169 hours on', () => {
    const from = utc('2026-10-20T16:00:00');
    const closes = presetCloses('1-week', from, ZONE);
    expect(toLocalField(from, ZONE)).toBe('2026-10-20T17:00');
    expect(toLocalField(closes, ZONE)).toBe('2026-10-27T17:00');
    expect(closes - from).toBe(169 * HOUR);
  });
  it('a week across its beginning is 167 hours on', () =>
    expect(presetCloses('1-week', utc('2027-03-25T09:00:00'), ZONE) - utc('2027-03-25T09:00:00')).toBe(167 * HOUR));
  it('a wall time that the change skips moves on by the gap (RFC 5545 §3.3.5)', () => {
    const closes = presetCloses('1-day', utc('2027-03-27T01:30:00'), ZONE);
    expect(toLocalField(closes, ZONE)).toBe('2027-03-28T02:30');
  });
  it('seconds are dropped', () =>
    expect(presetCloses('1-day', utc('2026-11-24T10:04:59'), ZONE)).toBe(utc('2026-11-25T10:04:00')));
  it("the end of this week is Friday 17:00, and the next week's from Friday 16:00 on", () => {
    expect(presetCloses('end-of-week', utc('2026-11-24T10:00:00'), ZONE)).toBe(utc('2026-11-27T17:00:00'));
    expect(presetCloses('end-of-week', utc('2026-11-27T15:59:00'), ZONE)).toBe(utc('2026-11-27T17:00:00'));
    expect(presetCloses('end-of-week', utc('2026-11-27T16:00:00'), ZONE)).toBe(utc('2026-12-04T17:00:00'));
    expect(presetCloses('end-of-week', utc('2026-11-28T09:00:00'), ZONE)).toBe(utc('2026-12-04T17:00:00'));
  });
  it('3 and 30 days', () => {
    expect(presetCloses('3-days', utc('2026-11-24T10:00:00'), ZONE)).toBe(utc('2026-11-27T10:00:00'));
    expect(presetCloses('30-days', utc('2026-11-24T10:00:00'), ZONE)).toBe(utc('2026-12-24T10:00:00'));
  });
  it('extending keeps the wall time', () =>
    expect(toLocalField(extendedBy(utc('2026-10-24T16:00:00'), 7, ZONE), ZONE)).toBe('2026-10-31T17:00'));
});

describe('fields', () => {
  it('go there and back', () => expect(fromLocalField('2026-07-01T17:00', ZONE)).toBe(utc('2026-07-01T16:00:00')));
  it.each(['', 'soon', '2026-13-01T00:00'])('%j is not a moment', (text) =>
    expect(fromLocalField(text, ZONE)).toBeNull(),
  );
  it('a day begins at local midnight', () =>
    expect(startOfDay(utc('2026-07-01T22:59:00'), 1, ZONE)).toBe(utc('2026-07-01T23:00:00')));
});

describe('faults', () => {
  const now = utc('2026-11-24T10:00:00');
  it.each([
    [{ opensAt: now + 2 * HOUR, closesAt: now + HOUR }, 'window.closes-before-opens'],
    [{ opensAt: now + HOUR, closesAt: now + HOUR }, 'window.closes-before-opens'],
    [{ opensAt: null, closesAt: now }, 'window.closes-in-the-past'],
    [{ opensAt: null, closesAt: now + 11 * 366 * 24 * HOUR }, 'window.too-far'],
    [{ opensAt: null, closesAt: null }, null],
    [{ opensAt: now - HOUR, closesAt: now + HOUR }, null],
  ])('%j is %s', (window, fault) => expect(windowFault(window, now)).toBe(fault));
});

describe('moments that are kept for later', () => {
  it('are days and a time of day, whatever the clocks do meanwhile', () => {
    const now = at('2026-10-24T21:00:00Z');
    const later = momentLaterOf(at('2026-10-26T17:00:00Z'), now, ZONE);
    expect(later).toEqual({ days: 2, at: '17:00' });
    expect(momentLater(later, now, ZONE)).toBe(at('2026-10-26T17:00:00Z'));
    expect(momentLater(later, at('2026-06-01T10:00:00Z'), ZONE)).toBe(at('2026-06-03T16:00:00Z'));
    // Half an hour that does not exist that day comes after it.
    expect(momentLater({ days: 1, at: '01:30' }, at('2026-03-28T12:00:00Z'), ZONE)).toBe(at('2026-03-29T01:30:00Z'));
  });
  it('move a window on until it begins now or later', () => {
    const window = { opensAt: at('2026-10-20T07:00:00Z'), closesAt: at('2026-10-27T17:00:00Z') };
    const moved = movedOn(window, 0, at('2026-12-01T08:00:00Z'), ZONE);
    expect(moved).toEqual({ opensAt: at('2026-12-01T08:00:00Z'), closesAt: at('2026-12-08T17:00:00Z') });
    const open = movedOn(
      { opensAt: null, closesAt: null },
      at('2026-10-20T07:00:00Z'),
      at('2026-12-01T08:00:00Z'),
      ZONE,
    );
    expect(open).toEqual({ opensAt: null, closesAt: null });
  });
});
