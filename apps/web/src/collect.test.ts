import { describe, expect, it } from 'vitest';
import { foldersOf } from './collect';

const file = (name: string, more: { webkitRelativePath?: string; relativePath?: string; path?: string } = {}) => {
  const made = new File(['x'], name);
  for (const [key, value] of Object.entries(more)) Object.defineProperty(made, key, { value });
  return made;
};

// How browsers tell the folders: webkitRelativePath (File and Directory Entries API); file-selector: path, relativePath.
describe('the folders that a file came in', () => {
  it.each([
    ['a single file', file('a.txt'), []],
    ['chosen with its folder', file('a.txt', { webkitRelativePath: 'Mill Lane/Plans/a.txt' }), ['Mill Lane', 'Plans']],
    ['dropped, from the root of what was dropped', file('a.txt', { path: '/Mill Lane/a.txt' }), ['Mill Lane']],
    ['dropped alone', file('a.txt', { path: './a.txt' }), []],
    ['told twice', file('a.txt', { relativePath: './Plans/a.txt', path: './a.txt' }), ['Plans']],
    ['names with dots are names', file('a.txt', { path: './v1.2/..old/a.txt' }), ['v1.2', '..old']],
  ])('%s', (_, given, expected) => expect(foldersOf(given)).toEqual(expected));
});
