import { traceVerdict, type Stage, type Vantage } from '@quay/core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Lab } from './_fixtures/lab.js';
import type { Machine, Running } from './_fixtures/net.js';
import { OFFICE, SIX, WORLD } from './_fixtures/network.js';
import { SmallAuthority, startOther } from './_fixtures/other.js';
import { changed, HOST } from './_fixtures/services.js';

// Faults of an office that is reached over both families, each made on the network itself and looked at from every
// vantage: from outside, by the server itself, by a guest who has IPv4 only, and by another machine of the office. What is
// said of each is compared with what curl finds on the same machine, and from outside the stage with the one at which the
// fault was made.
let lab: Lab;
let other: Running;
let wrong: { chain: string; key: string };
beforeAll(async () => {
  lab = await Lab.open({
    router: { upnp: true, pcp: true },
    line: { six: true },
    authority: { nonceReject: 0, sleepSeconds: null },
    everywhere: true,
    // Nothing is mended while it is looked at.
    reach: { checkEveryMinutes: 0 },
  });
  await lab.tellNameServer();
  for (const act of ['map-port', 'update-record', 'get-certificate', 'redirect-on']) await lab.address.does(act);
  await lab.forgetNames();
  wrong = new SmallAuthority(lab.network.world.folder).make('wrong', { names: ['other.saltmarsh.example'] });
}, 180_000);
afterAll(() => lab?.close());

interface Fault {
  what: string;
  /** How it is told outside: as a failure, as a warning while people come in all the same, or not (null). */
  mark: 'fail' | 'warn' | 'ok';
  stage: Stage | null;
  make: () => Promise<unknown>;
  undo: () => Promise<unknown>;
}

const nft = (on: Machine, text: string) => on.must('nft', text);
/** What comes to a machine and fits a rule is dropped, or refused. */
const stopped = (on: () => Machine, hook: 'forward' | 'input', rule: string): Pick<Fault, 'make' | 'undo'> => ({
  make: () =>
    nft(
      on(),
      `add table inet f; add chain inet f c { type filter hook ${hook} priority -200; }; add rule inet f c ${rule}`,
    ),
  undo: () => nft(on(), 'delete table inet f'),
});
const router = () => lab.network.router;
const server = () => lab.network.server;
const record = async (...values: string[]) => {
  await changed(lab.network, HOST, values);
  await lab.forgetNames();
};
const records = (...values: string[]): Pick<Fault, 'make' | 'undo'> => ({
  make: () => record(...values),
  undo: () => record(WORLD.line, SIX.server),
});
/** The same when more is done, and undone first. */
const and = (one: Pick<Fault, 'make' | 'undo'>, make: () => Promise<unknown>, undo: () => Promise<unknown>) => ({
  make: () => make().then(() => one.make()),
  undo: () => undo().then(() => one.undo()),
});
const NOBODY = '2001:db8:20::77';
const LETS_IN = 'insert rule inet filter forward ip6 daddr 2001:db8:20::50 accept';

