import { describe, expect, it } from 'vitest';
import { minutesAhead, shownIn, whenShown } from './zone.js';

describe('clocks of zones', () => {
  // IANA time zone database, as Intl has it: standard times, and summer time where there is one.
  it.each([
    ['UTC', '2026-11-27T17:28:45Z', 0],
    ['Europe/London', '2026-11-27T17:28:45.999Z', 0],
    ['Europe/London', '2026-07-01T00:00:59Z', 60],
    ['Asia/Kolkata', '2026-01-01T00:00:31Z', 330],
    ['America/St_Johns', '2026-01-01T00:00:01Z', -210],
    ['Australia/Lord_Howe', '2026-01-01T00:00:00Z', 660],
    ['Pacific/Chatham', '2026-07-01T12:34:56Z', 765],
  ])('%s is at %s so many minutes ahead, whatever the second', (zone, at, minutes) =>
    expect(minutesAhead(zone, Date.parse(at))).toBe(minutes),
  );
  it('show a moment, and the moment at which they show it', () => {
    const at = Date.parse('2026-07-01T12:34:00Z');
    expect(new Date(shownIn('Europe/London', at)).toISOString()).toBe('2026-07-01T13:34:00.000Z');
    expect(whenShown('Europe/London', Date.parse('2026-07-01T13:34:00Z'))).toBe(at);
  });
});
