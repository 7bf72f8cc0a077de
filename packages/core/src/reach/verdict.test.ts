import { describe, expect, it } from 'vitest';
import { compareWays, type PlannedLine } from './compare.js';
import { answeringAddress, judgeExposure, mayAnswer, WATCHED_PATHS } from './exposure.js';
import { guideOf, type GuideFacts } from './guide.js';
import { outsideMark, reachMark, reachSentence, reachTrouble, type VantageTrace } from './verdict.js';
import type { StageMark, StageResult, Vantage } from './facts.js';

const traceOf = (mark: StageMark): StageResult[] => [
  { stage: 'name', mark: 'ok', value: '', note: '', reason: '', remedies: [] },
  { stage: 'router', mark, value: '', note: '', reason: '', remedies: [] },
];
const all = (marks: Partial<Record<Vantage, StageMark>>): VantageTrace[] =>
  (Object.entries(marks) as [Vantage, StageMark][]).map(([vantage, mark]) => ({ vantage, trace: traceOf(mark) }));

describe('what all vantages come to', () => {
  it.each([
    ['mapping', { outside: 'ok', office: 'ok', guest: 'ok' }, 'ok'],
    ['mapping', { outside: 'ok', guest: 'fail' }, 'warn'],
    ['mapping', { outside: 'warn' }, 'warn'],
    ['mapping', { outside: 'fail', office: 'ok' }, 'fail'],
    ['mapping', { office: 'ok' }, 'unknown'],
    ['office', { outside: 'fail', office: 'ok' }, 'ok'],
    ['office', { office: 'fail' }, 'fail'],
  ] as const)('%s with %j is %s', (wayIn, marks, mark) => expect(reachMark(wayIn, all(marks))).toBe(mark));

  it('for people outside only what is seen from there counts', () => {
    expect(
      [
        all({ outside: 'ok', guest: 'fail' }),
        all({ outside: 'warn' }),
        all({ outside: 'fail', office: 'ok' }),
        all({ office: 'ok' }),
      ].map(outsideMark),
    ).toEqual(['ok', 'warn', 'fail', 'unknown']);
  });

  it('is said in a sentence', () => {
    expect(reachSentence(all({ outside: 'ok', office: 'ok', guest: 'fail', tunnel: 'ok' }))).toEqual({
      good: 'Most can get in.',
      bad: 'People on the guest Wi-Fi cannot.',
    });
    expect(reachSentence(all({ outside: 'ok', guest: 'fail' }))).toEqual({
      good: 'Outsiders can get in.',
      bad: 'People on the guest Wi-Fi cannot.',
    });
    expect(reachSentence(all({ outside: 'ok', office: 'warn' }))).toEqual({ good: 'Everybody can get in.', bad: '' });
    expect(reachSentence(all({ outside: 'fail', office: 'fail' })).bad).toBe('Nobody can get in.');
    expect(reachSentence([{ vantage: 'outside', trace: null }]).bad).toBe('Nobody has looked yet.');
  });

  it('tells the trouble of those whom the address is for', () => {
    expect(reachTrouble('mapping', all({ outside: 'warn', guest: 'fail' }))?.words).toBe(
      'People on the guest Wi-Fi cannot.',
    );
    expect(reachTrouble('mapping', all({ outside: 'warn', office: 'ok' }))?.words).toBe('Router: ');
    expect(reachTrouble('office', all({ outside: 'fail', office: 'ok' }))).toBeNull();
  });
});

describe('the guide', () => {
  const facts: GuideFacts = {
    wayIn: 'mapping',
    address: { scheme: 'https', host: 'files.saltmarsh.example', port: null, pathPrefix: '' },
    server: { address: '192.168.20.10', tlsPort: 8443, plainPort: 8080 },
    publicAddress: '198.51.100.24',
    six: null,
    canUpdateRecords: true,
    relayHost: null,
  };
  it('gives exact values for each step', () => {
    const steps = guideOf(facts);
    expect(steps.map((s) => s.step)).toEqual(['record', 'mapping', 'certificate', 'redirect', 'closed']);
    expect(steps[0]?.values[0]?.value).toBe('files.saltmarsh.example A 198.51.100.24');
    expect(steps[1]?.values.map((v) => v.value)).toEqual([
      'external TCP 443 → 192.168.20.10 port 8443',
      'external TCP 80 → 192.168.20.10 port 8080',
    ]);
    expect(steps.every((s) => s.cannot === null)).toBe(true);
  });
  it('says what the program cannot do, and why', () => {
    expect(guideOf({ ...facts, canUpdateRecords: false })[0]?.cannot).toMatch(/a name server with a key/);
    expect(guideOf({ ...facts, publicAddress: null })[0]?.cannot).toMatch(/not known yet/);
    expect(guideOf({ ...facts, wayIn: 'relay' })[0]).toMatchObject({
      step: 'relay',
      cannot: 'No relay has invited the office, or it has not answered yet.',
    });
    expect(guideOf({ ...facts, wayIn: 'office' })).toEqual([]);
  });
});

