import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { compareWays, type PlannedLine } from './compare.js';

// Worked out by hand from what each kind of line lets through; the arithmetic of times is checked against its definition.
const own: PlannedLine = {
  line: 'own',
  fixed: false,
  router: 'protocol',
  domain: true,
  uploadMbit: 40,
  relayMbit: 20,
};
const working = (part: Partial<PlannedLine>) =>
  compareWays({ ...own, ...part })
    .filter((w) => w.works)
    .map((w) => w.wayIn);
const way = (part: Partial<PlannedLine>, wayIn: string) => {
  const found = compareWays({ ...own, ...part }).find((w) => w.wayIn === wayIn);
  if (!found) throw new Error(`${wayIn} is not compared`);
  return found;
};

describe('which ways in would work', () => {
  it.each<[string, Partial<PlannedLine>, string[]]>([
    ['an address of its own that changes', {}, ['mapping', 'relay', 'office']],
    ['one that stays', { fixed: true }, ['mapping', 'fixed', 'relay', 'office']],
    ['a router that opens nothing', { router: 'closed' }, ['relay', 'office']],
    ['an address that is shared (RFC 6598)', { line: 'shared' }, ['relay', 'office']],
    ['a second router in front', { line: 'behind-router' }, ['relay', 'office']],
    ['a shared address, said to be fixed', { line: 'shared', fixed: true }, ['relay', 'office']],
    ['no domain: nobody finds the way by name', { domain: false }, ['office']],
  ])('%s', (_, part, expected) => expect(working(part)).toEqual(expected));

  it('why not is said in the words of the check, with what to do about it', () => {
    expect(way({ line: 'shared' }, 'mapping').because).toMatch(/RFC 6598|shared/);
    expect(way({ line: 'shared' }, 'mapping').remedies.length).toBeGreaterThan(0);
    expect(way({}, 'fixed')).toMatchObject({ works: false, because: 'The address of the line changes.' });
    expect(way({ line: 'shared', fixed: true }, 'fixed').because).toBe('The line has no address of its own.');
    expect(way({}, 'fixed').remedies).toEqual([{ act: null, words: 'Ask the provider for a fixed address.' }]);
  });

  it('what works rests on somebody, exposes something, and costs upkeep: each said', () => {
    for (const w of compareWays({ ...own, fixed: true }))
      expect([w.dependsOn, w.exposes, w.upkeep].filter((text) => text.trim() === '')).toEqual([]);
    expect(way({ fixed: false }, 'mapping').dependsOn).toContain('follows the address');
    expect(way({ fixed: true }, 'mapping').dependsOn).not.toContain('follows');
    expect(way({ router: 'by-hand' }, 'mapping').upkeep).toContain('by hand');
  });
});

describe('how long 100 MB take', () => {
  it.each([
    [{ uploadMbit: 40 }, 'mapping', 20],
    [{ uploadMbit: 800 }, 'mapping', 1],
    [{ uploadMbit: 3 }, 'mapping', 266.7],
    [{ uploadMbit: 0 }, 'mapping', null],
    // Through the relay the slower of the two counts.
    [{ uploadMbit: 40, relayMbit: 20 }, 'relay', 40],
    [{ uploadMbit: 10, relayMbit: 20 }, 'relay', 80],
    [{ uploadMbit: 40 }, 'office', null],
  ] as const)('%j by %s: %s s', (part, wayIn, seconds) => expect(way(part, wayIn).secondsFor100Mb).toBe(seconds));
});

describe('whatever is known of the line', () => {
  const lines = fc.record<PlannedLine>({
    line: fc.constantFrom('own', 'shared', 'behind-router'),
    fixed: fc.boolean(),
    router: fc.constantFrom('protocol', 'by-hand', 'closed'),
    domain: fc.boolean(),
    uploadMbit: fc.double({ min: 0, max: 10_000, noNaN: true }),
    relayMbit: fc.double({ min: 0, max: 10_000, noNaN: true }),
  });
  it('each way is judged once, what works comes first, and what does not says why', () => {
    fc.assert(
      fc.property(lines, (planned) => {
        const ways = compareWays(planned);
        expect(ways.map((w) => w.wayIn).sort()).toEqual(['fixed', 'mapping', 'office', 'relay']);
        const works = ways.map((w) => w.works);
        expect(works).toEqual([...works].sort((a, b) => Number(b) - Number(a)));
        for (const w of ways) if (!w.works) expect(w.because).not.toBe('');
      }),
    );
  });
  it('no way needs an open port on a line that has no address of its own', () => {
    fc.assert(
      fc.property(lines, (planned) => {
        fc.pre(planned.line !== 'own');
        for (const w of compareWays(planned)) if (w.works) expect(['relay', 'office']).toContain(w.wayIn);
      }),
    );
  });
});
