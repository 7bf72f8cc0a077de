import { describe, expect, it } from 'vitest';
import {
  browserInWords,
  officeChangeWords,
  passwordStays,
  securityChangeWords,
  type OfficeFacts,
  type SecurityEffects,
  type SecurityFacts,
} from '../index.js';

const office: OfficeFacts = { name: 'Saltmarsh Survey', zone: 'Europe/London', homes: true, words: '' };
const WINTER = Date.parse('2026-11-27T12:00:00Z');
const SUMMER = Date.parse('2026-07-01T12:00:00Z');
const words = (part: Partial<OfficeFacts>, at = WINTER) => officeChangeWords(office, { ...office, ...part }, at);

describe('what a change of the office does', () => {
  it('is nothing where nothing changes', () => expect(words({})).toEqual([]));
  it('is told of a name, of homes and of words to visitors', () => {
    expect(words({ words: 'Staithe Lane 4' })).toEqual(['Visitors read these words under every share.']);
    expect(officeChangeWords({ ...office, words: 'Staithe Lane 4' }, office, WINTER)).toHaveLength(1);
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

describe('security', () => {
  const kept: SecurityFacts = {
    sessionDays: 14,
    leastStrength: 3,
    factorWanted: 'nobody',
    factorGraceDays: 0,
    signInOutside: 'everybody',
  };
  const none = { sessions: 0, people: 0 };
  const touched = (part: Partial<SecurityEffects>): SecurityEffects => ({
    unused: none,
    outside: none,
    lacking: 0,
    ...part,
  });
  it('says what a change does, and who is signed out by it', () => {
    expect(securityChangeWords(kept, kept, touched({ unused: { sessions: 3, people: 2 }, lacking: 4 }))).toEqual([]);
    expect(securityChangeWords(kept, { ...kept, sessionDays: 30 }, touched({}))).toEqual([
      'Whoever does nothing for 30 days has to sign in again.',
    ]);
    const shorter = { ...kept, sessionDays: 1, leastStrength: 4 };
    expect(securityChangeWords(kept, shorter, touched({ unused: { sessions: 5, people: 4 } }))).toEqual([
      'Whoever does nothing for 1 day has to sign in again.',
      '5 sessions of 4 people end now.',
      'A new password is very hard to guess even with the stolen database. Those that people have stay until they change them.',
    ]);
    expect(securityChangeWords(kept, { ...kept, sessionDays: 7 }, touched({})).at(-1)).toBe(
      'Nobody is signed out now.',
    );
  });
  it('says of whom a second factor is wanted, and who has to set one up', () => {
    const wanted = (factorWanted: SecurityFacts['factorWanted'], lacking: number) =>
      securityChangeWords(kept, { ...kept, factorWanted }, touched({ lacking }));
    expect(wanted('admins', 1)).toEqual([
      'A second factor is wanted from: admins.',
      '1 person sets one up before doing anything else.',
    ]);
    expect(wanted('everybody', 12)[1]).toBe('12 people set one up before doing anything else.');
    expect(wanted('staff', 0)[1]).toBe('All of them have one.');
    const later = { ...kept, factorWanted: 'staff' as const, factorGraceDays: 7 };
    expect(securityChangeWords(kept, later, touched({ lacking: 2 }))).toEqual([
      'A second factor is wanted from: everybody of the office.',
      '2 people set one up within 7 days, and then before doing anything else.',
    ]);
    expect(securityChangeWords(later, { ...later, factorGraceDays: 1 }, touched({}))).toEqual([
      'For a second factor people have 1 day from when it was wanted of them.',
    ]);
    expect(securityChangeWords({ ...kept, factorWanted: 'staff' }, kept, touched({}))).toEqual([
      'A second factor is wanted from: nobody; whoever wants one has one.',
    ]);
  });
  it('says who signs in from outside, and who is signed out by it', () => {
    const outside = { sessions: 1, people: 1 };
    expect(securityChangeWords(kept, { ...kept, signInOutside: 'nobody' }, touched({ outside }))).toEqual([
      'Nobody signs in from outside the office. Shares stay as they are.',
      '1 session of 1 person ends now.',
    ]);
    expect(securityChangeWords({ ...kept, signInOutside: 'factor' }, kept, touched({}))).toHaveLength(1);
  });
  // What browsers say of themselves: from memory, versions shortened.
  it.each([
    ['Mozilla/5.0 (Windows NT 10.0; Win64; x64; rv:128.0) Gecko/20100101 Firefox/128.0', 'Firefox on Windows'],
    [
      'Mozilla/5.0 (X11; Linux x86_64) AppleWebKit/537.36 (KHTML, like Gecko) Chrome/126.0.0.0 Safari/537.36',
      'Chrome on Linux',
    ],
    [
      'Mozilla/5.0 (iPhone; CPU iPhone OS 17_5 like Mac OS X) AppleWebKit/605.1.15 (KHTML, like Gecko) Version/17.5 Mobile/15E148 Safari/604.1',
      'Safari on iPhone',
    ],
    [
      'Mozilla/5.0 (Macintosh; Intel Mac OS X 10_15_7) AppleWebKit/537.36 (KHTML, like Gecko) Chrome/126.0.0.0 Safari/537.36 Edg/126.0.0.0',
      'Edge on Mac',
    ],
    ['curl/8.5.0', 'curl'],
    ['', 'Unknown browser'],
  ])('calls %s %s', (agent, words) => expect(browserInWords(agent)).toBe(words));
});
