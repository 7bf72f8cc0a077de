import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { isLitter, keepBothName, mendName, nameFault, nameKey, normalizeName } from './file-name.js';

describe('names that every desktop can hold', () => {
  // Microsoft, "Naming Files, Paths, and Namespaces": the reserved names and characters.
  it.each(['CON', 'con.txt', 'PRN', 'AUX.tar.gz', 'nul', 'COM1', 'com9.log', 'LPT1', 'LPT¹'])(
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
    'a'.repeat(255),
  ])('%s is fine', (name) => expect(nameFault(normalizeName(name))).toBeNull());
});

describe('one name, however it is typed', () => {
  it('composed and decomposed letters are the same (Unicode TR 15)', () =>
    expect(nameKey('Zu\u0308rich')).toBe(nameKey('Zürich')));
  it('case is folded', () => expect(nameKey('PLAN Ä.PDF')).toBe(nameKey('plan ä.pdf')));
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
