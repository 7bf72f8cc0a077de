import { describe, expect, it } from 'vitest';
import { ANYONE } from '../share/audience.js';
import { MAY_DOWNLOAD } from '../share/may.js';
import { frozenTerms, sentenceText, shareSentence, type ShareTerms } from './sentence.js';

const now = Date.parse('2026-12-01T10:04:00Z');
const terms = (part: Partial<ShareTerms>): ShareTerms => ({
  audience: ANYONE,
  may: MAY_DOWNLOAD,
  itemCount: 3,
  frozen: { count: 0, at: null },
  totalBytes: 48_000_000,
  window: { opensAt: null, closesAt: Date.parse('2026-12-08T17:00:00Z') },
  hasPassword: true,
  visitLimit: 10,
  removesFiles: false,
  ...part,
});
const text = (part: Partial<ShareTerms> = {}) => sentenceText(shareSentence(terms(part), now, 'Europe/London'));

describe('the sentence', () => {
  it('says everything that was decided', () =>
    expect(text()).toBe(
      'Anyone with the link and the password can download 3 items (48 MB) from now until Tue 8 Dec, 17:00, at most 10 visits.',
    ));
  it('says when there is no password, limit or end', () =>
    expect(
      text({ hasPassword: false, visitLimit: null, itemCount: 1, window: { opensAt: null, closesAt: null } }),
    ).toBe('Anyone with the link can download 1 item (48 MB) from now until somebody closes it.'));
  it('says when it opens later', () =>
    expect(text({ window: { opensAt: Date.parse('2026-12-03T09:00:00Z'), closesAt: null }, visitLimit: 1 })).toBe(
      'Anyone with the link and the password can download 3 items (48 MB) from Thu 3 Dec, 09:00 until somebody closes it, at most 1 visit.',
    ));
  it('says who, when it is not anyone', () => {
    expect(text({ audience: { ...ANYONE, kind: 'listed', listed: 3 }, visitLimit: null })).toBe(
      '3 listed recipients who prove their address, with the link and the password, can download 3 items (48 MB) from now until Tue 8 Dec, 17:00.',
    );
    expect(text({ audience: { ...ANYONE, kind: 'verified' }, hasPassword: false, visitLimit: null })).toBe(
      'Anyone who proves a mail address, with the link, can download 3 items (48 MB) from now until Tue 8 Dec, 17:00.',
    );
    expect(text({ audience: { ...ANYONE, kind: 'members', members: ['Site crew'] }, visitLimit: 1 })).toBe(
      'Site crew, signed in, with the link and the password, can download 3 items (48 MB) from now until Tue 8 Dec, 17:00, at most 1 visit.',
    );
  });
  it('says what may be done', () => {
    const may = (part: Partial<ShareTerms['may']>) =>
      text({ may: { ...MAY_DOWNLOAD, ...part }, visitLimit: null, hasPassword: false });
    expect(may({ level: 'contribute' })).toBe(
      'Anyone with the link can download and add to 3 items (48 MB) from now until Tue 8 Dec, 17:00.',
    );
    expect(may({ level: 'contribute', seesOthers: false })).toBe(
      'Anyone with the link can add to 3 items (48 MB) from now until Tue 8 Dec, 17:00, without seeing what is there.',
    );
    expect(may({ level: 'view' })).toBe(
      'Anyone with the link can look at 3 items (48 MB) from now until Tue 8 Dec, 17:00, marked for whoever looks, without taking the files.',
    );
    expect(may({ level: 'download', watermark: 'others-withheld' })).toBe(
      'Anyone with the link can download 3 items (48 MB) from now until Tue 8 Dec, 17:00, pictures and PDF alone, marked for whoever takes them.',
    );
    expect(may({ level: 'download', watermark: 'others-plain', fileLimit: 1 })).toBe(
      'Anyone with the link can download 3 items (48 MB) from now until Tue 8 Dec, 17:00, pictures and PDF marked for whoever takes them, each file in at most 1 visit.',
    );
    expect(may({ level: 'edit', seesOthers: false })).toBe(
      'Anyone with the link can download, add to and replace 3 items (48 MB) from now until Tue 8 Dec, 17:00.',
    );
  });
  it('says what is frozen, and as of when', () => {
    const monday = Date.parse('2026-11-30T08:00:00Z');
    const what = (part: Partial<ShareTerms>) => text({ visitLimit: null, ...part }).replace(/^.*download /, '');
    expect(what({ frozen: frozenTerms([monday, monday, monday]) })).toBe(
      '3 items (48 MB), frozen as of Mon 30 Nov, 08:00, from now until Tue 8 Dec, 17:00.',
    );
    expect(what({ frozen: frozenTerms([monday, null, null]) })).toBe(
      '3 items (48 MB), 1 of them frozen as of Mon 30 Nov, 08:00, from now until Tue 8 Dec, 17:00.',
    );
    expect(what({ frozen: frozenTerms([monday, now, null]) })).toBe(
      '3 items (48 MB), 2 of them frozen, from now until Tue 8 Dec, 17:00.',
    );
    expect(what({ frozen: frozenTerms([now, now, now]) })).toBe(
      '3 items (48 MB), frozen as of now, from now until Tue 8 Dec, 17:00.',
    );
  });
  it('says what becomes of the files', () =>
    expect(text({ removesFiles: true, visitLimit: null })).toBe(
      'Anyone with the link and the password can download 3 items (48 MB) from now until Tue 8 Dec, 17:00; then the files go to the trash.',
    ));
  it('says that there is nothing yet', () =>
    expect(text({ itemCount: 0, totalBytes: 0, visitLimit: null })).toBe(
      'Anyone with the link and the password can download what is put in it from now until Tue 8 Dec, 17:00.',
    ));
  it('speaks of the past when it is over', () => {
    expect(
      text({
        window: { opensAt: Date.parse('2026-11-03T09:00:00Z'), closesAt: Date.parse('2026-11-05T09:00:00Z') },
        visitLimit: null,
      }),
    ).toBe(
      'Anyone with the link and the password could download 3 items (48 MB) from Tue 3 Nov, 09:00 until Thu 5 Nov, 09:00.',
    );
    expect(text({ window: { opensAt: null, closesAt: Date.parse('2025-11-05T09:00:00Z') }, visitLimit: null })).toBe(
      'Anyone with the link and the password could download 3 items (48 MB) until Wed 5 Nov 2025, 09:00.',
    );
  });
});
