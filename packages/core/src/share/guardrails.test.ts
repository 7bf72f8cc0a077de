import { describe, expect, it } from 'vitest';
import type { Listed } from './audience.js';
import {
  guardrailFaults,
  guardrailWords,
  intakeRailFaults,
  NO_GUARDRAILS,
  type Guardrails,
  type RailFault,
  type RailFix,
  type RailTerms,
} from './guardrails.js';

const ZONE = 'Europe/London';
const MADE = Date.parse('2026-10-20T09:00:00Z');
const day = (iso: string) => Date.parse(iso);
const terms = (part: Partial<RailTerms> = {}): RailTerms => ({
  window: { opensAt: null, closesAt: day('2026-10-27T09:00:00Z') },
  madeAt: MADE,
  ...{ hasPassword: true, passwordScore: null, audience: 'anyone', listed: [], level: 'download', visitLimit: null },
  watermark: 'none',
  addressId: 'inside',
  publisherHasFactor: false,
  ...part,
});
const rails = (part: Partial<Guardrails>): Guardrails => ({ ...NO_GUARDRAILS, ...part });
const faults = (part: Partial<Guardrails>, of: Partial<RailTerms> = {}): RailFault[] =>
  guardrailFaults(terms(of), [{ of: null, rails: rails(part) }], ZONE);
const domain = (value: string): Listed => ({ kind: 'domain', value });

/** A share after the change that a fault proposes. */
function mended(before: RailTerms, fix: RailFix): RailTerms {
  switch (fix.change) {
    case 'closes':
      return { ...before, window: { ...before.window, closesAt: fix.closesAt } };
    case 'password':
      return { ...before, hasPassword: true, passwordScore: null };
    case 'audience':
      return { ...before, audience: fix.audience };
    case 'take-off':
      return { ...before, listed: before.listed.filter((entry) => !fix.listed.includes(entry)) };
    case 'level':
      return { ...before, level: fix.level };
    case 'watermark':
      return { ...before, watermark: fix.watermark };
    case 'address':
      return { ...before, addressId: fix.addressId };
    case 'visits':
      return { ...before, visitLimit: fix.visitLimit };
  }
}

