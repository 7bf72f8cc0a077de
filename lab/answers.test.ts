import { outsideMark, traceVerdict, type Stage } from '@quay/core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { found } from '../apps/server/src/_fixtures/reach.js';
import { Lab } from './_fixtures/lab.js';
import type { Running } from './_fixtures/net.js';
import { FIREWALL, OFFICE, WORLD } from './_fixtures/network.js';
import { PASSED_ON, SmallAuthority, startOther, type OtherPort } from './_fixtures/other.js';
import { changed, HOST, lookedUp, UPDATES } from './_fixtures/services.js';
import { startUpdates } from './_fixtures/updates.js';
import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';

// The port is open, forwarded by hand, and what answers there is not what should. Each fault is seen by curl too.
const folder = mkdtempSync(join(tmpdir(), 'quay-lab-ca-'));
const small = new SmallAuthority(folder);
const names = [HOST];
const good = small.make('good', { by: 'middle', names, behind: ['middle'] });
small.make('old', { by: 'root', isAuthority: true, days: [-60, -2] });
const many = Array.from({ length: 120 }, (_, n) => `n${n}.saltmarsh.example`);

interface Answer extends Omit<OtherPort, 'port' | 'certificate'> {
  what: string;
  certificate: OtherPort['certificate'];
  /** Where it is told; null: nowhere, people get in. */
  stage: Stage | null;
  reason?: RegExp;
}
const OVER_TLS: Answer[] = [
  { what: 'the server behind another', certificate: good, says: PASSED_ON, stage: null },
  {
    what: 'a certificate with 120 names before ours',
    certificate: small.make('many', { by: 'middle', names: [...many, HOST], behind: ['middle'] }),
    says: PASSED_ON,
    stage: null,
  },
  {
    what: 'a certificate for every name of the zone',
    certificate: small.make('wild', { by: 'middle', names: ['*.saltmarsh.example'], behind: ['middle'] }),
    says: PASSED_ON,
    stage: null,
  },
  {
    what: 'a page that takes seven seconds',
    certificate: good,
    says: `${PASSED_ON} limit_rate 150;`,
    stage: null,
    reason: /only after/,
  },
  { what: 'another server', certificate: good, stage: 'page', reason: /Something else answers/ },
  { what: 'an error of the server', certificate: good, says: 'return 500;', stage: 'page', reason: /status 500/ },
  { what: 'a page that is not there', certificate: good, says: 'return 404;', stage: 'page', reason: /status 404/ },
  { what: 'a connection that ends without a page', certificate: good, says: 'return 444;', stage: 'page' },
  {
    what: 'a certificate that has ended',
    certificate: small.make('ended', { by: 'middle', names, days: [-30, -3], behind: ['middle'] }),
    stage: 'certificate',
    reason: /ended 3 days ago/,
  },
  {
    what: 'a certificate that begins tomorrow',
    certificate: small.make('early', { by: 'middle', names, days: [1, 30], behind: ['middle'] }),
    stage: 'certificate',
    reason: /begins later/,
  },
  {
    what: 'a certificate for another name',
    certificate: small.make('other', { by: 'middle', names: ['mail.saltmarsh.example'], behind: ['middle'] }),
    stage: 'certificate',
    reason: /is for mail/,
  },
  {
    what: 'a certificate whose name is a level too deep',
    certificate: small.make('deep', { by: 'middle', names: ['*.files.saltmarsh.example'], behind: ['middle'] }),
    stage: 'certificate',
    reason: /RFC 9525/,
  },
  {
    what: 'a certificate without names',
    certificate: small.make('nameless', { by: 'middle', behind: ['middle'] }),
    stage: 'certificate',
    reason: /for nobody/,
  },
  {
    what: 'a certificate that signs itself',
    certificate: small.make('self', { names }),
    stage: 'certificate',
    reason: /do not trust/,
  },
  {
    what: 'a chain that is not sent',
    certificate: small.make('alone', { by: 'middle', names }),
    stage: 'certificate',
    reason: /does not send the chain/,
  },
  {
    what: 'an issuer whose certificate has ended',
    certificate: small.make('below-old', { by: 'old', names, behind: ['old'] }),
    stage: 'certificate',
    reason: /above it in the chain has ended/,
  },
  {
    what: 'TLS 1.1 and older only',
    certificate: good,
    tls: 'ssl_protocols TLSv1 TLSv1.1; ssl_ciphers ALL:@SECLEVEL=0;',
    stage: 'certificate',
    reason: /outdated/,
  },
  { what: 'no encryption', certificate: null, stage: 'certificate', reason: /without encryption/ },
];
const ON_80: Answer[] = [
  { what: 'plain pages', certificate: null, stage: 'redirect', reason: /without encryption/ },
  {
    what: 'a way to somewhere else',
    certificate: null,
    says: 'return 301 http://www.saltmarsh.example/;',
    stage: 'redirect',
    reason: /leads to http:/,
  },
  {
    what: 'a way to somewhere else, 700 characters long',
    certificate: null,
    says: `return 301 https://www.saltmarsh.example/${'x'.repeat(700)};`,
    stage: 'redirect',
    reason: /leads to https:/,
  },
  { what: 'status 404', certificate: null, says: 'return 404;', stage: null, reason: /status 404/ },
  { what: 'a connection that ends at once', certificate: null, says: 'return 444;', stage: null },
];

