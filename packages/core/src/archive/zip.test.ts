import { execFileSync } from 'node:child_process';
import {
  ftruncateSync,
  mkdtempSync,
  openSync,
  readFileSync,
  rmSync,
  writeFileSync,
  writeSync,
  closeSync,
} from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { crc32 } from 'node:zlib';
import fc from 'fast-check';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { planZip, segmentsWithin, type ZipEntry, type ZipPlan } from './zip.js';

const at = Date.UTC(2026, 10, 3, 14, 30, 20);
const entryOf = (path: string, bytes: Buffer): ZipEntry<Buffer> => ({
  path,
  sizeBytes: bytes.length,
  crc32: crc32(bytes),
  modifiedAt: at,
  source: bytes,
});
const folderOf = (path: string): ZipEntry<Buffer> => ({ path, sizeBytes: 0, crc32: 0, modifiedAt: at, source: null });
const bytesOf = (plan: ZipPlan<Buffer>): Buffer =>
  Buffer.concat([...segmentsWithin(plan)].map((s) => ('bytes' in s ? s.bytes : s.source)));

let folder = '';
beforeAll(() => {
  folder = mkdtempSync(join(tmpdir(), 'zip-'));
});
afterAll(() => rmSync(folder, { recursive: true, force: true }));

function written(name: string, entries: ZipEntry<Buffer>[]): string {
  const plan = planZip(entries);
  const bytes = bytesOf(plan);
  expect(bytes.length).toBe(plan.sizeBytes);
  writeFileSync(join(folder, name), bytes);
  return join(folder, name);
}

describe('archives are read by programs of others', () => {
  const entries = [
    folderOf('Photographs/'),
    entryOf('Photographs/één – 写真 😀.jpg', Buffer.from('x'.repeat(70_000))),
    entryOf('empty.txt', Buffer.alloc(0)),
    entryOf('plan.pdf', Buffer.from('a plan')),
  ];

  it('Info-ZIP unzip 6.00 tests it and restores names, bytes and times', () => {
    const path = written('plain.zip', entries);
    expect(execFileSync('unzip', ['-t', path], { env: { ...process.env, LC_ALL: 'C.UTF-8' } }).toString()).toContain(
      'No errors detected',
    );
    const out = join(folder, 'out');
    execFileSync('unzip', ['-q', path, '-d', out], { env: { ...process.env, LC_ALL: 'C.UTF-8' } });
    expect(readFileSync(join(out, 'Photographs/één – 写真 😀.jpg')).length).toBe(70_000);
    expect(
      execFileSync('stat', ['-c', '%Y', join(out, 'plan.pdf')])
        .toString()
        .trim(),
    ).toBe(String(at / 1000));
  });

  it('7-Zip tests it', () => {
    expect(execFileSync('7z', ['t', written('seven.zip', entries)]).toString()).toContain('Everything is Ok');
  });

  it('an archive of nothing is an archive', () => {
    expect(execFileSync('7z', ['t', written('none.zip', [])]).toString()).toContain('Everything is Ok');
  });

  it('more than 65,535 entries (ZIP64 count, APPNOTE 4.4.1.4) are all found', () => {
    const path = written(
      'many.zip',
      Array.from({ length: 66_000 }, (_, i) => entryOf(`f${i}.txt`, Buffer.from(`${i}`))),
    );
    expect(execFileSync('unzip', ['-Z', '-t', path]).toString()).toContain('66000 files');
    expect(execFileSync('unzip', ['-p', path, 'f65999.txt']).toString()).toBe('65999');
  });

  it('an entry beyond 4 GiB and what comes after it (ZIP64 sizes and offsets, APPNOTE 4.5.3) are read', () => {
    const size = 2 ** 32 + 4096;
    const zeros = Buffer.alloc(64 * 1024 * 1024);
    let crc = 0;
    for (let done = 0; done < size; done += zeros.length)
      crc = crc32(zeros.subarray(0, Math.min(zeros.length, size - done)), crc);
    const plan = planZip<Buffer | null>([
      { path: 'large.bin', sizeBytes: size, crc32: crc, modifiedAt: at, source: Buffer.alloc(0) },
      entryOf('after.txt', Buffer.from('after')),
    ]);
    const path = join(folder, 'large.zip');
    const file = openSync(path, 'w');
    ftruncateSync(file, plan.sizeBytes);
    // The large entry is a hole in the file: zeros that take no room.
    for (const s of segmentsWithin(plan)) {
      const bytes = 'bytes' in s ? s.bytes : (s.source ?? Buffer.alloc(0));
      if (bytes.length) writeSync(file, bytes, 0, bytes.length, s.offset);
    }
    closeSync(file);
    const listed = execFileSync('unzip', ['-Z', '-l', path]).toString();
    expect(listed).toContain(String(size));
    expect(execFileSync('unzip', ['-p', path, 'after.txt']).toString()).toBe('after');
    expect(execFileSync('7z', ['l', path]).toString()).toContain(String(size));
  }, 60_000);
});

describe('ranges', () => {
  it('any range of the archive is made of the segments that hold it', () => {
    const entries = Array.from({ length: 30 }, (_, i) => entryOf(`${i}.bin`, Buffer.alloc(i * 37, i)));
    const plan = planZip(entries);
    const whole = bytesOf(plan);
    fc.assert(
      fc.property(fc.nat(plan.sizeBytes), fc.nat(plan.sizeBytes), (a, b) => {
        const [start, end] = [Math.min(a, b), Math.max(a, b)];
        const parts = [...segmentsWithin(plan, start, end)].map((s) =>
          ('bytes' in s ? Buffer.from(s.bytes) : s.source).subarray(
            Math.max(0, start - s.offset),
            Math.min(s.length, end - s.offset),
          ),
        );
        expect(Buffer.concat(parts).equals(whole.subarray(start, end))).toBe(true);
      }),
    );
  });
});

describe('unsafe paths', () => {
  it.each(['/etc/passwd', '../up', 'a/../b', 'a//b', './a', '', 'C:\\x', 'a\\b', 'nul\0'])('%j is refused', (path) => {
    expect(() => planZip([entryOf(path, Buffer.from('x'))])).toThrow(RangeError);
  });
});
