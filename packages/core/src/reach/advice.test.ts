import { describe, expect, it } from 'vitest';
import { adviseWay, type OwnNetworkFacts } from './advice.js';

const WELL: OwnNetworkFacts = {
  insideAddress: '192.168.20.10',
  insideAddress6: null,
  gateway: '192.168.20.1',
  seenAddress: null,
  routerAddress: '198.51.100.24',
  protocol: 'upnp',
  hasRelay: false,
};

describe('which way in fits a network', () => {
  it.each([
    ['a router that opens ports', {}, 'mapping', /the program does everything/],
    ['a machine with a public address', { insideAddress: '198.51.100.30' }, 'fixed', /198\.51\.100\.30/],
    [
      'a shared line (RFC 6598)',
      { routerAddress: '100.64.3.4' },
      'relay',
      /many customers share\), so nobody.*accept the invitation/,
    ],
    ['the same, with a relay', { routerAddress: '100.64.3.4', hasRelay: true }, 'relay', /Go through the relay\.$/],
    [
      'a router that says it has no public address',
      { routerAddress: null, routerHasNone: true },
      'relay',
      /no address of its own \(as the router says\)/,
    ],
    [
      'a shared line with IPv6 of its own',
      { routerAddress: '100.64.3.4', insideAddress6: '2001:db8:20::10' },
      'relay',
      /only people who have IPv6 get in; for everybody: go through a relay/,
    ],
    ['a second router', { routerAddress: '192.168.1.2' }, 'relay', /Another router/],
    ['an address that the world does not see', { seenAddress: '203.0.113.9' }, 'relay', /Another router/],
    [
      'a router that is told by hand',
      { protocol: null, routerAddress: null, seenAddress: '198.51.100.24' },
      'mapping',
      /on its pages/,
    ],
    ['a router that says nothing', { protocol: null, routerAddress: null }, null, /Try an own address first/],
    ['no router', { protocol: null, routerAddress: null, gateway: null }, null, /No router was found/],
  ] as const)('%s', (_, part, wayIn, words) => {
    const advised = adviseWay({ ...WELL, ...part });
    expect(advised.wayIn).toBe(wayIn);
    expect(advised.words).toMatch(words);
  });
});