describe('guardrails', () => {
  it('that say nothing are kept by everything', () =>
    expect(faults({}, { window: { opensAt: null, closesAt: null }, hasPassword: false })).toEqual([]));

  it('count days on the calendar of the office, over a clock change too', () => {
    // The clocks of London go back on 25 October 2026 (IANA time zone database): 7 days are 169 hours then.
    const last = day('2026-10-27T10:00:00Z');
    const asked = { window: { opensAt: day('2026-10-20T09:00:00Z'), closesAt: last } };
    expect(faults({ longestDays: 7 }, asked)).toEqual([]);
    const [late] = faults({ longestDays: 7 }, { window: { opensAt: null, closesAt: last + 60_000 } });
    expect(late).toMatchObject({
      ...{ rail: 'longestDays', field: 'window', words: 'The office: a share is open for at most 7 days.' },
      fix: { change: 'closes', closesAt: last, words: 'Close it after 7 days' },
    });
  });
  it('count from when it opens, where that is later', () =>
    expect(
      faults(
        { longestDays: 7 },
        { window: { opensAt: day('2026-11-02T09:00:00Z'), closesAt: day('2026-11-09T09:00:00Z') } },
      ),
    ).toEqual([]));
  it('tell of an end that is missing once', () => {
    const open = { window: { opensAt: null, closesAt: null } };
    expect(faults({ longestDays: 7, endNeeded: true }, open).map((f) => f.rail)).toEqual(['endNeeded']);
    expect(faults({ longestDays: 7 }, open).map((f) => f.rail)).toEqual(['longestDays']);
  });
  it('judge a password that was typed; of one that is not known nothing is said', () => {
    expect(faults({ strongPassword: true }, { passwordScore: 2 })).toHaveLength(1);
    expect(faults({ strongPassword: true }, { passwordScore: 3 })).toEqual([]);
    expect(faults({ strongPassword: true }, { passwordScore: null })).toEqual([]);
    expect(faults({ strongPassword: true }, { hasPassword: false, passwordScore: null })).toEqual([]);
    expect(faults({ passwordNeeded: true }, { hasPassword: false })[0]?.fix).toEqual({
      change: 'password',
      words: 'Propose one',
    });
  });
  it('propose the nearest audience that lets in less, and the nearest level', () => {
    const audience = (audiences: Guardrails['audiences'], of: RailTerms['audience']) =>
      faults({ audiences }, { audience: of, listed: [] })[0]?.fix;
    expect(audience(['verified', 'members'], 'anyone')).toMatchObject({ audience: 'verified' });
    expect(audience(['members'], 'verified')).toMatchObject({ audience: 'members' });
    expect(audience(['verified'], 'members')).toMatchObject({ audience: 'verified' });
    expect(faults({ levels: ['download'] }, { level: 'edit' })[0]?.fix).toMatchObject({ level: 'download' });
    expect(faults({ levels: ['contribute', 'download'] }, { level: 'edit' })[0]?.fix).toMatchObject({
      level: 'contribute',
    });
  });
  it('hold lists to domains: an address, a domain and what lies below it', () => {
    const domains: Listed[] = [domain('fenway.example'), { kind: 'subdomains', value: 'brookline.example' }];
    const listed: Listed[] = [
      { kind: 'address', value: 'm.hale@fenway.example' },
      domain('fenway.example'),
      { kind: 'address', value: 'd@site.brookline.example' },
      domain('site.brookline.example'),
      { kind: 'subdomains', value: 'site.brookline.example' },
    ];
    expect(faults({ domains }, { audience: 'listed', listed })).toEqual([]);
    const outside: Listed[] = [
      // A domain covers exactly itself, what lies below one not itself (rules.md).
      domain('sub.fenway.example'),
      { kind: 'subdomains', value: 'fenway.example' },
      { kind: 'address', value: 'd@brookline.example' },
      domain('brookline.example'),
    ];
    const [fault] = faults({ domains }, { audience: 'listed', listed: [...listed, ...outside] });
    expect(fault?.fix).toMatchObject({ change: 'take-off', listed: outside });
    expect(faults({ domains }, { audience: 'listed', listed: outside })[0]?.fix).toBeNull();
  });
  it('hold links to addresses', () => {
    const outside = { id: 'outside', text: 'https://files.saltmarsh.example' };
    const [fault] = faults({ addresses: [outside] });
    expect(fault).toEqual({
      ...{ rail: 'addresses', field: 'address' },
      words: 'The office: links are built on https://files.saltmarsh.example.',
      fix: { change: 'address', addressId: 'outside', words: 'Build it on https://files.saltmarsh.example' },
    });
    expect(faults({ addresses: [outside, { id: 'inside', text: 'http://quay.local' }] })).toEqual([]);
    expect(guardrailWords(rails({ addresses: [outside] }))).toEqual([
      'Links are built on https://files.saltmarsh.example alone.',
    ]);
  });
  it('say whose rule it is, and the strictest where several say the same', () => {
    const all = [
      { of: null, rails: rails({ longestDays: 30, mostVisits: 5 }) },
      { of: 'Projects', rails: rails({ longestDays: 7, mostVisits: 50 }) },
    ];
    const found = guardrailFaults(terms({ window: { opensAt: null, closesAt: null } }), all, ZONE);
    expect(found.map((f) => f.words)).toEqual([
      'Projects: a share is open for at most 7 days.',
      'The office: at most 5 visits.',
    ]);
  });
  it('are kept to after the changes that are proposed, whatever they are and whatever is shared', () => {
    // Every rule on and off with every kind of share: 18,432 cases.
    const pick = <T>(n: number, all: readonly T[]): [T, number] => [
      all[n % all.length] as T,
      Math.floor(n / all.length),
    ];
    let unmended = 0;
    for (let n = 0; n < 18_432; n += 1) {
      let left = n;
      const next = <T>(all: readonly T[]): T => {
        const [picked, rest] = pick(left, all);
        left = rest;
        return picked;
      };
      const asked = rails({
        longestDays: next([null, 7]),
        endNeeded: next([true, false]),
        passwordNeeded: next([true, false]),
        audiences: next([['anyone', 'verified'], ['verified'], ['members', 'listed']]),
        levels: next([['download'], ['edit'], ['view']]),
        watermarkNeeded: next([true, false]),
        mostVisits: next([null, 5]),
      });
      let share = terms({
        window: { opensAt: null, closesAt: next([null, day('2027-01-01T00:00:00Z')]) },
        hasPassword: next([true, false]),
        audience: next(['anyone', 'members', 'verified', 'listed']),
        level: next(['view', 'download', 'contribute', 'edit']),
      });
      for (const { fix } of guardrailFaults(share, [{ of: null, rails: asked }], ZONE))
        if (fix) share = mended(share, fix);
      unmended += guardrailFaults(share, [{ of: null, rails: asked }], ZONE).length;
    }
    expect(unmended).toBe(0);
  });
  it('hold for intakes as for shares that files are added to, and say so', () => {
    const { level: _, watermark: __, visitLimit: ___, ...of } = terms({ hasPassword: false });
    const found = (part: Partial<Guardrails>) => intakeRailFaults(of, [{ of: 'Projects', rails: rails(part) }], ZONE);
    expect(found({ watermarkNeeded: true, mostVisits: 3 })).toEqual([]);
    expect(found({ levels: ['view', 'contribute'] })).toEqual([]);
    expect(found({ levels: ['view', 'edit'] })).toEqual([
      { rail: 'levels', field: 'may', words: 'Projects: nothing is taken in from outside.', fix: null },
    ]);
    expect(found({ longestDays: 3, passwordNeeded: true }).map((f) => f.words)).toEqual([
      'Projects: an intake is open for at most 3 days.',
      'Projects: an intake has a password.',
    ]);
  });

  it('are told in words', () =>
    expect(
      guardrailWords(rails({ longestDays: 30, passwordNeeded: true, audiences: ['listed'], levels: ['download'] })),
    ).toEqual([
      'A share is open for at most 30 days.',
      'A share has a password.',
      'Not for anyone with the link, nor for whoever proves an address, nor for members.',
      'Visitors may: download; nothing else.',
    ]));
});
