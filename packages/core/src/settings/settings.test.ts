import { describe, expect, it } from 'vitest';
import { officeChangeWords, passwordStays, type OfficeFacts } from '../index.js';

const office: OfficeFacts = { name: 'Saltmarsh Survey', zone: 'Europe/London', homes: true };
const WINTER = Date.parse('2026-11-27T12:00:00Z');
const SUMMER = Date.parse('2026-07-01T12:00:00Z');
const words = (part: Partial<OfficeFacts>, at = WINTER) => officeChangeWords(office, { ...office, ...part }, at);

describe('what a change of the office does', () => {
  it('is nothing where nothing changes', () => expect(words({})).toEqual([]));
  it('is told of a name and of homes', () => {
    expect(words({ name: 'Saltmarsh' })).toEqual(['Every page says Saltmarsh, also those of visitors.']);
    expect(words({ homes: false })[0]).toMatch(/no place of their own; those that are there stay/);
  });
  // Offsets of the IANA time zone database: India has half an hour, New York is behind, London's summer is UTC+1.
  it.each([
    ['Europe/Oslo', WINTER, 'Times read 1 h later.'],
    ['Asia/Kolkata', WINTER, 'Times read 5 h 30 min later.'],
    ['Asia/Kolkata', SUMMER, 'Times read 4 h 30 min later.'],
    ['America/New_York', WINTER, 'Times read 5 h earlier.'],
    ['Europe/Lisbon', WINTER, 'Times read as before, for now: both clocks show the same.'],
    ['Asia/Kathmandu', WINTER, 'Times read 5 h 45 min later.'],
  ])('of the clock of %s', (zone, at, told) => {
    expect(words({ zone }, at)).toEqual([told, 'Shares open and close at the same moments as before.']);
  });
});

describe('the password of a mail server', () => {
  const door = { host: 'mail.saltmarsh.example', port: 587, encryption: 'starttls', user: 'quay' } as const;
  it('stays for the same door', () => expect(passwordStays(door, { ...door })).toBe(true));
  it.each([{ host: 'mail.other.example' }, { port: 2525 }, { encryption: 'none' }, { user: 'iris' }] as const)(
    'is typed again for %j',
    (part) => expect(passwordStays(door, { ...door, ...part })).toBe(false),
  );
});
