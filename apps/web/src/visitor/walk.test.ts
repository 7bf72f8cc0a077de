import type { VisitorFile } from '@quay/contract';
import { describe, expect, it } from 'vitest';
import { hashOf, viewOf, walk } from './walk';

const file = (path: string): VisitorFile => ({
  ...{
    id: path,
    path,
    sizeBytes: 10,
    mediaType: '',
    sha256: '',
    handing: 'plain',
    isSpent: false,
    own: false,
    mayReplace: false,
  },
});
const many = (folder: string, count: number) => Array.from({ length: count }, (_, n) => file(`${folder}file ${n}.txt`));

describe('walking through folders', () => {
  const files = [...many('Weir House/Plans/Level 1/', 30), ...many('Weir House/Plans/', 3), ...many('Weir House/', 9)];
  it('is for many files in folders; a few are seen at once', () => {
    expect(walk(files.slice(0, 39), '')).toBeNull();
    expect(walk(many('', 100), '')).toBeNull();
    expect(walk(files, '')).not.toBeNull();
  });
  it('begins in the folder that all of it lies in, and goes down step by step', () => {
    expect(walk(files, '')).toMatchObject({
      way: ['Weir House'],
      folders: [{ name: 'Plans', path: 'Weir House/Plans', count: 33, sizeBytes: 330 }],
    });
    expect(walk(files, '')?.here).toHaveLength(9);
    expect(walk(files, 'Weir House/Plans')).toMatchObject({
      way: ['Weir House', 'Weir House/Plans'],
      folders: [{ name: 'Level 1', count: 30 }],
    });
    expect(walk(files, 'Weir House/Plans/Level 1')?.here).toHaveLength(30);
    const parted = [...files, file('notes.txt')];
    expect(walk(parted, '')).toMatchObject({ way: [''], folders: [{ name: 'Weir House' }] });
    expect(walk(parted, 'Weir House')).toMatchObject({ way: ['', 'Weir House'], folders: [{ name: 'Plans' }] });
  });
  it('ends in the nearest folder that is still there', () => {
    expect(walk(files, 'Weir House/Plans/Gone/Deeper')?.way.at(-1)).toBe('Weir House/Plans');
    expect(walk(files, 'Elsewhere')?.way).toEqual(['Weir House']);
    // A name that begins alike is another folder.
    expect(walk(files, 'Weir House/Plan')?.way).toEqual(['Weir House']);
  });
  it.each([
    ['of one folder', files],
    ['of several', [...files, ...many('Terrace/', 5), file('notes.txt')]],
  ])('takes every file %s exactly once, wherever one looks', (_, all) => {
    const found = (folder: string): string[] => {
      const here = walk(all, folder);
      return [...(here?.here ?? []).map((f) => f.id), ...(here?.folders ?? []).flatMap((each) => found(each.path))];
    };
    expect(found('').sort()).toEqual(all.map((f) => f.id).sort());
  });
});

describe('the address of a view', () => {
  it('says the folder and how it is looked at, and is read again', () => {
    for (const view of [
      { pictures: false, folder: '' },
      { pictures: true, folder: '' },
      { pictures: true, folder: 'Plans & sections/Level 1+2 = 50%' },
      { pictures: false, folder: 'Grüße/#1' },
    ])
      expect(viewOf(hashOf(view))).toEqual(view);
    expect(hashOf({ pictures: true, folder: 'Plans/Level 1' })).toBe('#pictures&in=Plans/Level%201');
    expect(viewOf('#%E0%A4%A')).toEqual({ pictures: false, folder: '' });
  });
});
