import { readFileSync } from 'node:fs';
import { X509Certificate } from 'node:crypto';
import { execFileSync } from 'node:child_process';
import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { describe, expect, it } from 'vitest';
import { STAGES, type ReachFacts, type Stage } from './facts.js';
import { coversName } from './judge-page.js';
import { leaseWords } from './judge-way.js';
import { traceReach, traceVerdict } from './trace.js';

const AT = Date.parse('2026-11-25T10:00:00Z');
const DAY = 86_400_000;
/** Everything well, from outside. */
const WELL: ReachFacts = {
  vantage: 'outside',
  wayIn: 'mapping',
  host: 'files.saltmarsh.example',
  port: 443,
  at: AT,
  server: { address: '192.168.20.10', port: 8443 },
  lookup: { outcome: 'answered', addresses: ['198.51.100.24'], ttlSeconds: 300, elapsedMs: 12 },
  line: { seenAddress: '198.51.100.24', routerAddress: '198.51.100.24' },
  mapping: {
    protocol: 'pcp',
    outcome: 'present',
    externalPort: 443,
    internal: { address: '192.168.20.10', port: 8443 },
    leaseSecondsLeft: 9660,
  },
  connect: { outcome: 'connected', address: '198.51.100.24', elapsedMs: 3 },
  tls: {
    outcome: 'agreed',
    protocol: 'TLS 1.3',
    names: ['files.saltmarsh.example'],
    notBefore: AT - 30 * DAY,
    notAfter: AT + 60 * DAY,
    trusted: true,
    issuer: 'an authority',
  },
  redirect: {
    outcome: 'redirects',
    status: 301,
    location: 'https://files.saltmarsh.example/',
    hstsSeconds: 31_536_000,
  },
  page: { outcome: 'right', status: 200, elapsedMs: 84 },
};
const marks = (facts: ReachFacts) => traceReach(facts).map((s) => s.mark);
const at = (facts: ReachFacts, stage: Stage) => traceReach(facts).find((s) => s.stage === stage);
const failsAt = (part: Partial<ReachFacts>) => traceVerdict(traceReach({ ...WELL, ...part }));

