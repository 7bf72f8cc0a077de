import { describe, expect, it } from 'vitest';
import { DEFAULT_MESSAGE, itemLines, outdatedWords, wentTheSameWay, windowWords, type ToldFacts } from './hand-over.js';
import { messageFault } from './message.js';

const NOW = Date.parse('2026-12-01T09:00:00Z');
const DAY = 86_400_000;
const ZONE = 'Europe/London';
const TOLD: ToldFacts = {
  window: { opensAt: null, closesAt: NOW + 7 * DAY },
  ...{ address: 'https://files.saltmarsh.example', level: 'download', password: 'a' },
};
const outdated = (part: Partial<ToldFacts>, what: 'link' | 'password' = 'link') =>
  outdatedWords(what, TOLD, { ...TOLD, ...part }, NOW, ZONE);

it('what a message begins with can be sent', () => expect(messageFault(DEFAULT_MESSAGE)).toBeNull());

describe('what was handed over', () => {
  it('is as it was while nothing has changed', () => {
    expect([outdated({}), outdated({}, 'password')]).toEqual([[], []]);
    // Whoever has the link needs no other for another password; whoever has the password does.
    expect(outdated({ password: 'b' })).toEqual([]);
    expect(outdated({ password: 'b' }, 'password')).toEqual(['another password']);
  });
  it('says in words what is different', () => {
    expect(outdated({ window: { opensAt: null, closesAt: NOW + 17 * DAY } })).toEqual(['open until Fri 18 Dec, 09:00']);
    expect(outdated({ window: { opensAt: NOW + DAY, closesAt: null } })).toEqual([
      'open without end',
      'opens Wed 2 Dec, 09:00',
    ]);
    expect(outdated({ address: 'https://quay.saltmarsh.example', level: 'view', password: null })).toEqual([
      'another address',
      'now: Look only',
      'no password',
    ]);
  });
});

it('a window stands in the middle of a sentence', () => {
  expect(windowWords(TOLD.window, NOW, ZONE)).toEqual({ opens: 'now', closes: 'until Tue 8 Dec, 09:00' });
  expect(windowWords({ opensAt: NOW - DAY, closesAt: null }, NOW, ZONE)).toEqual({
    opens: 'now',
    closes: 'without an end',
  });
  expect(windowWords({ opensAt: NOW + DAY, closesAt: null }, NOW, ZONE).opens).toBe('from Wed 2 Dec, 09:00');
});

it('names of items stand on lines, and how many more there are', () => {
  expect(itemLines(['Plans', 'Levels.csv'])).toBe('Plans\nLevels.csv');
  expect(itemLines(['a', 'b', 'c'], 2)).toBe('a\nb\nand 1 more');
});

it('link and password go the same way where the same recipient got the other by the same channel', () => {
  const link = { what: 'link', channel: 'mail', recipient: 'a@saltmarsh.example' } as const;
  const password = { ...link, what: 'password' } as const;
  expect(wentTheSameWay([link], password)).toBe(true);
  expect(wentTheSameWay([link], { ...password, channel: 'own-mail' })).toBe(true);
  expect(wentTheSameWay([link], { ...password, channel: 'telephone' })).toBe(false);
  expect(wentTheSameWay([link], { ...password, recipient: 'b@saltmarsh.example' })).toBe(false);
  expect(wentTheSameWay([link], link)).toBe(false);
  // Of whom nobody said anything nothing is known.
  expect(wentTheSameWay([{ ...link, recipient: '' }], { ...password, recipient: '' })).toBe(false);
});