let lab: Lab;
let other: Running;
const portOf = (index: number) => 9000 + index;
const ALL = [...OVER_TLS, ...ON_80];

/** What comes for the two ports goes there; as somebody sets it on the pages of a router. */
async function forward(tls: string, plain = `${OFFICE.server}:8080`): Promise<void> {
  lab.network.router.rules(FIREWALL);
  for (const [outside, inside] of [
    ['443', tls],
    ['80', plain],
  ] as const)
    await lab.network.router.must(
      'nft',
      ...`add rule inet filter prerouting iifname wan tcp dport ${outside} dnat ip to ${inside}`.split(' '),
    );
}

/** What the product says of the way in from outside. */
async function verdict() {
  const { vantages } = await lab.address.check();
  const trace = vantages.find((v) => v.vantage === 'outside')?.trace ?? [];
  const { mark, stage } = traceVerdict(trace);
  return {
    stops: outsideMark(vantages) === 'fail' ? stage : null,
    mark,
    reason: trace.find((s) => s.stage === stage)?.reason ?? '',
  };
}

beforeAll(async () => {
  lab = await Lab.open({
    router: null,
    records: [`files A ${WORLD.line}`],
    reach: { roots: [small.root], stun: { address: WORLD.stun, port: 3478 } },
  });
  other = await startOther(
    lab.network.desk,
    ALL.map(({ what: _, stage: _s, reason: _r, ...port }, i) => ({ ...port, port: portOf(i) })),
  );
  const { readFileSync } = await import('node:fs');
  const asked = { chain: readFileSync(good.chain, 'utf8'), key: readFileSync(good.key, 'utf8') };
  const { status, body } = await lab.office.iris.ask(
    'PUT',
    `/api/reach/addresses/${lab.address.row.id}/certificate`,
    asked,
  );
  if (status !== 204) throw new Error(`no certificate: ${body.detail}`);
  await forward(`${OFFICE.server}:8443`);
  await lab.address.does('redirect-on');
}, 180_000);
afterAll(async () => {
  await other?.end();
  await lab?.close();
  rmSync(folder, { recursive: true, force: true });
});

describe('what answers on port 443', () => {
  it.each(OVER_TLS.map((a, i) => [a.what, a, i] as const))('%s', async (_, { stage, reason }, i) => {
    await forward(`${OFFICE.desk}:${portOf(i)}`);
    const [said, curl] = [await verdict(), await lab.fromOutside(443, null)];
    expect(said.stops).toBe(stage);
    expect(said.reason).toMatch(reason ?? /(?:)/);
    expect(stage === null).toBe(curl.status === 200 && curl.wrong === 0 && (await ours()));
  });
  /** Whether what answers is this server, as somebody sees who reads it. */
  const ours = async () =>
    (
      await lab.network.world.ask(
        'curl',
        '-skm',
        '20',
        '--resolve',
        `${HOST}:443:${WORLD.line}`,
        `https://${HOST}/reach/probe`,
      )
    ).out.includes('Lockfast Quay');
});

