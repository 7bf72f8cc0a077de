import { describe, expect, it } from 'vitest';
import { weightsSeen, type Weight, type WeightPart } from './weight.js';

const part = (id: string, within: string | null, files: number, sees: WeightPart['sees']): WeightPart => ({
  id,
  within,
  whole: { files, bytes: files * 10 },
  sees,
});

const seen = (parts: WeightPart[], own?: Map<string, Weight>) =>
  Object.fromEntries([...weightsSeen(parts, own)].map(([id, weight]) => [id, weight.files]));

describe('what a folder weighs to somebody', () => {
  it('is all of it where they see everything', () => {
    expect(weightsSeen([part('a', null, 7, 'all')]).get('a')).toEqual({ files: 7, bytes: 70 });
  });

  it('leaves out what is closed, and what lies beyond it though it is open', () => {
    const parts = [part('shut', 'a', 4, 'nothing'), part('a', null, 9, 'all'), part('open again', 'shut', 2, 'all')];
    expect(seen(parts)).toEqual({ a: 5, shut: 0, 'open again': 2 });
  });

  it('is of an intake what they brought, and what they see in the folders in it', () => {
    const parts = [part('a', null, 9, 'all'), part('intake', 'a', 6, 'own'), part('answers', 'intake', 1, 'all')];
    expect(seen(parts)).toEqual({ a: 4, intake: 1, answers: 1 });
    expect(seen(parts, new Map([['intake', { files: 2, bytes: 20 }]]))).toEqual({ a: 6, intake: 3, answers: 1 });
  });
});

/** A folder as somebody finds it who walks: files of its own, folders in it, and what is seen from here on, if that differs. */
interface Found {
  files: number;
  folders: Found[];
  sees: WeightPart['sees'] | null;
}

const whole = (folder: Found): Weight =>
  folder.folders.map(whole).reduce((sum, w) => ({ files: sum.files + w.files, bytes: sum.bytes + w.bytes }), {
    files: folder.files,
    bytes: folder.files * 10,
  });

function walked(folder: Found, around: WeightPart['sees']): number {
  const sees = folder.sees ?? around;
  if (sees === 'nothing') return 0;
  return (sees === 'all' ? folder.files : 0) + folder.folders.reduce((sum, f) => sum + walked(f, sees), 0);
}

function partsOf(folder: Found, id: string, within: string | null): WeightPart[] {
  const begins = within === null || folder.sees !== null;
  const own = begins ? [{ id, within, whole: whole(folder), sees: folder.sees ?? 'all' }] : [];
  return [...own, ...folder.folders.flatMap((f, i) => partsOf(f, `${id}/${i}`, begins ? id : within))];
}

it('equals what a walk counts, in 2,000 trees', () => {
  let seed = 20_261_127;
  const random = () => (seed = (Math.imul(seed, 1_103_515_245) + 12_345) & 0x7fffffff) / 0x80000000;
  const pick = (): WeightPart['sees'] => (random() < 0.33 ? 'all' : random() < 0.5 ? 'own' : 'nothing');
  const grow = (depth: number): Found => ({
    files: Math.floor(random() * 5),
    folders: depth === 0 ? [] : Array.from({ length: Math.floor(random() * 4) }, () => grow(depth - 1)),
    sees: random() < 0.3 ? pick() : null,
  });
  for (let tree = 0; tree < 2000; tree += 1) {
    const top: Found = { ...grow(4), sees: 'all' };
    expect(weightsSeen(partsOf(top, 't', null)).get('t')?.files).toBe(walked(top, 'all'));
  }
});
