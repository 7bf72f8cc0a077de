import { expect, it } from 'vitest';
import { canWait, dayIn, morningIsDue, NOTICES, noticesFor, READY_DUTIES } from '../index.js';

it('tells people of what they may do', () => {
  const ofShares = [
    'share-closing',
    'share-opened',
    'share-taken',
    'share-brought',
    'share-used-up',
    'share-tried',
    'share-barred',
    'mail-returned',
    'handed-in',
  ];
  expect(noticesFor(READY_DUTIES.admin)).toEqual([...ofShares, 'server']);
  expect(noticesFor(READY_DUTIES.staff)).toEqual(ofShares);
  expect(noticesFor(READY_DUTIES.guest)).toEqual([]);
});

it('lets wait for the mail of the day what is of no use only at once', () =>
  expect(NOTICES.filter(canWait)).toEqual([
    ...['share-opened', 'share-taken', 'share-brought', 'share-used-up', 'share-tried', 'handed-in'],
  ]));

// Auckland is UTC+13 in November, Los Angeles UTC-8 (IANA time zone database).
it.each([
  ['2026-11-27T06:59:00Z', 'Europe/London', null, false],
  ['2026-11-27T07:00:00Z', 'Europe/London', null, true],
  ['2026-11-27T07:00:00Z', 'Europe/London', '2026-11-26', true],
  ['2026-11-27T23:59:00Z', 'Europe/London', '2026-11-27', false],
  ['2026-11-28T00:30:00Z', 'Europe/London', '2026-11-27', false],
  ['2026-11-26T18:00:00Z', 'Pacific/Auckland', '2026-11-26', true],
  ['2026-11-27T14:59:00Z', 'America/Los_Angeles', '2026-11-26', false],
  ['2026-11-27T15:00:00Z', 'America/Los_Angeles', '2026-11-26', true],
])('at %s in %s, after that of %s, the notice of the morning is due: %s', (at, zone, last, due) =>
  expect(morningIsDue(Date.parse(at), zone, last)).toBe(due),
);

it('has its days by the calendar of the zone', () =>
  expect(dayIn('Pacific/Auckland', Date.parse('2026-11-26T18:00:00Z'))).toBe('2026-11-27'));
