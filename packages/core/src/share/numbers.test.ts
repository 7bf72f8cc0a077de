import examples from 'libphonenumber-js/examples.mobile.json';
import { getCountries, getCountryCallingCode, getExampleNumber } from 'libphonenumber-js/min';
import { describe, expect, it } from 'vitest';
import { isNumber, listingsOf } from './audience.js';
import { canonicalNumber, canonicalRecipient, readList } from './recipients.js';

describe('telephone numbers are compared', () => {
  // The example numbers that are published with libphonenumber, one for each country, in each of its formats.
  it.each(getCountries())('in the form of E.164, however one of %s is written', (country) => {
    const number = getExampleNumber(country, examples);
    if (!number) throw new Error('there is no example');
    const e164 = number.format('E.164');
    expect(e164).toMatch(new RegExp(`^\\+${getCountryCallingCode(country)}\\d{4,14}$`));
    const international = number.formatInternational();
    for (const text of [
      e164,
      international,
      `tel:${e164}`,
      number.getURI(),
      `00${e164.slice(1)}`,
      ` ${international} `,
    ])
      expect(canonicalNumber(text), text).toBe(e164);
    // A telephone elsewhere does not tell of which country it is.
    expect(canonicalNumber(number.formatNational())).toBeNull();
  });
  it.each([
    ['+44 (0)7700 900123', '+447700900123'],
    ['+44 7700-900.123', '+447700900123'],
    ['0044 7700 900123', '+447700900123'],
    // Numbers kept for use in drama (Ofcom).
    ['+44 1632 960001', '+441632960001'],
  ])('%s as %s', (text, canonical) => expect(canonicalNumber(text)).toBe(canonical));
  it.each([
    '',
    '+',
    '+44',
    '07700 900123',
    '+44 7700 90012x',
    '+44 7700 900123 ext. 5',
    `+${'4'.repeat(40)}`,
    '+999 12345',
  ])('%s as none', (text) => expect(canonicalNumber(text)).toBeNull());
  it('and found by themselves alone', () => {
    expect(listingsOf('+447700900123')).toEqual([{ kind: 'number', value: '+447700900123' }]);
    expect(isNumber(canonicalRecipient('+44 7700 900123') ?? '')).toBe(true);
    expect(isNumber(canonicalRecipient('m.hale@fenway.example') ?? '')).toBe(false);
    expect(canonicalRecipient('neither')).toBeNull();
  });
});

it('a pasted list holds numbers beside addresses, and says what is wrong with one', () => {
  const { listed, faults, twice } = readList(
    'Marek Hale <m.hale@fenway.example>; +44 7700 900123\n0044 7700 900 123, tel:+49-30-23125000\n07700 900123',
  );
  expect(listed).toEqual([
    { kind: 'address', value: 'm.hale@fenway.example' },
    { kind: 'number', value: '+447700900123' },
    { kind: 'number', value: '+493023125000' },
  ]);
  expect(twice).toBe(1);
  expect(faults).toEqual([
    {
      text: '07700 900123',
      words: 'is no telephone number: write it with + and its country, as +44 7700 900123',
    },
  ]);
});
