import { describe, expect, it } from 'vitest';
import { plainPort, portOf } from '../link/link.js';
import {
  addressFault,
  certificateRenewsAt,
  fallsBack,
  hasForgotten,
  mappingRenewsAt,
  renewalWaitMs,
} from './upkeep.js';

const HOUR = 3_600_000;
const DAY = 24 * HOUR;

describe('what is renewed, and when', () => {
  it('a mapping of two hours after one (RFC 6886 §3.3: halfway through its life)', () =>
    expect(mappingRenewsAt(0, 2 * HOUR)).toBe(HOUR));
  it.each([
    [90, 60],
    [6, 4],
  ])('a certificate of %i days after %i (a third left: common practice, no source)', (life, after) =>
    expect(certificateRenewsAt(0, life * DAY)).toBe(after * DAY),
  );
  it('after failures an authority is left alone for 1, 2, 4 hours and so on up to a day, a router for a minute', () => {
    expect([0, 1, 2, 3, 5, 6, 60].map((n) => renewalWaitMs('certificate', n) / HOUR)).toEqual([0, 1, 2, 4, 16, 24, 24]);
    expect([renewalWaitMs('mapping', 9), renewalWaitMs('record', 1), renewalWaitMs('record', 0)]).toEqual([
      60_000, 60_000, 0,
    ]);
  });
});

describe('a router', () => {
  const at = (seconds: number, ourSeconds: number) => ({ seconds, at: ourSeconds * 1000 });
  // RFC 6887 §8.5: previous and current server time, client time between them.
  it.each([
    ['goes on as we do', at(1000, 0), at(4600, 3600), false],
    ['is a little slow', at(1000, 0), at(4400, 3600), false],
    ['is a little fast', at(1000, 0), at(4800, 3600), false],
    ['answers twice in a second, the later first', at(1000, 0), at(999, 0), false],
    ['began again', at(100_000, 0), at(5, 60), true],
    ['began again, and has been up for longer than before', at(10, 0), at(300, 3600), true],
    ['had its clock moved on', at(1000, 0), at(90_000, 3600), true],
  ])('that %s', (_, before, now, forgot) => expect(hasForgotten(before, now)).toBe(forgot));
});

describe('falling back to the relay', () => {
  it.each([
    ['mapping', 'auto', 'fail', 'fail', true],
    ['fixed', 'auto', 'fail', 'fail', true],
    ['mapping', 'auto', 'ok', 'fail', false],
    ['mapping', 'auto', 'fail', 'warn', false],
    ['mapping', 'offer', 'fail', 'fail', false],
    ['relay', 'auto', 'fail', 'fail', false],
    ['office', 'auto', 'fail', 'fail', false],
  ] as const)('%s, %s: %s then %s is %s', (wayIn, fallback, before, now, moves) =>
    expect(fallsBack({ wayIn, fallback }, before, now)).toBe(moves),
  );
});

describe('addresses', () => {
  it('for outsiders are encrypted', () => {
    expect(addressFault({ wayIn: 'mapping', scheme: 'http' })).toBe('address.not-encrypted');
    expect([
      addressFault({ wayIn: 'office', scheme: 'http' }),
      addressFault({ wayIn: 'relay', scheme: 'https' }),
    ]).toEqual([null, null]);
  });
  it('have one form: a default port is not kept (RFC 3986 §6.2.3), and is known all the same', () => {
    expect([
      plainPort({ scheme: 'https', port: 443 }),
      plainPort({ scheme: 'http', port: 443 }),
      plainPort({ scheme: 'http', port: null }),
    ]).toEqual([null, 443, null]);
    expect([
      portOf({ scheme: 'https', port: null }),
      portOf({ scheme: 'http', port: null }),
      portOf({ scheme: 'https', port: 8443 }),
    ]).toEqual([443, 80, 8443]);
  });
});