describe('ways compared before anything is bought', () => {
  const line: PlannedLine = {
    line: 'own',
    fixed: false,
    router: 'protocol',
    domain: true,
    uploadMbit: 40,
    relayMbit: 100,
  };
  it('a line with an address of its own takes the mapping; 100 MB at 40 Mbit/s are 800 Mbit in 20 s', () => {
    const [best, ...rest] = compareWays(line);
    expect(best).toMatchObject({ wayIn: 'mapping', works: true, secondsFor100Mb: 20 });
    expect(rest.find((w) => w.wayIn === 'fixed')?.works).toBe(false);
  });
  it('behind a shared address (RFC 6598) only the relay lets outsiders in', () => {
    const ways = compareWays({ ...line, line: 'shared', relayMbit: 10 });
    expect(ways.filter((w) => w.works).map((w) => w.wayIn)).toEqual(['relay', 'office']);
    expect(ways[0]).toMatchObject({ secondsFor100Mb: 80 });
    expect(ways.find((w) => w.wayIn === 'mapping')?.because).toMatch(/RFC 6598/);
  });
  it('behind another router the way is to pass the port on twice, or the relay', () => {
    const mapping = compareWays({ ...line, line: 'behind-router' }).find((w) => w.wayIn === 'mapping');
    expect(mapping).toMatchObject({ works: false });
    expect(mapping?.remedies.some((r) => r.act === 'use-relay')).toBe(true);
  });
  it('a router that opens nothing stops the mapping', () => {
    expect(compareWays({ ...line, router: 'closed' })[0]?.wayIn).toBe('relay');
  });
});

describe('the address that a request is answered at', () => {
  const at = (
    host: string,
    wayIn: 'mapping' | 'office' | 'relay',
    uses: 'visitors' | 'sign-in',
    port: number | null = null,
    pathPrefix = '',
  ) => ({ scheme: 'https', host, port, pathPrefix, wayIn, uses }) as const;
  const files = at('files.saltmarsh.example', 'mapping', 'visitors');
  const inner = at('quay.office.example', 'office', 'sign-in');
  const relayed = at('relay.saltmarsh.example', 'relay', 'visitors');
  const other = at('files.saltmarsh.example', 'mapping', 'sign-in', 8443);
  const below = at('files.saltmarsh.example', 'mapping', 'visitors', null, '/files');
  const all = [files, inner, relayed, other, below];
  const arrival = (part: object) => ({
    serverName: 'files.saltmarsh.example',
    host: 'files.saltmarsh.example',
    target: '/s/x',
    relayedFor: null,
    outside: true,
    ...part,
  });
  const inside = { serverName: inner.host, host: inner.host };
  it.each<[string, object, object | null]>([
    ['everything agrees', {}, files],
    [
      'capitals and the dot of the root are the same name',
      { serverName: 'Files.Saltmarsh.example.', host: 'FILES.saltmarsh.example' },
      files,
    ],
    ['a handshake for one, a Host of another', { host: inner.host, outside: false }, null],
    ['a Host of one, a handshake for another', { serverName: inner.host, outside: false }, null],
    ['no name in the handshake', { serverName: null }, null],
    ['no Host', { host: null }, null],
    ['an address inside, from inside', { ...inside, outside: false }, inner],
    ['an address inside, from outside', inside, null],
    ['an address inside, by the relay', { ...inside, relayedFor: relayed.host }, null],
    [
      'by the relay, for the name it keeps',
      { serverName: relayed.host, host: relayed.host, relayedFor: relayed.host },
      relayed,
    ],
    ['by the relay, for another name', { relayedFor: relayed.host }, null],
    ['an address of the relay, straight from outside', { serverName: relayed.host, host: relayed.host }, null],
    ['another port', { host: 'files.saltmarsh.example:8443' }, other],
    ['a port that is nobody’s', { host: 'files.saltmarsh.example:9999' }, null],
    ['a prefix, the longest first', { target: '/files/s/x' }, below],
    ['a prefix in capitals', { target: '/FILES/s/x' }, below],
    ['not the prefix of another word', { target: '/filesystem' }, files],
    ['a whole URL as target', { target: 'http://files.saltmarsh.example/s/x' }, null],
    ['brackets and nonsense', { host: '[files].saltmarsh.example' }, null],
  ])('%s', (_, part, expected) => expect(answeringAddress(all, arrival(part))).toBe(expected));
});

describe('exposure', () => {
  it.each([
    ['/s/abc/door', true, true, true],
    ['/h/abc/door', true, true, true],
    ['/hand', false, true, true],
    ['/reach/probe/n', true, true, true],
    ['/reach/probe', true, true, true],
    ['/reach/plan', false, true, true],
    ['/reach/addresses/1', false, true, true],
    ['/reach', false, true, true],
    ['/DRIVE/Projects', false, false, true],
    ['/API/session', false, true, true],
    ['/assets/x.js', true, true, true],
    ['/', false, true, true],
    ['/api/session', false, true, true],
    ['/sign-in', false, true, true],
    ['/search', false, true, true],
    ['/drive', false, false, true],
    ['/drive/Projects/', false, false, true],
    ['/drive?x', false, false, true],
    ['/drives', false, true, true],
  ])('%s is answered for visitors %s, with sign-in %s, with drives %s', (path, ...expected) => {
    expect((['visitors', 'sign-in', 'drive'] as const).map((uses) => mayAnswer(uses, path))).toEqual(expected);
  });

  it('what answers and should not, and the other way round', () => {
    const found = [
      { what: 'pages', port: 443, path: '', answers: true, found: 'open' },
      { what: 'database', port: 5432, path: '', answers: true, found: 'open' },
      { what: 'redirect', port: 80, path: '', answers: false, found: 'no answer' },
      ...WATCHED_PATHS.map((p) => ({
        what: p.what,
        port: 443,
        path: p.path,
        answers: p.path !== '/sign-in',
        found: '200',
      })),
    ];
    const verdicts = judgeExposure(found, { ports: [443, 80], uses: 'visitors' }).map((e) => e.verdict);
    expect(verdicts).toEqual([
      'as-it-should',
      'open-but-should-not',
      'closed-but-should-answer',
      'as-it-should',
      'as-it-should',
      'open-but-should-not',
      'open-but-should-not',
      'open-but-should-not',
    ]);
    expect(judgeExposure(found.slice(4), { ports: [443], uses: 'sign-in' })[0]?.verdict).toBe(
      'closed-but-should-answer',
    );
  });
});
