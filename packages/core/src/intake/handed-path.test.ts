import { expect, it } from 'vitest';
import { nameFault } from '../file-name/file-name.js';
import { handedPath, placeOfHanded } from './handed-path.js';

const pathOf = (folders: string, name: string): string => {
  const found = handedPath(folders, name);
  return 'path' in found ? found.path : '';
};

it('keeps folders and name as they are, where all desktops can hold them', () => {
  expect(pathOf('Weir House/North', 'sheet 3.pdf')).toBe('Weir House/North/sheet 3.pdf');
  expect(pathOf('', 'Übersicht.png')).toBe('Übersicht.png');
  expect(placeOfHanded('Weir House/North/sheet 3.pdf')).toEqual({
    below: ['Weir House', 'North'],
    name: 'sheet 3.pdf',
  });
});

it('lets nothing lead elsewhere', () => {
  for (const [folders, name] of [
    ['../../etc', 'passwd'],
    ['..', '..'],
    ['./././.', '.'],
    ['/absolute//path/', 'x'],
    ['a\\..\\b', 'c:d'],
    ['CON', 'nul.txt'],
    ['', 'photo\u202Egpj.exe'],
    ['', 'two\nlines'],
    ['', 'null\u0000byte'],
    ['', '\ud800'],
    ['', `${'é'.repeat(300)}.jpg`],
  ] as const)
    for (const part of pathOf(folders, name).split('/')) expect([part, nameFault(part)]).toEqual([part, null]);
});

it('refuses what is too deep or too long, in words', () => {
  expect(handedPath(Array.from({ length: 120 }, () => 'a').join('/'), 'x')).toHaveProperty('fault');
  expect(handedPath(Array.from({ length: 6 }, () => 'b'.repeat(240)).join('/'), 'x')).toHaveProperty('fault');
});
