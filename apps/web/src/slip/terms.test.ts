import { describe, expect, it } from 'vitest';
import { shareAsked, slipTerms } from './terms';

const NOW = Date.parse('2026-11-24T10:04:00Z');
const ZONE = 'Europe/London';
type Slip = Parameters<typeof slipTerms>[0];
type Judged = Parameters<typeof slipTerms>[1];
const ANYONE: Judged = {
  asked: { kind: 'anyone', listed: [], blocked: [], members: [] },
  terms: { kind: 'anyone', listed: 0, members: [] },
  ...{ lists: null, fault: null },
};
const at = (sizes = new Map<string, number>()) => ({ now: NOW, zone: ZONE, sizes });
const slip = (part: Partial<Slip> = {}): Slip =>
  ({
    items: [
      { id: 'a', name: 'plan.pdf', kind: 'file', sizeBytes: 1000 },
      { id: 'b', name: 'Photographs', kind: 'folder', sizeBytes: 0 },
    ],
    title: ' Plans ',
    message: '',
    choice: '1-week',
    opensField: '',
    closesField: '',
    passwordChoice: 'proposed',
    password: 'copper-lantern-swift-bay',
    proposedBits: 51,
    weakPasswordMeant: false,
    limitField: '',
    removesFiles: false,
    ...{ level: 'download', seesOthers: true, takesField: '5', watermark: 'none', fileLimitField: '3' },
    folded: false,
    published: null,
    ...part,
  }) as Slip;

describe('what a slip means', () => {
  it('counts what is in its folders, once that is known', () => {
    expect(slipTerms(slip(), ANYONE, at()).terms.totalBytes).toBe(1000);
    expect(slipTerms(slip(), ANYONE, at(new Map([['b', 5000]]))).terms.totalBytes).toBe(6000);
  });
  it("takes a preset from now, and fields in the office's zone", () => {
    expect(slipTerms(slip(), ANYONE, at()).window).toEqual({
      opensAt: null,
      closesAt: Date.parse('2026-12-01T10:04:00Z'),
    });
    const custom = slipTerms(
      slip({ choice: 'custom', opensField: '2027-06-01T09:00', closesField: '2027-06-08T17:00' }),
      ANYONE,
      at(),
    );
    expect(custom.window).toEqual({
      opensAt: Date.parse('2027-06-01T08:00:00Z'),
      closesAt: Date.parse('2027-06-08T16:00:00Z'),
    });
  });
  it.each([
    ['title', { title: '  ' }],
    ['window', { choice: 'custom', closesField: '2026-11-24T09:00' }],
    ['window', { choice: 'custom', opensField: '2026-12-02T09:00', closesField: '2026-12-01T09:00' }],
    ['limit', { limitField: '0' }],
    ['limit', { limitField: '1e9' }],
    ['limit', { limitField: 'many' }],
    ['limit', { limitField: '2.5' }],
    ['files', { removesFiles: true, choice: 'custom' }],
    ['password', { passwordChoice: 'typed', password: 'short' }],
  ] as [string, Partial<Slip>][])('%s must be mended: %j', (field, part) =>
    expect(Object.keys(slipTerms(slip(part), ANYONE, at()).faults)).toEqual([field]),
  );
  it('whom it is for must be settled', () =>
    expect(slipTerms(slip(), { ...ANYONE, fault: 'Choose whom it is for.' }, at()).faults).toEqual({
      audience: 'Choose whom it is for.',
    }));
  it('asks for exactly what the sentence says', () => {
    const [plan, photographs] = slip().items;
    const items = [plan, { ...photographs, frozen: true }] as Slip['items'];
    const draft = slip({ items, passwordChoice: 'none', limitField: ' 3 ' });
    const meant = slipTerms(draft, ANYONE, at());
    expect(meant.faults).toEqual({});
    expect(meant.terms.frozen).toEqual({ count: 1, at: NOW });
    expect(shareAsked(draft, ANYONE, meant)).toEqual({
      title: 'Plans',
      message: '',
      nodeIds: ['a'],
      frozenIds: ['b'],
      window: { opensAt: null, closesAt: '2026-12-01T10:04:00.000Z' },
      audience: { kind: 'anyone', listed: [], blocked: [], members: [] },
      password: null,
      weakPasswordMeant: false,
      visitLimit: 3,
      removesFiles: false,
      may: { level: 'download', seesOthers: true, takesBytes: 5_000_000_000, watermark: 'none', fileLimit: 3 },
    });
  });
  it('has somewhere to add to, where files may be added', () => {
    const of = (frozen: boolean) => {
      const items = [{ id: 'b', name: 'Photographs', kind: 'folder' as const, sizeBytes: 0, frozen }];
      return slipTerms(slip({ items, level: 'contribute' }), ANYONE, at()).faults.may;
    };
    expect([of(false), of(true)]).toEqual([undefined, expect.stringMatching(/no folder/)]);
    expect(slipTerms(slip({ level: 'edit', takesField: 'much' }), ANYONE, at()).faults.may).toMatch(/^A number from/);
  });
});
