import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { TEXT_PAGE, textPages } from './text-pages.js';

describe('a text as pages', () => {
  it('has each line on one, whatever ends it, and goes on where it is too long', () => {
    expect(textPages('one\r\ntwo\rthree\n')).toEqual([['one', 'two', 'three']]);
    expect(textPages(`${'x'.repeat(250)}\nend`)).toEqual([['x'.repeat(100), 'x'.repeat(100), 'x'.repeat(50), 'end']]);
    expect(textPages('')).toEqual([['']]);
  });
  it('begins another after so many lines, and at a form feed', () => {
    const lines = Array.from({ length: TEXT_PAGE.lines + 1 }, (_, n) => String(n));
    expect(textPages(lines.join('\n')).map((page) => page.length)).toEqual([TEXT_PAGE.lines, 1]);
    expect(textPages('first\fsecond\n')).toEqual([['first'], ['second']]);
  });
  it('has blanks for tabs, and nothing that no letter stands for', () => {
    expect(textPages('a\tb\t\tc')).toEqual([['a       b               c']]);
    expect(textPages('\tx')).toEqual([['        x']]);
    expect(textPages('a\0b\x1b[31mc')).toEqual([['ab[31mc']]);
  });
  it('loses no letter, and makes no line wider and no page longer than there is room', () =>
    fc.assert(
      fc.property(fc.string({ unit: 'grapheme', maxLength: 2000 }), (text) => {
        const pages = textPages(text);
        const bare = (words: string) => words.replace(/[\s\p{Cc}]/gu, '');
        expect(bare(pages.flat().join(''))).toBe(bare(text));
        for (const page of pages) {
          expect(page.length).toBeLessThanOrEqual(TEXT_PAGE.lines);
          for (const line of page) expect([...line].length).toBeLessThanOrEqual(TEXT_PAGE.columns);
        }
      }),
    ));
});