describe('what answers on port 80', () => {
  it.each(ON_80.map((a, i) => [a.what, a, OVER_TLS.length + i] as const))('%s', async (_, { stage, reason }, i) => {
    await forward(`${OFFICE.server}:8443`, `${OFFICE.desk}:${portOf(i)}`);
    const said = await verdict();
    expect([said.stops, said.mark === 'ok']).toEqual([stage, false]);
    expect(said.reason).toMatch(reason ?? /(?:)/);
    // Nobody is told to send passwords in the clear, nor sent elsewhere, where the product says that all is well.
    const { status } = await lab.fromOutside(80, null);
    expect(stage === null).toBe(status !== 200 && !(status >= 300 && status < 400));
  });
  it('a connection that is taken and not answered', async () => {
    const silent = await lab.network.desk.start('socat', ['-u', 'TCP-LISTEN:8999,fork,reuseaddr', 'OPEN:/dev/null']);
    await forward(`${OFFICE.server}:8443`, `${OFFICE.desk}:8999`);
    expect(await verdict()).toMatchObject({
      stops: null,
      mark: 'warn',
      reason: expect.stringMatching(/gets no answer/) as string,
    });
    await silent.end();
  });
});

it('people inside can be led to the server itself, which answers there', async () => {
  await forward(`${OFFICE.server}:8443`);
  const stage = found(await lab.address.check(), 'office', 'router');
  expect([stage.value, stage.remedies[0]?.act]).toEqual(['no loopback', 'office-record']);
  const inside = ['-ksm', '5', '-o', '/dev/null', '-w', '%{http_code}', '--resolve', `${HOST}:443:${OFFICE.server}`];
  expect((await lab.network.desk.ask('curl', ...inside, `https://${HOST}/reach/probe`)).out).toBe('200');
});

describe('on the way', () => {
  it('packets beyond a size are lost, and nobody says so', async () => {
    await forward(`${OFFICE.server}:8443`);
    const nft = (...args: string[]) => lab.network.router.must('nft', ...args);
    await nft('add table inet hole');
    await nft('add chain inet hole out { type filter hook forward priority -10; }');
    await nft(...'add rule inet hole out oifname wan tcp sport 8443 meta length > 600 drop'.split(' '));
    expect(await verdict()).toMatchObject({
      stops: 'certificate',
      reason: expect.stringMatching(/packets beyond a size/) as string,
    });
    expect((await lab.fromOutside(443, null)).status).toBe(0);
    await nft('delete table inet hole');
  });
  it('a further address of the name where nobody is: people get in, and some wait', async () => {
    await forward(`${OFFICE.server}:8443`);
    await changed(lab.network, HOST, [WORLD.line, '44.128.24.99']);
    await lab.forgetNames();
    const said = await verdict();
    expect([said.stops, said.mark]).toEqual([null, 'warn']);
    expect(said.reason).toContain('44.128.24.99');
    expect((await lab.fromOutside(443, null)).status).toBe(200);
  });
  it('a further address where another server is: some get there', async () => {
    const elsewhere = await startOther(lab.network.world, [{ port: 443, certificate: good }], WORLD.relay);
    await changed(lab.network, HOST, [WORLD.line, WORLD.relay]);
    await lab.forgetNames();
    expect(await verdict()).toMatchObject({ stops: 'page', reason: expect.stringContaining(WORLD.relay) as string });
    await changed(lab.network, HOST, [WORLD.line]);
    await elsewhere.end();
  });
});

describe('a name that takes no signed updates', () => {
  it('is changed by an address that is asked for; what is refused is told as it was said', async () => {
    const service = await startUpdates(
      lab.network,
      small.make('updates', { by: 'middle', names: [UPDATES], behind: ['middle'] }),
      'right',
    );
    await changed(lab.network, HOST, [WORLD.relay]);
    const asked = {
      name: HOST,
      url: `https://${UPDATES}/nic?hostname={name}&myip={ipv4}`,
      user: 'office',
      secret: 'wrong',
    };
    const keep = (part = {}) => lab.office.iris.ask('PUT', '/api/reach/name-update', { ...asked, ...part });
    expect((await keep({ url: 'https://{name}/nic' })).status).toBe(400);
    expect((await keep()).status).toBe(204);
    expect((await lab.address.act('update-record')).body).toMatchObject({
      code: 'reach.update-refused',
      detail: expect.stringContaining('status 401: badauth') as string,
    });
    await keep({ secret: 'right' });
    expect((await lab.address.act('update-record')).status).toBe(200);
    expect(lookedUp(lab.network.world, WORLD.names, HOST)).toBe(WORLD.line);
    expect(JSON.stringify((await lab.office.iris.ask('GET', '/api/reach/network')).body)).not.toContain('right');
    await service.end();
  });
});
