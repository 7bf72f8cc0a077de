import { describe, expect, it } from 'vitest';
import { goesStraightIn, straightFault, straightWords, type HandedFile, type StraightIn } from './straight.js';

const RULE: StraightIn = { kinds: ['pdf'], fileBytes: 50e6, provenOnly: true };
const file = (part: Partial<HandedFile> = {}): HandedFile => ({
  ...{ path: 'Signed/certificate.pdf', sizeBytes: 1e6, verdict: 'as-named', scan: 'clean' },
  ...part,
});
const proven = { proven: true, hasScanner: true };

describe('what goes straight in', () => {
  it('is what a rule says of kind, size and who it is from: all of a deposit, or none', () => {
    expect(goesStraightIn(RULE, [file()], proven)).toBe(true);
    expect(goesStraightIn(RULE, [file({ sizeBytes: 50e6 })], proven)).toBe(true);
    expect(goesStraightIn(RULE, [file({ sizeBytes: 50e6 + 1 })], proven)).toBe(false);
    expect(goesStraightIn(RULE, [file(), file({ path: 'plan.dwg' })], proven)).toBe(false);
    expect(goesStraightIn(RULE, [file({ path: 'no ending' })], proven)).toBe(false);
    expect(goesStraightIn(RULE, [file()], { ...proven, proven: false })).toBe(false);
    expect(goesStraightIn({ ...RULE, provenOnly: false }, [file()], { ...proven, proven: false })).toBe(true);
  });

  it('is never what is not what it says, or was not scanned where there is a scanner', () => {
    for (const rule of [null, RULE]) {
      expect(goesStraightIn(rule, [file()], proven)).toBe(true);
      expect(goesStraightIn(rule, [file({ verdict: 'program' })], proven)).toBe(false);
      expect(goesStraightIn(rule, [file({ verdict: null })], proven)).toBe(false);
      expect(goesStraightIn(rule, [file({ scan: null })], proven)).toBe(false);
      expect(goesStraightIn(rule, [file({ scan: null })], { ...proven, hasScanner: false })).toBe(true);
    }
  });

  it('is said in words, and says something', () => {
    expect(straightWords(RULE)).toBe('PDF of at most 50 MB from those who have proven who they are');
    expect(straightWords({ kinds: null, fileBytes: 1e6, provenOnly: false })).toBe('files of at most 1 MB');
    expect(straightWords(null)).toBe('everything');
    expect(straightFault(RULE)).toBeNull();
    expect(straightFault({ kinds: null, fileBytes: null, provenOnly: false })).toBe(
      'Say what goes straight in, or let everything.',
    );
    expect(straightFault({ ...RULE, kinds: [] })).toBe('Choose at least one kind of content, or any.');
  });
});
