import { createHash, randomBytes } from 'node:crypto';
import { Readable } from 'node:stream';
import { describe, expect, it } from 'vitest';
import type { BlobStore } from '../platform/blobs/blob-store.js';

/** What every blob store must do. */
export function blobStoreSuite(name: string, make: () => BlobStore): void {
  describe(`${name} keeps blobs`, () => {
    oneBlob(make);
    manyBlobs(make);
  });
  describe(`${name} keeps what comes in pieces`, () => inPieces(make));
}

function inPieces(make: () => BlobStore): void {
  const told: number[] = [];
  const flushedTo = (offset: number) => {
    told.push(offset);
    return Promise.resolve();
  };
  const brokenAfter = (bytes: Buffer) =>
    Readable.from(
      (function* () {
        yield bytes;
        throw new Error('gone');
      })(),
    );
  it('one behind the other, also after a break, and what lies beyond an offset is dropped', async () => {
    const store = make();
    const { parts } = store;
    const bytes = randomBytes(700_000);
    expect(await parts.length('a')).toBe(0);
    expect(await parts.append('a', 0, brokenAfter(bytes.subarray(0, 300_000)), bytes.length, flushedTo)).toBe(300_000);
    expect(told.at(-1)).toBe(300_000);
    // The sender goes on from what it was told, which is less.
    expect(await parts.append('a', 1000, Readable.from([bytes.subarray(1000)]), bytes.length, flushedTo)).toBe(700_000);
    expect([await parts.length('a'), await parts.ids()]).toEqual([700_000, ['a']]);
    const blob = await parts.finish('a', bytes.length);
    expect(blob.sha256.equals(createHash('sha256').update(bytes).digest())).toBe(true);
    await store.adopt([{ blob, overwrite: false }]);
    await blob.discard();
    expect(await parts.ids()).toEqual([]);
    const found = await store.gather([{ sha256: blob.sha256, from: 299_999, length: 2 }]);
    expect(Buffer.from(found.bytes).equals(bytes.subarray(299_999, 300_001))).toBe(true);
    found.release();
  });
  it('keeps nothing beyond what was announced or what there is room for', async () => {
    const { parts } = make();
    await parts.append('b', 0, Readable.from([randomBytes(10)]), 100, flushedTo);
    await expect(parts.append('b', 10, Readable.from([randomBytes(91)]), 100, flushedTo)).rejects.toMatchObject({
      code: 'upload.too-long',
    });
    const none = () => Promise.reject(new Error('no room'));
    await expect(parts.append('b', 10, Readable.from([randomBytes(20)]), 100, flushedTo, none)).rejects.toThrow(
      'no room',
    );
    expect(await parts.length('b')).toBe(10);
    await expect(parts.finish('b', 100)).rejects.toMatchObject({ code: 'upload.shortened' });
    await parts.remove('b');
    await parts.remove('b');
    expect(await parts.length('b')).toBe(0);
  });
}

function oneBlob(make: () => BlobStore): void {
  it('names them by SHA-256 (FIPS 180-4: the example "abc") and knows their CRC-32 (check value of "123456789": cbf43926)', async () => {
    const store = make();
    expect((await store.put(Readable.from([Buffer.from('abc')]), 3)).sha256.toString('hex')).toBe(
      'ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad',
    );
    expect((await store.put(Readable.from([Buffer.from('1234'), Buffer.from('56789')]), null)).crc32.toString(16)).toBe(
      'cbf43926',
    );
  });
  it('keeps nothing as something', async () => {
    const blob = await make().put(Readable.from([]), 0);
    expect(blob).toMatchObject({ sizeBytes: 0, crc32: 0 });
    expect(blob.sha256.toString('hex')).toBe('e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855');
  });
  it('gives back any range', async () => {
    const store = make();
    const bytes = randomBytes(3_000_001);
    const { sha256, sizeBytes } = await store.put(
      Readable.from([bytes.subarray(0, 1_000_000), bytes.subarray(1_000_000)]),
      bytes.length,
    );
    expect(sha256.equals(createHash('sha256').update(bytes).digest())).toBe(true);
    const blob = await store.open(sha256);
    expect(blob?.sizeBytes).toBe(sizeBytes);
    const target = Buffer.alloc(500);
    expect(await blob?.read(target, 2_000_000, 500)).toBe(500);
    expect(target.equals(bytes.subarray(2_000_000, 2_000_500))).toBe(true);
    expect(await blob?.read(target, 3_000_000, 500)).toBe(1);
    await blob?.close();
  });
  it('takes the same bytes twice, also at the same time', async () => {
    const store = make();
    const bytes = randomBytes(200_000);
    const all = await Promise.all(Array.from({ length: 6 }, () => store.put(Readable.from([bytes]), bytes.length)));
    expect(new Set(all.map((b) => b.sha256.toString('hex'))).size).toBe(1);
    expect(await store.stat((all[0] as (typeof all)[0]).sha256)).toEqual({ sizeBytes: 200_000 });
  });
}

