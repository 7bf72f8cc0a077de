import { describe, expect, it } from 'vitest';
import {
  handingOf,
  markKind,
  markLines,
  markTile,
  marksPictures,
  MOST_MARKED_BYTES,
  visitName,
  WATERMARKS,
} from './watermark.js';

const file = (name: string, sizeBytes = 1000) => ({ name, sizeBytes });

describe('how a file is given', () => {
  it('as it is, where nothing is marked', () =>
    expect(handingOf({ level: 'download', watermark: 'none' }, file('plan.pdf'))).toBe('plain'));
  it('to look at alone under that level, whatever else is chosen', () => {
    for (const watermark of WATERMARKS)
      for (const name of ['plan.pdf', 'notes.txt'])
        expect(handingOf({ level: 'view', watermark }, file(name))).toBe('withheld');
  });
  it('marked where it can be; the rest as it is or not at all', () => {
    const given = (watermark: (typeof WATERMARKS)[number]) =>
      ['Plan.PDF', 'photo.JPG', 'notes.txt', 'cloud.las'].map((n) => handingOf({ level: 'edit', watermark }, file(n)));
    expect(given('others-plain')).toEqual(['marked', 'marked', 'plain', 'plain']);
    expect(given('others-withheld')).toEqual(['marked', 'marked', 'withheld', 'withheld']);
  });
  it('never as it is, only because it is too large to be marked', () => {
    const may = { level: 'download', watermark: 'others-plain' } as const;
    expect(handingOf(may, file('plan.pdf', MOST_MARKED_BYTES))).toBe('marked');
    expect(handingOf(may, file('plan.pdf', MOST_MARKED_BYTES + 1))).toBe('withheld');
  });
  it('pictures are marked wherever copies are, and where there is nothing but looking', () => {
    expect(marksPictures({ level: 'view', watermark: 'none' })).toBe(true);
    expect(marksPictures({ level: 'download', watermark: 'none' })).toBe(false);
    expect(marksPictures({ level: 'download', watermark: 'others-plain' })).toBe(true);
  });
  it('kinds are told by the ending of a name', () =>
    expect(['a.tif', 'b.webp', 'c.svg', 'd.gif', 'pdf'].map(markKind)).toEqual(['image', 'image', null, null, null]));
});

describe('what stands on a copy', () => {
  const at = Date.parse('2026-07-01T13:40:00Z');
  const mark = (who: string) => markLines({ who, office: 'Wren & Alder', at }, 'Europe/London');
  it('is who, when in the time of the office, and whose', () =>
    expect(mark('m.hale@fenway.example')).toEqual([
      'm.hale@fenway.example',
      'Wed 1 Jul 2026, 14:40 BST, Wren & Alder',
    ]));
  it('is in short lines, with nothing in them that is no letter', () => {
    const long = mark(`${'a'.repeat(64)}@${'b'.repeat(60)}.example`);
    expect(long.every((line) => [...line].length <= 44)).toBe(true);
    expect(long.slice(0, -1).join('')).toBe(`${'a'.repeat(64)}@${'b'.repeat(60)}.example`);
    expect(mark('two\nlines\u0000')[0]).toBe('two lines ');
    expect(mark('Rosa Pereira of the structural engineers at Fenway')).toEqual([
      'Rosa Pereira of the structural engineers at',
      'Fenway',
      'Wed 1 Jul 2026, 14:40 BST, Wren & Alder',
    ]);
  });
  it('names a visit by the end of its id, which is not its time', () =>
    expect(visitName('0193b2c4-7d1e-7a3b-8c4d-5e6f7a8b9c0d')).toBe('Visit 8B9C0D'));
});

describe('the tile of a mark', () => {
  // The box around a rectangle that is turned: w·cos + h·sin by w·sin + h·cos (plane geometry).
  it('holds the lines as they are turned', () => {
    const { size, width, height } = markTile({ width: 20, lines: 2 }, 3400);
    expect(size).toBe(100);
    expect(width).toBe(Math.ceil(2000 * 0.8660254037844387 + 260 * 0.5 + 200));
    expect(height).toBe(Math.ceil(2000 * 0.5 + 260 * 0.8660254037844387 + 200));
  });
  it('is never so small that nothing could be drawn', () =>
    expect(markTile({ width: 20, lines: 2 }, 1).size).toBeGreaterThanOrEqual(4));
});
