import type { ShareSheet } from '@quay/contract';
import { describe, expect, it } from 'vitest';
import { sharedAgain, termsOf, withTemplate } from './template';

const ZONE = 'Europe/London';
const NOW = Date.parse('2026-12-01T10:04:00Z');
type Slip = Parameters<typeof termsOf>[0];
type Judged = Parameters<typeof termsOf>[1];
const slip = (part: Partial<Slip>) =>
  ({
    message: ' As agreed. ',
    choice: '1-week',
    passwordChoice: 'typed',
    limitField: '5',
    removesFiles: true,
    ...{ level: 'contribute', seesOthers: false, takesField: '2.5', watermark: 'others-plain', fileLimitField: '' },
    ...part,
  }) as Slip;
const judged = (part: Partial<Judged['asked']> = {}) =>
  ({ asked: { kind: 'anyone', listed: [], blocked: [], members: [], ...part } }) as unknown as Judged;

describe('a template', () => {
  it('keeps the choices, not the password that was typed', () => {
    const terms = termsOf(slip({ password: 'river-anvil-mosaic-plum' }), judged(), NOW, ZONE);
    expect(terms).toEqual({
      message: 'As agreed.',
      audience: { kind: 'anyone', listed: [], blocked: [], members: [] },
      window: { preset: '1-week' },
      ...{ password: true, visitLimit: 5, removesFiles: true },
      may: {
        level: 'contribute',
        seesOthers: false,
        takesBytes: 2_500_000_000,
        watermark: 'others-plain',
        fileLimit: null,
      },
    });
    expect(withTemplate(terms, new Map(), NOW, ZONE)).toMatchObject({
      ...{ message: 'As agreed.', choice: '1-week', passwordChoice: 'proposed', password: '' },
      ...{ limitField: '5', removesFiles: true, audience: 'anyone' },
      ...{ level: 'contribute', seesOthers: false, takesField: '2.5', watermark: 'others-plain', fileLimitField: '' },
    });
  });
  it('keeps moments of one’s own as days from then and times of day, summer or winter', () => {
    const custom = slip({ choice: 'custom', opensField: '', closesField: '2026-12-04T17:00' });
    const terms = termsOf(custom, judged(), NOW, ZONE);
    expect(terms.window).toEqual({ opens: null, closes: { days: 3, at: '17:00' } });
    const june = Date.parse('2027-06-01T22:30:00Z');
    // 23:30 in London then: the third day after is Friday the 4th.
    expect(withTemplate(terms, new Map(), june, ZONE)).toMatchObject({
      choice: 'custom',
      closesField: '2027-06-04T17:00',
    });
  });
  it('leaves out of its members who is gone', () => {
    const members = [
      { kind: 'person' as const, id: 'tomas' },
      { kind: 'group' as const, id: 'ended' },
    ];
    const terms = termsOf(slip({}), judged({ kind: 'members', members }), NOW, ZONE);
    expect(withTemplate(terms, new Map([['tomas', 'Tomas Osei']]), NOW, ZONE).members).toEqual([
      { kind: 'person', id: 'tomas', name: 'Tomas Osei' },
    ]);
  });
});

describe('a share that goes out again', () => {
  it('has the same items and choices, and its window begins now or later, at the same times of day', () => {
    const sheet = {
      items: [
        { id: 'a', name: 'plan.pdf', kind: 'file', sizeBytes: 7, frozenAt: '2026-10-20T08:00:00Z', gone: false },
        { id: 'b', name: 'Gone', kind: 'folder', sizeBytes: 0, frozenAt: null, gone: true },
      ],
      ...{ title: 'Tender pack 3', message: '', hasPassword: true, visitLimit: null, removesFiles: false },
      ...{ opensAt: '2026-10-20T07:00:00Z', closesAt: '2026-10-27T17:00:00Z', createdAt: '2026-10-01T08:00:00Z' },
      whoIsMeant: { kind: 'listed', listed: ['m.hale@fenway.example'], blocked: [], members: [] },
      addressId: 'address',
      may: { level: 'edit', seesOthers: true, takesBytes: 5_000_000_000, watermark: 'none', fileLimit: null },
    } as unknown as ShareSheet;
    expect(sharedAgain(sheet, NOW, ZONE)).toMatchObject({
      items: [{ id: 'a', frozen: true }],
      ...{ title: 'Tender pack 3', audience: 'listed', listText: 'm.hale@fenway.example' },
      // Eight o'clock in London then, and now.
      ...{ choice: 'custom', opensField: '2026-12-02T08:00', closesField: '2026-12-09T17:00' },
      ...{ passwordChoice: 'proposed', password: '' },
    });
  });
});