describe('the way in, stage by stage', () => {
  it('is well when everything is', () => {
    expect(marks(WELL)).toEqual(STAGES.map(() => 'ok'));
    expect(at(WELL, 'router')).toMatchObject({ value: '443 → 8443', note: 'lease 2 h 41 min' });
    expect(traceVerdict(traceReach(WELL))).toEqual({ mark: 'ok', stage: null });
  });
  it('from inside, with an office zone, needs neither line nor router', () => {
    const inside: ReachFacts = {
      ...WELL,
      vantage: 'office',
      lookup: { ...(WELL.lookup as NonNullable<ReachFacts['lookup']>), addresses: ['192.168.20.10'] },
      connect: { outcome: 'connected', address: '192.168.20.10', elapsedMs: 1 },
    };
    expect(marks(inside)).toEqual(['ok', 'skipped', 'skipped', 'ok', 'ok', 'ok', 'ok']);
    expect(at(inside, 'name')?.note).toBe('office zone');
  });
  it('what lies behind a failure is not reached, and has no opinion', () => {
    const result = traceReach({
      ...WELL,
      lookup: { outcome: 'no-such-name', addresses: [], ttlSeconds: null, elapsedMs: 5 },
    });
    expect(result.map((s) => s.mark)).toEqual(['fail', ...Array<string>(6).fill('not-reached')]);
    expect(result[0]?.remedies).toEqual([
      { act: 'update-record', words: 'In the zone of saltmarsh.example: files.saltmarsh.example A 198.51.100.24' },
    ]);
  });

  it.each<[what: string, part: Partial<ReachFacts>, stage: Stage, mark: 'warn' | 'fail', reason: RegExp]>([
    [
      'a stale record',
      { lookup: { outcome: 'answered', addresses: ['198.51.100.9'], ttlSeconds: 300, elapsedMs: 5 } },
      'name',
      'fail',
      /still leads to 198\.51\.100\.9; the office line is 198\.51\.100\.24 now\. .*300 seconds/,
    ],
    [
      'a private address in the public zone',
      { lookup: { outcome: 'answered', addresses: ['192.168.20.10'], ttlSeconds: 60, elapsedMs: 5 } },
      'name',
      'fail',
      /only the office network knows \(RFC 1918\)/,
    ],
    [
      'carrier-grade NAT (RFC 6598)',
      { line: { seenAddress: '198.51.100.24', routerAddress: '100.72.1.9' } },
      'line',
      'fail',
      /RFC 6598/,
    ],
    [
      'double NAT',
      { line: { seenAddress: '198.51.100.24', routerAddress: '192.168.1.2' } },
      'line',
      'fail',
      /second router in front/,
    ],
    [
      'no mapping',
      {
        mapping: { protocol: 'nat-pmp', outcome: 'absent', externalPort: null, internal: null, leaseSecondsLeft: null },
        connect: { outcome: 'refused', address: '198.51.100.24', elapsedMs: 2 },
      },
      'router',
      'fail',
      /Nothing tells the router/,
    ],
    [
      'a clashing mapping',
      {
        mapping: {
          protocol: 'upnp',
          outcome: 'taken',
          externalPort: 443,
          internal: { address: '192.168.20.31', port: 443 },
          leaseSecondsLeft: null,
        },
      },
      'router',
      'fail',
      /already leads to 192\.168\.20\.31 port 443/,
    ],
    [
      'a mapping to the wrong port',
      {
        mapping: {
          protocol: 'pcp',
          outcome: 'present',
          externalPort: 443,
          internal: { address: '192.168.20.10', port: 8080 },
          leaseSecondsLeft: 5000,
        },
      },
      'router',
      'fail',
      /the server is 192\.168\.20\.10 port 8443/,
    ],
    [
      'a lease about to lapse',
      {
        mapping: {
          protocol: 'pcp',
          outcome: 'present',
          externalPort: 443,
          internal: { address: '192.168.20.10', port: 8443 },
          leaseSecondsLeft: 200,
        },
      },
      'router',
      'warn',
      /about to lapse/,
    ],
    [
      'no loopback of mappings',
      { vantage: 'guest', connect: { outcome: 'timeout', address: '198.51.100.24', elapsedMs: 4000 } },
      'router',
      'fail',
      /back into the office/,
    ],
    [
      'a firewall',
      { connect: { outcome: 'timeout', address: '198.51.100.24', elapsedMs: 4000 } },
      'port',
      'fail',
      /within 4\.0 s: a firewall/,
    ],
    [
      'nobody listening',
      { connect: { outcome: 'refused', address: '198.51.100.24', elapsedMs: 2 } },
      'port',
      'fail',
      /nothing listens/,
    ],
    [
      'a certificate for another name',
      { tls: { ...(WELL.tls as NonNullable<ReachFacts['tls']>), names: ['other.example'] } },
      'certificate',
      'fail',
      /RFC 9525/,
    ],
    [
      'an expired certificate',
      { tls: { ...(WELL.tls as NonNullable<ReachFacts['tls']>), notAfter: AT - 3 * DAY } },
      'certificate',
      'fail',
      /ended 3 days ago/,
    ],
    [
      'a certificate that ends soon',
      { tls: { ...(WELL.tls as NonNullable<ReachFacts['tls']>), notBefore: AT - 78 * DAY, notAfter: AT + 12 * DAY } },
      'certificate',
      'warn',
      /ends in 12 days/,
    ],
    [
      'an issuer nobody trusts',
      { tls: { ...(WELL.tls as NonNullable<ReachFacts['tls']>), trusted: false } },
      'certificate',
      'fail',
      /do not trust/,
    ],
    [
      'TLS 1.1',
      { tls: { ...(WELL.tls as NonNullable<ReachFacts['tls']>), outcome: 'old-protocol', protocol: 'TLS 1.1' } },
      'certificate',
      'fail',
      /RFC 8996/,
    ],
    [
      'plain HTTP beside it',
      { redirect: { outcome: 'serves-plain', status: 200, location: null, hstsSeconds: null } },
      'redirect',
      'fail',
      /without encryption/,
    ],
    [
      'no HSTS',
      {
        redirect: {
          outcome: 'redirects',
          status: 301,
          location: 'https://files.saltmarsh.example/',
          hstsSeconds: null,
        },
      },
      'redirect',
      'warn',
      /RFC 6797/,
    ],
    [
      'a certificate of its issuer that has ended',
      { tls: { ...(WELL.tls as NonNullable<ReachFacts['tls']>), trusted: false, chainFault: 'expired' } },
      'certificate',
      'fail',
      /above it in the chain has ended/,
    ],
    [
      'a chain that is not sent',
      { tls: { ...(WELL.tls as NonNullable<ReachFacts['tls']>), trusted: false, chainFault: 'incomplete' } },
      'certificate',
      'fail',
      /does not send the chain/,
    ],
    [
      'a hole in the path MTU',
      { tls: { ...(WELL.tls as NonNullable<ReachFacts['tls']>), outcome: 'stalls' } },
      'certificate',
      'fail',
      /RFC 4821/,
    ],
    [
      'a name that was set a moment ago',
      {
        lookup: { outcome: 'no-such-name', addresses: [], ttlSeconds: null, elapsedMs: 9 },
        recordSetAt: AT - 4 * 60_000,
      },
      'name',
      'fail',
      /set 4 min ago; name servers that were asked before/,
    ],
    [
      'SERVFAIL',
      { lookup: { outcome: 'failed', addresses: [], ttlSeconds: null, elapsedMs: 9 } },
      'name',
      'fail',
      /SERVFAIL/,
    ],
    [
      'REFUSED',
      { lookup: { outcome: 'refused', addresses: [], ttlSeconds: null, elapsedMs: 9 } },
      'name',
      'fail',
      /REFUSED/,
    ],
    [
      'status 404 on port 80',
      { redirect: { outcome: 'no-redirect', status: 404, location: null, hstsSeconds: null } },
      'redirect',
      'warn',
      /status 404/,
    ],
    [
      'port 80 that takes everybody in and says nothing',
      { redirect: { outcome: 'silent', status: null, location: null, hstsSeconds: null } },
      'redirect',
      'warn',
      /gets no answer/,
    ],
    [
      'a page after seven seconds',
      { page: { outcome: 'right', status: 200, elapsedMs: 7000 } },
      'page',
      'warn',
      /after 7\.0 s/,
    ],
    [
      'a further address where nobody answers',
      {
        others: [{ connect: { outcome: 'timeout', address: '203.0.113.99', elapsedMs: 4000 }, tls: null, page: null }],
      },
      'port',
      'warn',
      /also leads to 203\.0\.113\.99/,
    ],
    [
      'a further address where somebody else answers',
      {
        others: [
          {
            connect: { outcome: 'connected', address: '2001:db8::99', elapsedMs: 4 },
            tls: WELL.tls,
            page: { outcome: 'wrong-server', status: 200, elapsedMs: 4 },
          },
        ],
      },
      'page',
      'fail',
      /also leads to 2001:db8::99\. Something else/,
    ],
    [
      'another server',
      { page: { outcome: 'wrong-server', status: 200, elapsedMs: 9 } },
      'page',
      'fail',
      /Something else answers/,
    ],
  ])('%s', (_what, part, stage, mark, reason) => {
    expect(failsAt(part)).toEqual({ mark, stage });
    expect(at({ ...WELL, ...part }, stage)?.reason).toMatch(reason);
  });
  it('an address of IPv6 that whoever looks has no way to says nothing of those who have', () => {
    const others = [
      { connect: { outcome: 'unreachable', address: '2001:db8::1', elapsedMs: 0 }, tls: null, page: null },
    ] as const;
    expect(at({ ...WELL, others: [...others] }, 'port')?.mark).toBe('ok');
  });
  it('a lease that is short from the start is no reason to warn', () => {
    const mapping = {
      ...(WELL.mapping as NonNullable<ReachFacts['mapping']>),
      leaseSecondsLeft: 100,
      leaseSeconds: 120,
    };
    expect(at({ ...WELL, mapping }, 'router')?.mark).toBe('ok');
    expect(at({ ...WELL, mapping: { ...mapping, leaseSecondsLeft: 20 } }, 'router')?.mark).toBe('warn');
  });
  it('no loopback offers the record of the inner network, with its values', () => {
    const { remedies } = at(
      { ...WELL, vantage: 'guest', connect: { outcome: 'timeout', address: '198.51.100.24', elapsedMs: 4000 } },
      'router',
    ) ?? { remedies: [] };
    expect(remedies[0]).toEqual({
      act: 'office-record',
      words: 'On the name server of this network answer files.saltmarsh.example with 192.168.20.10',
    });
  });
  it('and not where nobody answers inside at the port that the name would lead to', () => {
    const connect = { outcome: 'timeout', address: '198.51.100.24', elapsedMs: 4000 } as const;
    const { remedies } = at({ ...WELL, vantage: 'guest', connect, insideAnswers: false }, 'router') ?? { remedies: [] };
    expect(remedies.map((r) => r.act)).toEqual([null, null, null]);
    expect(remedies[0]?.words).toContain('listen on TCP 443 inside');
  });
  it('a forward that was made by hand lets people in from outside, and may not send those inside back in', () => {
    const facts: ReachFacts = {
      ...WELL,
      vantage: 'office',
      mapping: { protocol: null, outcome: 'no-protocol', externalPort: null, internal: null, leaseSecondsLeft: null },
      connect: { outcome: 'timeout', address: '198.51.100.24', elapsedMs: 4000 },
    };
    expect(at({ ...facts, outsideConnects: true }, 'router')).toMatchObject({ mark: 'fail', value: 'no loopback' });
    expect(at({ ...facts, outsideConnects: false }, 'router')).toMatchObject({ mark: 'fail', value: 'no mapping' });
  });
  it('a router without any protocol is told by hand, with the exact values', () => {
    const silent: Partial<ReachFacts> = {
      mapping: { protocol: null, outcome: 'no-protocol', externalPort: null, internal: null, leaseSecondsLeft: null },
      connect: { outcome: 'timeout', address: '198.51.100.24', elapsedMs: 4000 },
    };
    expect(at({ ...WELL, ...silent }, 'router')?.remedies).toEqual([
      { act: null, words: 'On the router: external TCP 443 → 192.168.20.10 port 8443' },
    ]);
    expect(at({ ...WELL, ...silent, connect: WELL.connect }, 'router')).toMatchObject({
      mark: 'ok',
      note: 'set by hand',
    });
  });
  it('through a relay neither line nor router counts', () =>
    expect(marks({ ...WELL, wayIn: 'relay', line: null, mapping: null })).toEqual([
      'ok',
      'skipped',
      'skipped',
      'ok',
      'ok',
      'ok',
      'ok',
    ]));
});

