import { describe, expect, it } from 'vitest';
import {
  DEFAULT_ATTACHED_MESSAGE,
  DEFAULT_MESSAGE,
  DEFAULT_WITHDRAWAL_MESSAGE,
  givenToEach,
  itemLines,
  outdatedWords,
  passwordText,
  readBack,
  wentTheSameWay,
  windowWords,
  type ToldFacts,
} from './hand-over.js';
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

it('what a message begins with can be sent, for what it is about', () => {
  expect(messageFault(DEFAULT_MESSAGE)).toBeNull();
  expect(messageFault(DEFAULT_ATTACHED_MESSAGE)?.code).toBe('message.no-link');
  expect(messageFault(DEFAULT_ATTACHED_MESSAGE, { about: 'files' })).toBeNull();
  expect(messageFault(DEFAULT_WITHDRAWAL_MESSAGE, { about: 'withdrawal' })).toBeNull();
  expect(passwordText('Tomas Osei', 'weir-oar')).not.toMatch(/http|title/);
});

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

it('paper and the telephone are apart, and face to face nobody reads along', () => {
  const link = { what: 'link', channel: 'text', recipient: '+447700900123' } as const;
  expect(wentTheSameWay([link], { ...link, what: 'password' })).toBe(true);
  expect(wentTheSameWay([link], { ...link, what: 'files' })).toBe(false);
  const given = { ...link, channel: 'in-person' } as const;
  expect(wentTheSameWay([given], { ...given, what: 'password' })).toBe(false);
});

it('each recipient has been given the last of each, and who is expected has been given nothing', () => {
  const row = (what: 'link' | 'password', recipient: string, id: number) => ({ what, recipient, id });
  const rows = [
    row('password', 'a@mill.example', 3),
    row('link', 'b@mill.example', 2),
    row('link', 'a@mill.example', 1),
  ];
  const each = givenToEach([row('link', 'a@mill.example', 4), ...rows], ['c@mill.example', 'b@mill.example']);
  expect(each.map((g) => [g.recipient, g.link?.id, g.password?.id])).toEqual([
    ['a@mill.example', 4, 3],
    ['b@mill.example', 2, undefined],
    ['c@mill.example', undefined, undefined],
  ]);
});

it('a password that is read back is held against what it is, sign by sign', () => {
  expect(readBack('weir-oar', 'weir')).toEqual({ right: 4, done: false, wrong: false });
  expect(readBack('weir-oar', 'weir - oar')).toEqual({ right: 8, done: true, wrong: false });
  expect(readBack('weir-oar', 'wear-oar')).toEqual({ right: 2, done: false, wrong: true });
  expect(readBack('weir-oar', 'Weir-oar')).toMatchObject({ right: 0, wrong: true });
  expect(readBack('weir-oar', 'weir-oars')).toEqual({ right: 8, done: false, wrong: true });
  expect(readBack('ü\u{1f511}', 'ü\u{1f511}')).toMatchObject({ right: 2, done: true });
});
