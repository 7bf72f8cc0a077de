import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { guessingWords, guessingYears, proposalBytes, proposePassword } from './password.js';
import { telephoneSpelling } from './spelling.js';
import { passwordStrength } from './strength.js';
import { isToken, tokenFromBytes } from './token.js';
import { WORDS } from './wordlist.js';

describe('tokens', () => {
  it('hold all 128 bits: they can be read back', () => {
    fc.assert(
      fc.property(fc.uint8Array({ minLength: 16, maxLength: 16 }), (bytes) => {
        const token = tokenFromBytes(bytes);
        expect(isToken(token)).toBe(true);
        const alphabet = '0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz';
        const value = [...token].reduce((sum, c) => sum * 62n + BigInt(alphabet.indexOf(c)), 0n);
        expect(value.toString(16).padStart(32, '0')).toBe(Buffer.from(bytes).toString('hex'));
      }),
    );
  });
  it('are refused from too few bytes', () => expect(() => tokenFromBytes(new Uint8Array(8))).toThrow(RangeError));
  it.each(['', 'abc', `${'a'.repeat(21)}-`, 'a'.repeat(23), '../../etc/passwd000000'])('%j is none', (text) =>
    expect(isToken(text)).toBe(false),
  );
});

describe('proposed passwords', () => {
  // EFF, "EFF's New Wordlists for Random Passphrases" (2016): 7776 words, from 11111 abacus to 66666 zoom, 12.9 bits each.
  it('come from the published list', () => {
    expect(WORDS.length).toBe(7776);
    expect(new Set(WORDS).size).toBe(7776);
    expect([WORDS[0], WORDS[7775]]).toEqual(['abacus', 'zoom']);
  });
  it('hold at least 50 bits: four words, 51.7', () => {
    const { password, bits } = proposePassword(WORDS, new Uint8Array(proposalBytes(WORDS.length)));
    expect(password).toBe('abacus-abacus-abacus-abacus');
    expect(bits).toBeCloseTo(51.7, 1);
  });
  it('want enough random bytes', () => expect(() => proposePassword(WORDS, new Uint8Array(15))).toThrow(RangeError));
});

describe('guessing', () => {
  it('is half of all possibilities at the rate: 2^31 minutes-tries is 4083 years at one a minute', () => {
    // 2^32 possibilities, half of them tried: 2147483648 minutes / 525960 minutes a (Julian) year.
    expect(guessingYears(32, 1)).toBeCloseTo(4083, 0);
    expect(guessingYears(32, 10)).toBeCloseTo(408.3, 1);
  });
  it.each([
    [41.2, '41 years'],
    [4.1e6, '4.1 million years'],
    [1, '1 year'],
    [1 / 365.25, '1 day'],
    [1e-9, 'less than a minute'],
    [2e20, 'longer than anybody can wait'],
  ])('%d years are %s', (years, words) => expect(guessingWords(years)).toBe(words));
});

describe('strength of typed passwords (zxcvbn, Wheeler 2016: the commonest score 0)', () => {
  it.each(['password', '123456', 'qwerty12'])('%s scores below 2', (password) =>
    expect(passwordStrength(password).score).toBeLessThan(2),
  );
  it('unrelated words score 4', () => expect(passwordStrength('gravel-heron-silent-oar').score).toBe(4));
  it('what stands in the title is no secret', () =>
    expect(passwordStrength('millstonehollow', ['millstonehollow']).score).toBeLessThan(
      passwordStrength('millstonehollow').score,
    ));
});

describe('on the telephone (ICAO Annex 10, Volume II, 5.2.1.3: the spelling alphabet)', () => {
  it('words are read as words', () => expect(telephoneSpelling('copper-tide')).toEqual(['copper', 'hyphen', 'tide']));
  it('other passwords letter by letter', () =>
    expect(telephoneSpelling('kB7!x')).toEqual(['kilo', 'capital Bravo', '7', 'exclamation mark', 'x-ray']));
});
