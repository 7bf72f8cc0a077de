import { BATCH_BYTES, BATCH_FILES } from '@quay/contract';
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { durationWords, nextPieces, rateOf, type Planned } from './plan';

const file = (id: number, sizeBytes: number, part: Partial<Planned> = {}): Planned => ({
  id,
  folderId: 'f',
  conflict: 'refuse',
  sizeBytes,
  begun: false,
  ...part,
});

describe('what is sent next', () => {
  it('large files one by one, small ones together, in the order of the list', () => {
    const list = [
      file(1, 10),
      file(2, 5_000_000),
      file(3, 20),
      file(4, 30, { folderId: 'g' }),
      file(5, 5, { conflict: 'version' }),
    ];
    expect(nextPieces(list, 9).map((p) => p.map((f) => f.id))).toEqual([[1, 3], [2], [4], [5]]);
    expect(nextPieces(list, 2).map((p) => p.map((f) => f.id))).toEqual([[1, 3], [2]]);
  });
  it('what has begun goes on by itself', () =>
    expect(nextPieces([file(1, 10, { begun: true }), file(2, 10)], 9)).toHaveLength(2));
  it("keeps within the server's limits, and forgets and doubles nothing", () => {
    const files = fc
      .array(fc.integer({ min: 0, max: 1_500_000 }), { maxLength: 600 })
      .map((sizes) => sizes.map((s, i) => file(i, s)));
    fc.assert(
      fc.property(files, (list) => {
        const pieces = nextPieces(list, Infinity);
        expect(
          pieces
            .flat()
            .map((f) => f.id)
            .sort((a, b) => a - b),
        ).toEqual(list.map((f) => f.id));
        for (const piece of pieces)
          expect(
            piece.length === 1 ||
              (piece.length <= BATCH_FILES && piece.reduce((sum, f) => sum + f.sizeBytes, 0) <= BATCH_BYTES),
          ).toBe(true);
      }),
    );
  });
});

describe('how fast, how long', () => {
  it('from the first and last sample', () =>
    expect([
      rateOf([]),
      rateOf([
        { at: 0, bytes: 0 },
        { at: 2000, bytes: 4000 },
      ]),
    ]).toEqual([0, 2000]));
  it.each([
    [0.2, '1 s'],
    [89, '89 s'],
    [200, '3 min'],
    [7800, '2 h 10 min'],
  ])('%d s: %s', (s, words) => expect(durationWords(s)).toBe(words));
});