const FAULTS: Fault[] = [
  { what: 'nothing is wrong', mark: 'ok', stage: null, make: () => Promise.resolve(), undo: () => Promise.resolve() },
  {
    what: 'the router drops what comes over IPv6',
    mark: 'warn',
    stage: 'port',
    ...stopped(router, 'forward', 'iifname wan ip6 daddr 2001:db8:20::10 tcp dport 443 drop'),
  },
  {
    what: 'the router refuses what comes over IPv6',
    mark: 'warn',
    stage: 'port',
    ...stopped(router, 'forward', 'iifname wan ip6 daddr 2001:db8:20::10 tcp dport 443 reject with tcp reset'),
  },
  {
    what: 'the router drops what comes over IPv4',
    mark: 'warn',
    stage: 'port',
    ...stopped(router, 'forward', 'iifname wan ip daddr 192.168.20.10 tcp dport 8443 drop'),
  },
  {
    what: 'the router drops what comes over both',
    mark: 'fail',
    stage: 'port',
    ...stopped(router, 'forward', 'iifname wan tcp dport { 443, 8443 } drop'),
  },
  {
    what: 'the server takes nothing over IPv6',
    mark: 'warn',
    stage: 'port',
    ...stopped(server, 'input', 'iifname eth0 meta nfproto ipv6 tcp dport 443 drop'),
  },
  {
    what: 'the server takes nothing over IPv4',
    mark: 'warn',
    stage: 'port',
    ...stopped(server, 'input', 'iifname eth0 meta nfproto ipv4 tcp dport 8443 drop'),
  },
  {
    what: 'the server takes nothing',
    mark: 'fail',
    stage: 'port',
    ...stopped(server, 'input', 'iifname eth0 tcp dport { 443, 8443 } reject with tcp reset'),
  },
  {
    what: 'the address over IPv6 is one of before',
    mark: 'warn',
    stage: 'port',
    ...records(WORLD.line, NOBODY),
  },
  {
    what: 'the address over IPv4 is one of before',
    mark: 'warn',
    stage: 'name',
    ...records('44.128.24.99', SIX.server),
  },
  { what: 'the name leads there over IPv4 only', mark: 'ok', stage: null, ...records(WORLD.line) },
  { what: 'the name leads there over IPv6 only', mark: 'warn', stage: 'name', ...records(SIX.server) },
  { what: 'the name leads to neither', mark: 'fail', stage: 'name', ...records('44.128.24.99', NOBODY) },
  { what: 'the name is gone', mark: 'fail', stage: 'name', ...records() },
  {
    what: 'over IPv6 another server answers',
    mark: 'fail',
    stage: 'certificate',
    ...and(
      records(WORLD.line, SIX.desk),
      async () => {
        other = await startOther(lab.network.desk, [{ port: 443, certificate: wrong }], SIX.desk);
        await nft(router(), LETS_IN);
      },
      () => other.end(),
    ),
  },
  {
    what: 'the router was started anew, and lets nobody in by either',
    mark: 'fail',
    stage: 'router',
    make: () => lab.restartRouter(),
    undo: () => lab.address.does('map-port'),
  },
  {
    what: 'the name server of the office says nothing',
    mark: 'ok',
    stage: null,
    ...stopped(router, 'input', 'iifname { "lan", "guests" } udp dport 53 drop'),
  },
  {
    what: 'the name server of the office leads people to the server itself',
    mark: 'ok',
    stage: null,
    make: async () => {
      await lab.forgetNames();
      other = await router().start('dnsmasq', [
        ...['--keep-in-foreground', '--no-hosts', '--no-resolv', '--bind-interfaces', '--user=root', '--pid-file='],
        ...['--interface=lan', '--port=5353', `--address=/${HOST}/${OFFICE.server}`],
      ]);
      await nft(
        router(),
        'add table inet f; add chain inet f c { type nat hook prerouting priority -150; }; add rule inet f c iifname lan udp dport 53 redirect to :5353',
      );
    },
    undo: async () => {
      await nft(router(), 'delete table inet f');
      await other.end();
      await lab.forgetNames();
    },
  },
];

describe('from every vantage', () => {
  const machines = (): [Vantage, Machine][] => [
    ['outside', lab.network.world],
    ['office', lab.network.server],
    ['guest', lab.network.guest],
    ['tunnel', lab.network.desk],
  ];
  it.each(FAULTS.map((fault) => [fault.what, fault] as const))(
    '%s',
    { timeout: 120_000 },
    async (_, { mark, stage, make, undo }) => {
      await make();
      try {
        const { vantages } = await lab.address.check();
        const told = Object.fromEntries(
          vantages.map(({ vantage, trace }) => [
            vantage,
            traceVerdict(trace ?? []).mark === 'fail' ? 'stopped' : 'open',
          ]),
        );
        const seen = await Promise.all(
          machines().map(async ([vantage, machine]) => {
            const { status, wrong: fault } = await lab.seenFrom(machine);
            return [vantage, status === 200 && fault === 0 ? 'open' : 'stopped'] as const;
          }),
        );
        expect(told).toEqual(Object.fromEntries(seen));
        const outside = traceVerdict(vantages.find((v) => v.vantage === 'outside')?.trace ?? []);
        expect(outside).toEqual({ mark, stage });
      } finally {
        await undo();
      }
    },
  );
});