describe('names of certificates (RFC 9525 §6.3)', () => {
  const cases: [names: string[], host: string, covered: boolean][] = [
    [['files.saltmarsh.example'], 'FILES.saltmarsh.example', true],
    [['*.saltmarsh.example'], 'files.saltmarsh.example', true],
    [['*.saltmarsh.example'], 'saltmarsh.example', false],
    [['*.saltmarsh.example'], 'a.files.saltmarsh.example', false],
    [['saltmarsh.example'], 'files.saltmarsh.example', false],
    [[], 'files.saltmarsh.example', false],
  ];
  it.each(cases)('%j for %s: %s', (names, host, covered) => expect(coversName(names, host)).toBe(covered));
  it('agrees with OpenSSL (through Node.js) on certificates that openssl makes', () => {
    const folder = mkdtempSync(join(tmpdir(), 'quay-names-'));
    for (const [names, host, covered] of cases.filter(([n]) => n.length > 0)) {
      execFileSync(
        'openssl',
        [
          'req',
          '-x509',
          '-newkey',
          'ec',
          '-pkeyopt',
          'ec_paramgen_curve:prime256v1',
          '-nodes',
          '-keyout',
          'key',
          '-out',
          'cert',
          '-subj',
          '/O=Saltmarsh',
          '-addext',
          `subjectAltName=${names.map((n) => `DNS:${n}`).join(',')}`,
          '-days',
          '1',
        ],
        { cwd: folder, stdio: 'ignore' },
      );
      expect(new X509Certificate(readFileSync(join(folder, 'cert'))).checkHost(host) !== undefined).toBe(covered);
    }
    rmSync(folder, { recursive: true });
  });
});

