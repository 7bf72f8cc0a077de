import { describe, expect, it } from 'vitest';
import {
  asksAgainMs,
  caaForbids,
  namesAbove,
  ORDER_STEPS,
  orderWords,
  PROOF_KINDS,
  renewsWithin,
} from './certificate.js';

const issue = (value: string) => ({ tag: 'issue', value });

describe('CAA (RFC 8659)', () => {
  const own = ['authority.example', 'authority.test'];
  it.each([
    ['no records: everybody', [], null],
    ['the authority itself', [issue('authority.example')], null],
    ['another of its names, in capitals', [issue('Authority.TEST')], null],
    ['with parameters (§4.2)', [issue('authority.example; accounturi=https://authority.example/acct/1')], null],
    ['one of several', [issue('other.example'), issue('authority.example')], null],
    [
      'only for wildcards, or for reports (§4.3, §4.4)',
      [
        { tag: 'issuewild', value: 'other.example' },
        { tag: 'iodef', value: 'mailto:iris@saltmarsh.example' },
      ],
      null,
    ],
    ['another', [issue('other.example')], ['other.example']],
    ['several others', [issue('other.example'), issue('third.example;x=1')], ['other.example', 'third.example']],
    ['nobody (§4.2)', [issue(';')], []],
  ])('%s', (_, records, forbids) => expect(caaForbids(records, own)).toEqual(forbids));
  it('is looked for from the name upwards (§3)', () =>
    expect(namesAbove('files.saltmarsh.example.')).toEqual([
      'files.saltmarsh.example',
      'saltmarsh.example',
      'example',
    ]));
});

describe('when an authority would like to renew (RFC 9773)', () => {
  it('is anywhere within the window', () => {
    expect([0, 0.5, 0.999].map((chance) => renewsWithin({ start: 1000, end: 2000 }, chance))).toEqual([
      1000, 1500, 1999,
    ]);
    expect(renewsWithin({ start: 2000, end: 1000 }, 0.5)).toBe(2000);
  });
  it('is asked again when the authority says, within a minute and a day', () =>
    expect([null, 21_600_000, 1000, 10 ** 9].map(asksAgainMs)).toEqual([21_600_000, 21_600_000, 60_000, 86_400_000]));
});

it('every step of an order has words of its own, for every kind of proof', () => {
  const words = PROOF_KINDS.flatMap((kind) => ORDER_STEPS.map((step) => orderWords(step, kind)));
  expect(new Set(words).size).toBe(3 + 2 * PROOF_KINDS.length);
});
