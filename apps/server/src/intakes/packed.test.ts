import { archiveFault } from '@quay/core';
import { execFileSync } from 'node:child_process';
import { mkdtempSync, readFileSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { gzipSync } from 'node:zlib';
import { describe, expect, it } from 'vitest';
import type { OpenBlob } from '../platform/blobs/blob-store.js';
import { endsAsZip, packedIn } from './packed.js';

// Archives are made by Debian's zip and 7z; what lies about itself is mended by hand after APPNOTE.TXT 6.3.10.

const at = mkdtempSync(join(tmpdir(), 'quay-packed-'));
const blobOf = (bytes: Buffer): OpenBlob => ({
  sizeBytes: bytes.length,
  read: (target, position, length) => {
    const piece = bytes.subarray(position, position + length);
    target.set(piece);
    return Promise.resolve(piece.length);
  },
  close: () => Promise.resolve(),
});
const write = (name: string, bytes: Buffer | string) => writeFileSync(join(at, name), bytes);
function zipped(name: string, files: string[], ...how: string[]): Buffer {
  execFileSync('zip', ['-q', ...how, name, ...files], { cwd: at });
  return readFileSync(join(at, name));
}
const faultOf = async (bytes: Buffer, media = 'application/zip') => {
  const packed = await packedIn(blobOf(bytes), media);
  return packed && archiveFault(packed);
};

describe('an archive', () => {
  it('of what offices send has nothing against it', async () => {
    write('notes.txt', 'Levels of the weir\n'.repeat(5000));
    write('small.bin', Buffer.from([1, 2, 3]));
    const bytes = zipped('visit.zip', ['notes.txt', 'small.bin']);
    expect(await packedIn(blobOf(bytes), 'application/zip')).toMatchObject({
      ...{ entries: 2, unpackedBytes: 95_003, depth: 1, lies: false, locked: false },
    });
    expect(await faultOf(bytes)).toBeNull();
    expect(await faultOf(gzipSync(readFileSync(join(at, 'notes.txt'))), 'application/gzip')).toBeNull();
  });

  it('that unpacks to hundreds of times its size is told, as a zip and as a gzip', async () => {
    write('zeros', Buffer.alloc(120_000_000));
    expect(await faultOf(zipped('bomb.zip', ['zeros']))).toMatch(/^unpacks from 11\d \w+ to 120 MB$/);
    expect(await faultOf(gzipSync(readFileSync(join(at, 'zeros'))), 'application/gzip')).toMatch(/to 1[12]\d MB$/);
  });

  it('in archives in archives is looked into, and told where that goes too deep', async () => {
    write('leaf.txt', 'leaf');
    let inner = 'leaf.txt';
    const faults: (string | null)[] = [];
    for (const level of [1, 2, 3, 4, 5]) {
      faults.push(await faultOf(zipped(`level-${level}.zip`, [inner], '-0')));
      inner = `level-${level}.zip`;
    }
    expect(faults.map((f) => f !== null)).toEqual([false, false, false, true, true]);
  });

  it('that says that less is in it than there is, or whose parts are used twice, is told', async () => {
    write('honest.txt', 'A line that repeats itself.\n'.repeat(500));
    const bytes = zipped('lies.zip', ['honest.txt']);
    const list = bytes.indexOf('PK\x01\x02', 0, 'latin1');
    const lies = Buffer.from(bytes);
    lies.writeUInt32LE(10, list + 24);
    expect(await faultOf(lies)).toBe('says of itself that less is in it than there is');
    // The same file twice in the list: it takes up more than there is.
    const [end, entry] = [bytes.indexOf('PK\x05\x06', 0, 'latin1'), bytes.subarray(list)];
    const names = entry.subarray(0, end - list);
    const twice = Buffer.concat([bytes.subarray(0, end), ...Array<Buffer>(9).fill(names), bytes.subarray(end)]);
    const tail = end + 9 * names.length;
    for (const place of [8, 10]) twice.writeUInt16LE(10, tail + place);
    twice.writeUInt32LE(10 * names.length, tail + 12);
    expect(await faultOf(twice)).toBe('says of itself that less is in it than there is');
  });

  it('that is locked is said to be (Debian’s zip); one of another kind is not looked into', async () => {
    write('secret.txt', 'secret');
    const locked = zipped('locked.zip', ['secret.txt'], '-P', 'gravel-heron');
    expect(await packedIn(blobOf(locked), 'application/zip')).toMatchObject({ locked: true });
    execFileSync('7z', ['a', '-bso0', 'other.7z', 'secret.txt'], { cwd: at });
    expect(await packedIn(blobOf(readFileSync(join(at, 'other.7z'))), 'application/x-7z-compressed')).toBeNull();
    const cut = zipped('cut.zip', ['secret.txt']).subarray(0, 60);
    await expect(packedIn(blobOf(cut), 'application/zip')).rejects.toThrow();
  });

  it('behind something else is found, as other programs find it', async () => {
    write('hidden.txt', 'hidden');
    const picture = Buffer.concat([Buffer.from('\xff\xd8\xff\xe0', 'latin1'), Buffer.alloc(5000, 7)]);
    const both = Buffer.concat([picture, zipped('behind.zip', ['hidden.txt'])]);
    write('both.jpg', both);
    expect(execFileSync('7z', ['l', 'both.jpg'], { cwd: at, encoding: 'utf8' })).toContain('hidden.txt');
    expect(await endsAsZip(blobOf(both))).toBe(true);
    expect(await endsAsZip(blobOf(picture))).toBe(false);
    expect(await endsAsZip(blobOf(Buffer.concat([picture, Buffer.from('PK\x05\x06')])))).toBe(false);
    expect(await endsAsZip(blobOf(Buffer.alloc(0)))).toBe(false);
  });
});
