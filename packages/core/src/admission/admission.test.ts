import { describe, expect, it } from 'vitest';
import { admissionWords, extensionOf, fileFault, quotaLeft, roomFault, type AdmissionFault } from './admission.js';

const anything = { allowedTypes: [], largestFileBytes: null };
const drawings = { allowedTypes: ['pdf', 'dxf'], largestFileBytes: 1000 };

describe('what a store takes in', () => {
  it.each<[string, number, typeof drawings | typeof anything, AdmissionFault | null]>([
    ['ML-101.pdf', 1000, drawings, null],
    ['ML-101.PDF', 10, drawings, null],
    ['ML-101.pdf', 1001, drawings, 'file.too-large'],
    ['notes.txt', 1, drawings, 'type.not-allowed'],
    ['README', 1, drawings, 'type.not-allowed'],
    ['con.pdf', 1, drawings, 'name.reserved'],
    ['a/b', 1, anything, 'name.separator'],
    ['notes.txt', 1e15, anything, null],
  ])('%s of %d bytes', (name, sizeBytes, policy, fault) => expect(fileFault({ name, sizeBytes }, policy)).toBe(fault));
  it('names extensions without the dot', () =>
    expect(['a.PDF', 'archive.tar.gz', '.profile', 'none'].map(extensionOf)).toEqual(['pdf', 'gz', '', '']));
});

describe('room', () => {
  const room = { storeLeftBytes: 100, personLeftBytes: 50, diskFreeBytes: 1000 };
  it.each([
    [50, null],
    [51, 'quota.person'],
  ] as const)('%d bytes: %s', (bytes, fault) => expect(roomFault(bytes, room)).toBe(fault));
  it('is narrowed by each limit', () => {
    expect(roomFault(101, { ...room, personLeftBytes: null })).toBe('quota.store');
    expect(roomFault(1001, { storeLeftBytes: null, personLeftBytes: null, diskFreeBytes: 1000 })).toBe('disk.full');
  });
  it('is never less than none', () =>
    expect([quotaLeft(100, 150), quotaLeft(null, 150), quotaLeft(100, 30)]).toEqual([0, null, 70]));
  it('is told in words with the numbers', () =>
    expect([
      admissionWords('quota.person', anything, room),
      admissionWords('type.not-allowed', drawings),
      admissionWords('name.empty', anything),
    ]).toEqual([
      'That is more than the 50 B left of your quota. Delete old files for good, or ask for more.',
      'This store takes only .pdf, .dxf.',
      'A name is needed.',
    ]));
});
