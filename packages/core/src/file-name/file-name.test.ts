import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import {
  distinctNames,
  isLitter,
  keepBothName,
  mendName,
  nameFault,
  nameKey,
  normalizeName,
  pathFault,
  PATH_MOST_BYTES,
  PATH_MOST_LEVELS,
} from './file-name.js';

describe('names that every desktop can hold', () => {
  // Microsoft, "Naming Files, Paths, and Namespaces": the reserved names and characters.
  it.each(['CON', 'con.txt', 'PRN', 'AUX.tar.gz', 'nul', 'COM1', 'com9.log', 'LPT1', 'LPT¹', 'con .txt', 'nul  .tar'])(
    '%s is reserved',
    (name) => expect(nameFault(name)).toBe('name.reserved'),
  );
  it.each(['<', '>', ':', '"', '|', '?', '*'])('%s is forbidden', (c) =>
    expect(nameFault(`a${c}b`)).toBe('name.forbidden-character'),
  );
  it.each([
    ['', 'name.empty'],
    ['.', 'name.dots'],
    ['..', 'name.dots'],
    ['a/b', 'name.separator'],
    ['a\\b', 'name.separator'],
    ['../etc', 'name.separator'],
    ['a\u0000b', 'name.control-character'],
    ['a\nb', 'name.control-character'],
    ['invoice\u202efdp.exe', 'name.control-character'],
    // Unicode 15, Default_Ignorable_Code_Point and Bidi_Control: what cannot be seen (DerivedCoreProperties.txt).
    ['plan\u061c.pdf', 'name.control-character'],
    ['\u200b', 'name.control-character'],
    ['\u200d\u200c', 'name.control-character'],
    ['plan\u200b.pdf', 'name.control-character'],
    ['plan\u2060.pdf', 'name.control-character'],
    ['pl\u00adan.pdf', 'name.control-character'],
    ['\ufeffplan.pdf', 'name.control-character'],
    ['\u3164', 'name.control-character'],
    ['plan\u{e0041}.pdf', 'name.control-character'],
    ['plan\u2028.pdf', 'name.control-character'],
    ['plan\u200d.pdf', 'name.control-character'],
    ['plan\u00a0', 'name.trailing-dot-or-space'],
    ['trailing.', 'name.trailing-dot-or-space'],
    ['trailing ', 'name.trailing-dot-or-space'],
    [' leading', 'name.leading-space'],
    ['x'.repeat(300), 'name.too-long'],
    ['é'.repeat(128), 'name.too-long'],
    ['\ud800', 'name.not-unicode'],
  ])('%j: %s', (name, fault) => expect(nameFault(name)).toBe(fault));
  it.each([
    'console.txt',
    'com10',
    '.htaccess',
    'ML-101 ground floor.pdf',
    'é'.repeat(127),
    '図面 3.dxf',
    'שרטוט.pdf',
    '😀.txt',
    // Joiners and selectors between letters and signs are part of them.
    '👩\u200d🔧.jpg',
    'می\u200cخواهم.txt',
    '❤\ufe0f.png',
    'a'.repeat(255),
  ])('%s is fine', (name) => expect(nameFault(normalizeName(name))).toBeNull());
});

describe('paths', () => {
  it('go as deep and as long as every desktop opens (macOS: PATH_MAX is 1,024)', () => {
    expect(pathFault({ levels: PATH_MOST_LEVELS, bytes: PATH_MOST_BYTES })).toBeNull();
    expect(pathFault({ levels: PATH_MOST_LEVELS + 1, bytes: 10 })).toBe('path.too-deep');
    expect(pathFault({ levels: 3, bytes: PATH_MOST_BYTES + 1 })).toBe('path.too-long');
  });
  it('of twins side by side get numbers, whatever their case and composition', () =>
    expect(distinctNames(['Photos', 'photos', 'Zu\u0308rich', 'Zürich', 'photos (2)'])).toEqual([
      'Photos',
      'photos (2)',
      'Zu\u0308rich',
      'Zürich (2)',
      'photos (2) (2)',
    ]));
  it('of twins are all different for any desktop', () =>
    fc.assert(
      fc.property(fc.array(fc.constantFrom('a', 'A', 'a (2)', 'b.txt', 'B.TXT', 'b (2).txt')), (names) => {
        const keys = distinctNames(names).map(nameKey);
        expect(new Set(keys).size).toBe(names.length);
      }),
    ));
});

