import { execFileSync } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import { mkdirSync, mkdtempSync, readdirSync, rmSync, utimesSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { Readable } from 'node:stream';
import { afterEach, describe, expect, it } from 'vitest';
import { blobStoreSuite } from '../../_fixtures/blob-store-suite.js';
import { ObjectBlobStore } from '../../_fixtures/object-blob-store.js';
import { DiskBlobStore } from './disk-blob-store.js';

const roots: string[] = [];
const newRoot = () => {
  const root = mkdtempSync(join(tmpdir(), 'blobs-'));
  roots.push(root);
  return root;
};
afterEach(() => {
  for (const root of roots.splice(0)) rmSync(root, { recursive: true, force: true });
});

blobStoreSuite('the disk', () => new DiskBlobStore(newRoot()));
blobStoreSuite('object storage', () => new ObjectBlobStore());

describe('on the disk', () => {
  it('a blob is where its name says, readable by its owner alone, and sha256sum agrees', async () => {
    const root = newRoot();
    const { sha256 } = await new DiskBlobStore(root).put(Readable.from([randomBytes(100_000)]), null);
    const hex = sha256.toString('hex');
    const path = join(root, hex.slice(0, 2), hex.slice(2, 4), hex);
    expect(execFileSync('sha256sum', [path]).toString()).toContain(hex);
    expect(execFileSync('stat', ['-c', '%a', path]).toString().trim()).toBe('600');
  });
  it('no temporary file stays, whether it went well or not', async () => {
    const root = newRoot();
    const store = new DiskBlobStore(root);
    await store.put(Readable.from([randomBytes(1000)]), 1000);
    await store.put(Readable.from([randomBytes(1000)]), 2000).catch(() => undefined);
    expect(readdirSync(join(root, 'tmp'))).toEqual([]);
  });
  it('nothing stays of an adoption that is tried again, whole or in small pieces', async () => {
    const root = newRoot();
    const store = new DiskBlobStore(root);
    const staged = [
      await store.stage(Readable.from([randomBytes(1000)]), 1000),
      ...(await store.stageEach([randomBytes(9)])),
    ];
    for (let tries = 0; tries < 3; tries += 1) await store.adopt(staged.map((blob) => ({ blob, overwrite: true })));
    for (const blob of staged) await blob.discard();
    expect(readdirSync(join(root, 'tmp'))).toEqual([]);
  });
  it('what a crash left is swept after a day, and not before', async () => {
    const root = newRoot();
    const store = new DiskBlobStore(root);
    const now = Date.now();
    for (const [name, hours] of [
      ['old', 25],
      ['young', 23],
    ] as const) {
      writeFileSync(join(root, 'tmp', name), 'half');
      utimesSync(join(root, 'tmp', name), now / 1000 - hours * 3600, now / 1000 - hours * 3600);
    }
    expect(await store.sweep(now)).toBe(1);
    expect(readdirSync(join(root, 'tmp'))).toEqual(['young']);
  });
  it.skipIf(process.getuid?.() !== 0)(
    'a full disk (a file system of 1 MiB) refuses, keeps nothing, and takes the next that fits',
    async () => {
      const mount = join(newRoot(), 'small');
      mkdirSync(mount);
      execFileSync('mount', ['-t', 'tmpfs', '-o', 'size=1m', 'tmpfs', mount]);
      try {
        const store = new DiskBlobStore(mount);
        await expect(
          store.put(Readable.from(Array.from({ length: 64 }, () => randomBytes(65_536))), null),
        ).rejects.toMatchObject({ code: 'ENOSPC' });
        expect(readdirSync(join(mount, 'tmp'))).toEqual([]);
        expect((await store.put(Readable.from([randomBytes(100_000)]), 100_000)).sizeBytes).toBe(100_000);
      } finally {
        execFileSync('umount', [mount]);
      }
    },
  );
});
