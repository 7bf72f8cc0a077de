import { describe, expect, it } from 'vitest';
import { filledIn, saysDone, unknownPlaces, USUAL_UPDATE_WORDS } from './name-update.js';

const values = { name: 'files.saltmarsh.example', ipv4: '198.51.100.24', ipv6: '', user: 'office', secret: 'a&b=c d' };

describe('the address of an update', () => {
  it('is filled in, and what is filled in stays a value', () =>
    expect(filledIn('https://dns.example/u?h={name}&a={ipv4}&six={ipv6}&k={secret}', values)).toBe(
      'https://dns.example/u?h=files.saltmarsh.example&a=198.51.100.24&six=&k=a%26b%3Dc%20d',
    ));
  it('names places that nobody can fill', () =>
    expect(unknownPlaces('https://dns.example/{name}/{token}?{ip}')).toEqual(['token', 'ip']));
});

it.each([
  ['good 198.51.100.24', true],
  ['nochg', true],
  ['OK', true],
  ['ok: changed', true],
  ['badauth', false],
  ['not good', false],
  ['', false],
  ['okay', false],
])('%j says that it is done: %s', (answer, done) => expect(saysDone(answer, USUAL_UPDATE_WORDS)).toBe(done));
it('words of more than one are looked for anywhere', () =>
  expect(saysDone('<p>Your record was changed.</p>', ['record was changed'])).toBe(true));