describe('one name, however it is typed', () => {
  it('composed and decomposed letters are the same (Unicode TR 15)', () =>
    expect(nameKey('Zu\u0308rich')).toBe(nameKey('Zürich')));
  it('case is folded', () => expect(nameKey('PLAN Ä.PDF')).toBe(nameKey('plan ä.pdf')));
  it('folding is stable for every character of Unicode', () => {
    const unstable: string[] = [];
    for (let point = 0; point <= 0x10ffff; point += 1) {
      if (point >= 0xd800 && point <= 0xdfff) continue;
      const key = nameKey(String.fromCodePoint(point));
      if (nameKey(key) !== key) unstable.push(point.toString(16));
    }
    expect(unstable).toEqual([]);
  });
  it('a sharp s is ss, small or capital', () =>
    expect(new Set(['STRAẞE', 'straße', 'Strasse', 'STRASSE'].map(nameKey)).size).toBe(1));
  it('folding is stable', () =>
    fc.assert(
      fc.property(fc.string({ unit: 'grapheme' }), (name) => void expect(nameKey(nameKey(name))).toBe(nameKey(name))),
    ));
});

describe('keeping both', () => {
  it('numbers from 2', () => expect(keepBothName('plan.pdf', () => false)).toBe('plan (2).pdf'));
  it('takes the first free number', () =>
    expect(keepBothName('Plan.pdf', (key) => ['plan (2).pdf', 'plan (3).pdf'].includes(key))).toBe('Plan (4).pdf'));
  it('leaves a leading dot alone', () => expect(keepBothName('.profile', () => false)).toBe('.profile (2)'));
  it('stays within 255 bytes without cutting a letter', () => {
    const name = keepBothName(`${'é'.repeat(125)}.jpeg`, () => false);
    expect(nameFault(name)).toBeNull();
    expect(name.endsWith('é (2).jpeg')).toBe(true);
  });
});

// What desktop systems leave behind: common practice, no source.
describe('desktop litter', () => {
  it.each(['.DS_Store', '._plan.pdf', 'Thumbs.db', 'desktop.ini', '~$report.docx'])('%s is', (name) =>
    expect(isLitter(name)).toBe(true),
  );
  it.each(['DS_Store.txt', 'thumbs.dbx', '.profile', '~report'])('%s is not', (name) =>
    expect(isLitter(name)).toBe(false),
  );
});

describe('mending names that some desktops cannot hold', () => {
  it('leaves good names alone', () =>
    fc.assert(
      fc.property(
        fc
          .string({ unit: 'grapheme', maxLength: 40 })
          .map(normalizeName)
          .filter((n) => nameFault(n) === null),
        (name) => void expect(mendName(name)).toBe(name),
      ),
    ));
  it('always gives a name that can be kept', () =>
    fc.assert(
      fc.property(
        fc.oneof(
          fc.string({ unit: 'binary', maxLength: 300 }),
          fc.string({ unit: 'grapheme', maxLength: 300 }),
          fc.constantFrom('con', 'NUL.txt', '...', ' ', 'a:b', '\ud800'),
        ),
        (name) => void expect(nameFault(mendName(name))).toBeNull(),
      ),
    ));
  it.each([
    ['a:b?.txt', 'a_b_.txt'],
    ['con', '_con'],
    ['plan. ', 'plan'],
    ['', '_'],
  ])('%j becomes %j', (from, to) => expect(mendName(from)).toBe(to));
});