describe('leases in words', () =>
  it.each([
    [9660, '2 h 41 min'],
    [299, '4 min'],
    [45, '45 s'],
    [-3, '0 s'],
  ])('%d s: %s', (s, words) => expect(leaseWords(s)).toBe(words)));

describe('over IPv6 (RFC 3849 has the addresses), where no router translates', () => {
  const six = { address: '2001:db8:20::10', opened: true };
  const four = '198.51.100.24';
  const shared = { seenAddress: '203.0.113.9', routerAddress: '100.64.3.4' };
  const { connect, tls, page } = WELL;
  const gone = (address: string, outcome: 'timeout' | 'unreachable' = 'timeout') => ({
    connect: { outcome, address, elapsedMs: 4000 },
    tls: null,
    page: null,
  });
  const there = (address: string) => ({ connect: connect && { ...connect, address }, tls, page });
  const named = (...addresses: string[]) => WELL.lookup && { ...WELL.lookup, addresses };
  const both: ReachFacts = { ...WELL, six, lookup: named(four, six.address), others: [there(six.address)] };

  it('both families are well, and it is said', () => {
    expect(marks(both)).toEqual(STAGES.map(() => 'ok'));
    expect(at(both, 'router')?.note).toBe('lease 2 h 41 min, IPv6 open');
  });
  it('a firewall that lets nobody in is a warning, and what opens it is offered', () => {
    const closed = at({ ...both, others: [gone(six.address)] }, 'port');
    expect(closed).toMatchObject({ mark: 'warn', value: six.address });
    expect(closed?.remedies.map((r) => r.act)).toEqual(['map-port', null]);
    // Whoever looked has no IPv6: that says nothing.
    expect(at({ ...both, others: [gone(six.address, 'unreachable')] }, 'port')?.mark).toBe('ok');
  });
  it('an address of before is to go from the record', () => {
    const stale = '2001:db8:99::10';
    const found = at({ ...both, lookup: named(four, stale), others: [gone(stale)] }, 'port');
    expect(found).toMatchObject({ mark: 'warn', value: stale });
    expect(found?.remedies[0]).toEqual({
      act: 'update-record',
      words: `In the zone of saltmarsh.example: files.saltmarsh.example A ${four}, AAAA ${six.address}`,
    });
  });
  it('where only IPv4 is closed, those with IPv6 get in all the same', () => {
    const mapping = { ...WELL.mapping, outcome: 'absent' } as ReachFacts['mapping'];
    const facts: ReachFacts = { ...both, ...there(six.address), mapping, others: [gone(four)] };
    expect(at(facts, 'router')).toMatchObject({ mark: 'warn', value: 'no mapping' });
    expect(at(facts, 'router')?.reason).toMatch(/Whoever has IPv6 gets in all the same/);
    expect(traceVerdict(traceReach(facts)).mark).toBe('warn');
  });
  it('a shared line lets in by IPv6 alone, and says whom', () => {
    const facts: ReachFacts = { ...WELL, ...there(six.address), six, lookup: named(six.address), line: shared };
    expect(at(facts, 'name')?.mark).toBe('ok');
    expect(at(facts, 'line')).toMatchObject({ mark: 'warn', value: 'IPv6 only' });
    expect(at(facts, 'line')?.reason).toMatch(/whoever has only IPv4 cannot\. Through the relay all do/);
    expect(at(facts, 'router')).toMatchObject({ mark: 'ok', value: 'IPv6 443 open' });
    const closed = at({ ...facts, ...gone(six.address) }, 'line');
    expect(closed?.remedies.map((r) => r.act)).toEqual(['map-port', null, 'use-relay']);
  });
  it('a name that leads there over IPv6 only leaves the others outside', () => {
    const facts = { ...both, lookup: named(six.address), ...there(six.address), others: [] };
    expect(at(facts, 'name')).toMatchObject({ mark: 'warn', value: six.address });
    // An old address for those with IPv4 is a warning while the others get in, and a failure when nobody does.
    const old = { ...facts, lookup: named('203.0.113.77', six.address), others: [gone('203.0.113.77')] };
    expect(at(old, 'name')).toMatchObject({ mark: 'warn', value: '203.0.113.77' });
    expect(at({ ...old, ...gone(six.address) }, 'name')?.mark).toBe('fail');
  });
  it('inside nobody needs the line where IPv6 leads straight to the server', () => {
    const inside: ReachFacts = { ...both, ...there(six.address), vantage: 'office', others: [gone(four)] };
    expect(traceVerdict(traceReach(inside))).toEqual({ mark: 'ok', stage: null });
    expect(at(inside, 'router')?.mark).toBe('skipped');
  });
});
