import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { traceVerdict, type Stage } from '@quay/core';
import { Lab } from './_fixtures/lab.js';
import { FIREWALL, OFFICE, WORLD } from './_fixtures/network.js';
import type { Running } from './_fixtures/net.js';
import { changed, HOST } from './_fixtures/services.js';

// Faults as networks have them, each made on the network itself. What the product says of the way in from outside is
// compared with what curl finds there, and the stage with the one at which the fault was made.
let lab: Lab;
beforeAll(async () => {
  lab = await Lab.open({
    router: { upnp: true, pcp: true },
    authority: { nonceReject: 0, sleepSeconds: null },
    // Nothing is mended while it is looked at.
    reach: { checkEveryMinutes: 0 },
  });
  await lab.tellNameServer();
  await lab.address.does('update-record');
  await lab.forgetNames();
  for (const act of ['map-port', 'get-certificate', 'redirect-on']) await lab.address.does(act);
}, 180_000);
afterAll(() => lab?.close());

interface Fault {
  what: string;
  /** Where it is told; null: everything is well. */
  stage: Stage | null;
  make: () => Promise<unknown>;
  undo: () => Promise<unknown>;
}

const router = (...args: string[]) => lab.network.router.must('nft', ...args);
/** A rule of its own before those of the router, and its end. */
const dropping = (rule: string): Pick<Fault, 'make' | 'undo'> => ({
  make: async () => {
    await router('add', 'table', 'inet', 'fault');
    await router('add', 'chain', 'inet', 'fault', 'in', '{ type filter hook prerouting priority -300; }');
    await router('add', 'rule', 'inet', 'fault', 'in', ...rule.split(' '));
  },
  undo: () => router('delete', 'table', 'inet', 'fault'),
});
/** A name server of the world that no question comes to any more, and nothing is remembered of what it said. */
function unasked(server: string): Pick<Fault, 'make' | 'undo'> {
  const nft = (...args: string[]) => lab.network.world.must('nft', ...args);
  return {
    make: async () => {
      if (server === WORLD.names) await lab.forgetNames();
      await nft('add table inet unasked');
      await nft('add chain inet unasked out { type filter hook output priority 0; }');
      for (const transport of ['udp', 'tcp'])
        await nft(...`add rule inet unasked out ip daddr ${server} ${transport} dport 53 drop`.split(' '));
    },
    // Resolvers keep that somebody did not answer.
    undo: () => nft('delete table inet unasked').then(() => lab.forgetNames()),
  };
}
const record = (...values: string[]) => changed(lab.network, HOST, values).then(() => lab.forgetNames());
let other: Running;

// Where the router says that it leads the port here and nothing comes of it, the port is what can be seen from anywhere.
const FAULTS: Fault[] = [
  { what: 'nothing is wrong', stage: null, make: () => Promise.resolve(), undo: () => Promise.resolve() },
  {
    what: 'the provider drops what comes for port 443',
    stage: 'port',
    ...dropping('iifname wan tcp dport 443 drop'),
  },
  {
    what: 'the provider refuses what comes for port 443',
    stage: 'port',
    ...dropping('iifname wan tcp dport 443 reject with tcp reset'),
  },
  { what: 'the name is gone', stage: 'name', make: () => record(), undo: () => record(WORLD.line) },
  {
    what: 'the name leads to an inside address',
    stage: 'name',
    make: () => record(OFFICE.server),
    undo: () => record(WORLD.line),
  },
  {
    what: 'the name leads behind the provider',
    stage: 'name',
    make: () => record('100.64.3.4'),
    undo: () => record(WORLD.line),
  },
  { what: 'the resolver outside says nothing', stage: 'name', ...unasked(WORLD.resolver) },
  { what: 'the name server of the zone says nothing', stage: 'name', ...unasked(WORLD.names) },
  { what: 'the name leads elsewhere', stage: 'name', make: () => record(WORLD.relay), undo: () => record(WORLD.line) },
  {
    what: 'the firewall of the server drops what comes in',
    stage: 'port',
    make: () =>
      lab.network.server.must(
        'nft',
        'add table inet f; add chain inet f i { type filter hook input priority 0; }; add rule inet f i tcp dport 8443 drop',
      ),
    undo: () => lab.network.server.must('nft', 'delete table inet f'),
  },
  {
    what: 'the router was started anew, and knows of no mapping',
    stage: 'router',
    make: () => lab.restartRouter(),
    undo: () => lab.address.does('map-port'),
  },
  {
    // Firewalls that accept for those behind them say as little: it counts as no answer.
    what: 'somebody forwards the port to a machine that says nothing',
    stage: 'port',
    make: async () => {
      other = await lab.network.desk.start('socat', ['-u', 'TCP-LISTEN:8443,fork,reuseaddr', 'OPEN:/dev/null']);
      await forward(OFFICE.desk);
    },
    undo: async () => {
      await other.end();
      await mappedAgain();
    },
  },
];

/** A forward that somebody made on the pages of the router, in place of all mappings. */
async function forward(to: string): Promise<void> {
  lab.network.router.rules(FIREWALL);
  for (const [outside, inside] of [
    ['443', '8443'],
    ['80', '8080'],
  ] as const) {
    const rule = `add rule inet filter prerouting iifname wan tcp dport ${outside} dnat ip to ${to}:${inside}`;
    await router(...rule.split(' '));
  }
}

async function mappedAgain(): Promise<void> {
  await lab.restartRouter();
  await lab.address.does('map-port');
}

describe('from outside', () => {
  it.each(FAULTS.map((fault) => [fault.what, fault] as const))('%s', async (_, { stage, make, undo }) => {
    await make();
    try {
      const { vantages } = await lab.address.check();
      const trace = vantages.find((v) => v.vantage === 'outside')?.trace ?? [];
      const verdict = traceVerdict(trace);
      const curl = await lab.fromOutside(443, null);
      expect([verdict.mark === 'fail' ? 'stopped' : 'open', verdict.mark === 'fail' ? verdict.stage : null]).toEqual([
        curl.status === 200 && curl.wrong === 0 ? 'open' : 'stopped',
        stage,
      ]);
    } finally {
      await undo();
    }
  });

  it('a forward that was made by hand counts, whatever the router speaks', async () => {
    await lab.restartRouter();
    await forward(OFFICE.server);
    const { vantages } = await lab.address.check();
    const stage = vantages.find((v) => v.vantage === 'outside')?.trace?.find((s) => s.stage === 'router');
    expect(stage).toMatchObject({ mark: 'ok', value: '443 → 8443', note: 'set by hand' });
    expect(await lab.fromOutside(443)).toEqual({ status: 200, wrong: 0 });
    await mappedAgain();
  });
});
