import { describe, expect, it } from 'vitest';
import { compareWays, type PlannedLine } from './compare.js';
import { judgeExposure, mayAnswer, WATCHED_PATHS } from './exposure.js';
import { guideOf, type GuideFacts } from './guide.js';
import { outsideMark, reachMark, reachSentence, reachTrouble, type VantageTrace } from './verdict.js';
import type { StageMark, StageResult, Vantage } from './trace.js';

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
    expect(guideOf({ ...facts, canUpdateRecords: false })[0]?.cannot).toMatch(/No name server/);
    expect(guideOf({ ...facts, publicAddress: null })[0]?.cannot).toMatch(/not known yet/);
    expect(guideOf({ ...facts, wayIn: 'relay' })[0]).toMatchObject({ step: 'relay', cannot: 'No relay is known.' });
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

describe('exposure', () => {
  it.each([
    ['/s/abc/door', true, true, true],
    ['/reach/probe/n', true, true, true],
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
    ]);
    expect(judgeExposure(found.slice(4), { ports: [443], uses: 'sign-in' })[0]?.verdict).toBe(
      'closed-but-should-answer',
    );
  });
});
