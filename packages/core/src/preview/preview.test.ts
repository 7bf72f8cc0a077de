import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { decodeText, hasThumbnail, previewKind } from './preview.js';

describe('how a file can be looked at', () => {
  it.each([
    ['a.JPG', 'image'],
    ['plan.pdf', 'pages'],
    ['points.csv', 'table'],
    ['notes.txt', 'text'],
    ['pass.webm', 'video'],
    ['memo.mp3', 'audio'],
    ['scan.las', 'none'],
    ['pdf', 'none'],
  ] as const)('%s: %s', (name, kind) => expect(previewKind(name)).toBe(kind));
  it('pictures are made of images and pages', () =>
    expect(['image', 'pages', 'text', 'video'].map((k) => hasThumbnail(k as 'image'))).toEqual([
      true,
      true,
      false,
      false,
    ]));
});

describe('bytes as text', () => {
  // Node.js's Buffer is the reference here.
  it('UTF-8 whole, and cut inside a letter', () =>
    fc.assert(
      fc.property(
        fc.string({ unit: 'grapheme' }).filter((s) => !s.includes('\0')),
        (text) => {
          const bytes = Buffer.from(`${text}é`);
          expect(decodeText(bytes)?.text).toBe(`${text}é`.replace(/^\uFEFF/, ''));
          expect(decodeText(bytes.subarray(0, -1))?.text).toBe(text.replace(/^\uFEFF/, ''));
        },
      ),
    ));
  it('UTF-16 by its mark', () =>
    expect(decodeText(Buffer.from('\uFEFFMühle', 'utf16le'))).toEqual({ text: 'Mühle', encoding: 'UTF-16' }));
  it('Latin-1 otherwise', () =>
    expect(decodeText(Buffer.from('M\u00fchlen an der', 'latin1'))).toEqual({
      text: 'Mühlen an der',
      encoding: 'Latin-1',
    }));
  it('is no text with a NUL in it', () => expect(decodeText(Buffer.from('a\0b'))).toBeNull());
});
