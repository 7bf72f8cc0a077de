import { describe, expect, it } from 'vitest';
import { chosenWindow, windowText } from './window-choice';

const LONDON = 'Europe/London';
const utc = (text: string) => Date.parse(`${text}Z`);
const NOW = utc('2026-10-22T09:00:00');
const custom = (opensField: string, closesField: string) => ({ choice: 'custom' as const, opensField, closesField });

describe('the window that was chosen', () => {
  it('a preset begins now, whatever the fields still say', () =>
    expect(chosenWindow({ ...custom('2026-11-01T10:00', ''), choice: '1-day' }, NOW, LONDON)).toEqual({
      opensAt: null,
      closesAt: NOW + 86_400_000,
    }));

  it('a week keeps the time of day across the end of summer time (25 October 2026)', () =>
    expect(chosenWindow({ ...custom('', ''), choice: '1-week' }, NOW, LONDON).closesAt).toBe(
      utc('2026-10-29T10:00:00'),
    ));

  it.each([
    ['', '', null, null],
    ['2026-11-01T10:00', '', utc('2026-11-01T10:00:00'), null],
    ['', '2026-10-24T17:00', null, utc('2026-10-24T16:00:00')],
    ['2026-10-24T17:00', '2026-10-26T17:00', utc('2026-10-24T16:00:00'), utc('2026-10-26T17:00:00')],
  ])('fields are local times: %j to %j', (opens, closes, opensAt, closesAt) =>
    expect(chosenWindow(custom(opens, closes), NOW, LONDON)).toEqual({ opensAt, closesAt }),
  );

  it('the same fields are other moments in another zone', () =>
    expect(chosenWindow(custom('', '2026-10-24T17:00'), NOW, 'America/New_York').closesAt).toBe(
      utc('2026-10-24T21:00:00'),
    ));
});

describe('as the API takes it', () => {
  it('is RFC 3339 in UTC, and null where there is no end', () =>
    expect(windowText({ opensAt: null, closesAt: NOW })).toEqual({
      opensAt: null,
      closesAt: '2026-10-22T09:00:00.000Z',
    }));
});
