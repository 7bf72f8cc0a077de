import { execFileSync } from 'node:child_process';
import { expect, it } from 'vitest';
import { NO_REACH, type Config } from '../platform/config.js';
import { defaultRouteOf, OwnNetwork } from './own-network.js';

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

it('says what the file says, and asks the machine for the rest only where it may', () => {
  const told = (part: Partial<Config['reach']>) => {
    const network = new OwnNetwork({ reach: { ...NO_REACH, ...part } } as Config);
    return [network.gatewayTold(), network.insideTold()];
  };
  expect(told({ gateway: '192.168.20.1', insideAddress: '192.168.20.10' })).toEqual([
    { value: '192.168.20.1', from: 'file' },
    { value: '192.168.20.10', from: 'file' },
  ]);
  expect(told({})).toEqual([
    { value: null, from: 'nobody' },
    { value: '127.0.0.1', from: 'nobody' },
  ]);
  // As ip(8), of Debian's iproute2, says it of this machine.
  const route = /^default via (\S+) dev (\S+)/m.exec(execFileSync('ip', ['-4', 'route'], { encoding: 'utf8' }));
  const [gateway] = told({ findsNetwork: true });
  expect(gateway?.value ?? null).toBe(route?.[1] ?? null);
});
