import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { typedNumber } from './number.js';

const whole = { min: 1, max: 100_000, whole: true };
const amount = { min: 0, max: 1e6, whole: false };

describe('a number as it is typed', () => {
  it.each([
    ['1,000', 1000],
    ['1 000', 1000],
    ['12\u202f345', 12_345],
    ["1'000", 1000],
    ['100,000', 100_000],
    [' 7 ', 7],
    ['', null],
    ['   ', null],
  ])('%j is %s', (text, value) => expect(typedNumber(text, whole)).toEqual({ value, fault: null }));
  it.each([
    '0',
    '-1',
    '2.5',
    '1,00',
    '1,0000',
    '10,00,000',
    '1e3',
    '0x10',
    'NaN',
    'Infinity',
    'ten',
    '٣',
    '100,001',
    '1.000.000',
    '9'.repeat(40),
  ])('%j is refused, with what is expected', (text) =>
    expect(typedNumber(text, whole)).toEqual({ value: null, fault: 'A whole number from 1 to 100,000.' }),
  );
  it.each([
    ['2.5', 2.5],
    ['2,5', 2.5],
    ['1,500', 1500],
    ['1,500.25', 1500.25],
    ['0', 0],
  ])('%j as an amount is %s', (text, value) => expect(typedNumber(text, amount)).toEqual({ value, fault: null }));
  it('whatever is typed is a number in the range, nothing, or a fault: never one for the other', () =>
    fc.assert(
      fc.property(fc.string(), (text) => {
        const { value, fault } = typedNumber(text, whole);
        if (value !== null) expect([Number.isInteger(value), value >= 1, value <= 100_000]).toEqual([true, true, true]);
        else expect(fault === null).toBe(text.trim() === '');
      }),
    ));
  it('what a browser shows of a number is read back (Intl, English)', () =>
    fc.assert(
      fc.property(
        fc.integer({ min: 1, max: 100_000 }),
        (n) => void expect(typedNumber(n.toLocaleString('en-GB'), whole).value).toBe(n),
      ),
    ));
});
