import { describe, expect, it } from 'vitest';
import { totalOf, totalsQuery } from './sizes';

const file = { id: 'a', kind: 'file' as const, sizeBytes: 40 };
const folder = { id: 'b', kind: 'folder' as const, sizeBytes: 0 };

describe('what items take together', () => {
  it.each([
    ['nothing', [], new Map(), 0],
    ['a file', [file], new Map([['a', 40]]), 40],
    ['a folder that is not counted yet makes the sum unknown', [file, folder], new Map([['a', 40]]), null],
    [
      'an empty folder is counted all the same',
      [file, folder],
      new Map([
        ['a', 40],
        ['b', 0],
      ]),
      40,
    ],
    [
      'what is in the folder',
      [file, folder],
      new Map([
        ['a', 40],
        ['b', 2],
      ]),
      42,
    ],
  ] as const)('%s', (_, items, sizes, total) => expect(totalOf(items, sizes as Map<string, number>)).toBe(total));

  it('one folder and several are one question each, of one shape', () => {
    expect(totalsQuery(['b']).queryKey).not.toEqual(totalsQuery(['b', 'c']).queryKey);
    // What an event about a folder makes stale.
    for (const ids of [['b'], ['b', 'c']]) expect(totalsQuery(ids).queryKey[0]).toBe('sizes');
  });
});