function manyBlobs(make: () => BlobStore): void {
  it('takes many small pieces at once, keeps them when they are adopted, also again, and replaces what cannot be trusted', async () => {
    const store = make();
    const pieces = Array.from({ length: 300 }, (_, i) => randomBytes(i % 50 === 0 ? 0 : 10 + i));
    const staged = await store.stageEach(pieces);
    for (const [i, blob] of staged.entries())
      expect(
        blob.sha256.equals(
          createHash('sha256')
            .update(pieces[i] as Buffer)
            .digest(),
        ),
      ).toBe(true);
    expect(await store.stat(staged[1]?.sha256 as Buffer)).toBeNull();
    for (const overwrite of [true, false, true]) await store.adopt(staged.map((blob) => ({ blob, overwrite })));
    const found = await store.gather(staged.map(({ sha256, sizeBytes: length }) => ({ sha256, from: 0, length })));
    expect(Buffer.from(found.bytes).equals(Buffer.concat(pieces))).toBe(true);
    found.release();
    await Promise.all(staged.map((blob) => blob.discard()));
  });
  it('keeps nothing of a stream that ends early or breaks', async () => {
    const store = make();
    await expect(store.put(Readable.from([Buffer.from('half')]), 8)).rejects.toMatchObject({ code: 'upload.cut' });
    const broken = Readable.from(
      (function* () {
        yield Buffer.from('half');
        throw new Error('gone');
      })(),
    );
    await expect(store.put(broken, 8)).rejects.toMatchObject({ code: 'upload.cut' });
    expect(await store.stat(createHash('sha256').update('half').digest())).toBeNull();
  });
  it('gathers bytes and stretches of blobs into one piece, also with memory given back, and refuses what is missing', async () => {
    const store = make();
    const parts = [randomBytes(10_000), randomBytes(5000)];
    const kept = await Promise.all(parts.map((p) => store.put(Readable.from([p]), p.length)));
    const [a, b] = kept.map((k) => k.sha256) as [Buffer, Buffer];
    for (let round = 0; round < 20; round += 1) {
      const gathered = await store.gather([
        { bytes: Buffer.from('head') },
        { sha256: a, from: round, length: 9000 },
        { bytes: Buffer.from('tail') },
        { sha256: b, from: 0, length: 5000 },
      ]);
      const expected = Buffer.concat([
        Buffer.from('head'),
        (parts[0] as Buffer).subarray(round, round + 9000),
        Buffer.from('tail'),
        parts[1] as Buffer,
      ]);
      expect(Buffer.from(gathered.bytes).equals(expected)).toBe(true);
      gathered.release();
    }
    await expect(store.gather([{ sha256: randomBytes(32), from: 0, length: 1 }])).rejects.toThrow();
    await expect(store.gather([{ sha256: b, from: 4000, length: 2000 }])).rejects.toThrow('shorter');
  });
  it('says null for what it does not have, and removes what it has', async () => {
    const store = make();
    expect(await store.open(randomBytes(32))).toBeNull();
    const { sha256 } = await store.put(Readable.from([randomBytes(10)]), 10);
    await store.remove(sha256);
    await store.remove(sha256);
    expect(await store.stat(sha256)).toBeNull();
  });
}
