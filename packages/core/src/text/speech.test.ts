import { describe, expect, it } from 'vitest';
import { languageFor, speechOf } from './speech.js';

describe('the language of a page', () => {
  it('is the first that is read, by its weight (the examples of RFC 9110 12.5.4)', () => {
    expect(languageFor('da, en-gb;q=0.8, en;q=0.7', ['en', 'de', 'da'])).toBe('da');
    expect(languageFor('da, en-gb;q=0.8, en;q=0.7', ['de', 'en'])).toBe('en');
    expect(languageFor('fr;q=0.5, de;q=0.9', ['en', 'fr', 'de'])).toBe('de');
    expect(languageFor('de;q=0, fr', ['en', 'fr', 'de'])).toBe('fr');
  });
  it('is looked up by less and less of what is asked for (the example of RFC 4647 3.4)', () => {
    const asked = 'zh-Hant-CN-x-private1-private2';
    for (const tag of ['zh-Hant-CN-x-private1-private2', 'zh-Hant-CN-x-private1', 'zh-Hant-CN', 'zh-Hant', 'zh'])
      expect(languageFor(asked, ['en', tag])).toBe(tag);
    expect(languageFor('zh-Hant-CN-x-wadegile', ['en', 'zh-Hant-CN-x'])).toBe('en');
    expect(languageFor('de-CH', ['en', 'de'])).toBe('de');
  });
  it('is the first there is, where none is read or nothing is said', () => {
    for (const said of ['', '*', 'xx, yy', ';;;,,', 'q=1']) expect(languageFor(said, ['en', 'de'])).toBe('en');
  });
});

describe('a text', () => {
  const german = speechOf('de', {
    units: 'B kB MB GB',
    'files#one': '{count} Datei',
    'files#other': '{count} Dateien',
    open: 'Offen bis {moment}.',
  });
  it('has its values put in, numbers as they are written there, and its plural (CLDR)', () => {
    expect(german.say('files', { count: 1 })).toBe('1 Datei');
    expect(german.say('files', { count: 12_345 })).toBe('12.345 Dateien');
    const french = speechOf('fr', { 'files#one': '{count} fichier', 'files#other': '{count} fichiers' });
    // In French none is one; a million has a plural of its own there, which need not be given.
    expect([0, 1, 2, 1_000_000].map((count) => french.say('files', { count }).split(/\d\s/).pop())).toEqual([
      'fichier',
      'fichier',
      'fichiers',
      'fichiers',
    ]);
    expect(german.say('open', { moment: 'Montag {open}' })).toBe('Offen bis Montag {open}.');
    expect(german.say('nothing.of-that')).toBe('nothing.of-that');
  });
  it('writes sizes and moments as they are written there', () => {
    expect([0, 999, 1500, 48_213_004, 999_600].map(german.size)).toEqual(['0 B', '999 B', '1,5 kB', '48,2 MB', '1 MB']);
    const now = Date.parse('2026-12-01T10:00:00Z');
    const at = Date.parse('2026-12-08T16:00:00Z');
    expect(german.moment(at, now, 'Europe/Berlin')).toMatch(/^Di\.,? 8\. Dez\.,? 17:00 MEZ$/);
    expect(speechOf('en', {}).moment(at, now, 'Europe/London')).toMatch(/^Tue,? 8 Dec,? 16:00 GMT$/);
    expect(german.moment(Date.parse('2027-01-08T16:00:00Z'), now, 'Europe/Berlin')).toContain('2027');
  });
});
