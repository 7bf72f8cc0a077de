import { execFileSync } from 'node:child_process';
import { expect, it } from 'vitest';
import { NO_REACH, type Config } from './config.js';
import { defaultRoute6Of, defaultRouteOf, OwnNetwork, publicAddress6On } from './own-network.js';

/** As a file says it; nothing was typed in. */
const networkOf = (part: Partial<Config['reach']>) =>
  new OwnNetwork(null as never, null as never, { reach: { ...NO_REACH, ...part } } as Config);

// Tables as proc(5) describes them, written down by hand: two ways out, and a machine that has none.
const HEAD = 'Iface\tDestination\tGateway \tFlags\tRefCnt\tUse\tMetric\tMask\t\tMTU\tWindow\tIRTT';
const TWO = `${HEAD}
wlan0\t00000000\t01B2A8C0\t0003\t0\t0\t600\t00000000\t0\t0\t0
eth0\t00000000\t0114A8C0\t0003\t0\t0\t100\t00000000\t0\t0\t0
eth0\t0014A8C0\t00000000\t0001\t0\t0\t100\t00FFFFFF\t0\t0\t0
`;

it('takes the way out with the least metric', () => {
  expect(defaultRouteOf(TWO)).toEqual({ device: 'eth0', gateway: '192.168.20.1' });
  expect(defaultRouteOf(`${HEAD}\neth0\t0014A8C0\t00000000\t0001\t0\t0\t100\t00FFFFFF\t0\t0\t0\n`)).toBeNull();
  expect(defaultRouteOf('')).toBeNull();
});

// As Linux wrote them on a machine of the laboratory (addresses of RFC 3849), with one that passes and one that stays.
const ROUTES_6 = `20010db8002000000000000000000000 40 00000000000000000000000000000000 00 00000000000000000000000000000000 00000100 00000003 00000000 00000001     eth0
00000000000000000000000000000000 00 00000000000000000000000000000000 00 fe800000000000000000000000000001 00000400 00000001 00000000 00000003     eth0
00000000000000000000000000000000 00 00000000000000000000000000000000 00 20010db8003000000000000000000001 00000800 00000001 00000000 00000003    wlan0
00000000000000000000000000000000 00 00000000000000000000000000000000 00 00000000000000000000000000000000 ffffffff 00000001 00000000 00200200       lo
`;
const ADDRESSES_6 = `20010db800200000a1b2c3d4e5f60718 0c 40 00 01     eth0
20010db8002000000000000000000099 0c 40 00 20     eth0
20010db8002000000000000000000011 0c 40 00 00     eth0
20010db8002000000000000000000010 0c 40 00 80     eth0
20010db8003000000000000000000010 0d 40 00 80    wlan0
fd000000000000000000000000000010 0e 40 00 80     eth1
fe80000000000000c4ae7dfffe39eab4 0c 40 20 80     eth0
00000000000000000000000000000001 01 80 10 80       lo
`;

it('over IPv6 takes the way out with the least metric, and the public address that stays', () => {
  expect(defaultRoute6Of(ROUTES_6)).toEqual({ device: 'eth0', gateway: 'fe80::1%eth0' });
  expect(defaultRoute6Of(ROUTES_6.replace(/.*fe80.*/, ''))).toEqual({ device: 'wlan0', gateway: '2001:db8:30::1' });
  expect(defaultRoute6Of('')).toBeNull();
  expect(publicAddress6On(ADDRESSES_6, 'eth0')).toBe('2001:db8:20::10');
  expect(publicAddress6On(ADDRESSES_6.replace(/.* 80 +eth0/g, ''), 'eth0')).toBe('2001:db8:20::11');
  // An address for the office alone (RFC 4193), or none.
  for (const device of ['eth1', 'lo', 'eth2']) expect(publicAddress6On(ADDRESSES_6, device)).toBeNull();
});

it('whoever shares its network over IPv6 is inside', () => {
  const network = networkOf({ insideAddress6: '2001:db8:20::10' });
  expect(
    ['2001:db8:20::50', '2001:db8:21::50', '192.168.20.5', '203.0.113.7'].map((a) => network.isOutside(a)),
  ).toEqual([...[false, true, false, true]]);
});

it('machines on its own networks are near, and so is the site over IPv6', () => {
  const network = networkOf({ insideAddress6: '2001:db8:20::10' });
  expect(
    ['127.0.0.9', '2001:db8:20::50', '2001:db8:20:7::50', '2001:db8:21::50', '203.0.113.7', 'a name'].map((a) =>
      network.isNear(a),
    ),
  ).toEqual([true, true, true, false, false, false]);
});

it('says what the file says, and asks the machine for the rest only where it may', () => {
  const told = (part: Partial<Config['reach']>) => {
    const network = networkOf(part);
    return [network.toldOf('gateway'), network.toldOf('insideAddress')];
  };
  expect(told({ gateway: '192.168.20.1', insideAddress: '192.168.20.10' })).toEqual([
    { value: ['192.168.20.1'], from: 'file' },
    { value: ['192.168.20.10'], from: 'file' },
  ]);
  expect(told({})).toEqual([
    { value: [], from: 'nobody' },
    { value: [], from: 'nobody' },
  ]);
  // As ip(8), of Debian's iproute2, says it of this machine.
  const route = /^default via (\S+) dev (\S+)/m.exec(execFileSync('ip', ['-4', 'route'], { encoding: 'utf8' }));
  const [gateway] = told({ findsNetwork: true });
  expect(gateway?.value[0] ?? null).toBe(route?.[1] ?? null);
});
