import { execFileSync } from 'node:child_process';
import { mkdtempSync, readFileSync, rmSync, statSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { describe, expect, it } from 'vitest';
import { TAR_END, tarHead, tarPadding } from './tar.js';

// GNU tar (Debian tar) unpacks what is packed here.
describe('tar archives', () => {
  const files: [path: string, bytes: Buffer][] = [
    ['plain.txt', Buffer.from('plain')],
    ['empty', Buffer.alloc(0)],
    ['Größe/図面 3.dxf', Buffer.alloc(512, 7)],
    [`deep/${'long name '.repeat(12)}.txt`, Buffer.alloc(1025, 1)],
    ['a'.repeat(100), Buffer.from('hundred')],
    // Paths whose record's length is just about to need another digit.
    ...[85, 86, 87, 88, 89].map((n): [string, Buffer] => [`é${'x'.repeat(n)}`, Buffer.from(String(n))]),
  ];
  it('are unpacked by GNU tar with their names, bytes and times', () => {
    const folder = mkdtempSync(join(tmpdir(), 'quay-tar-'));
    const at = Date.parse('2026-11-24T10:04:00Z');
    writeFileSync(
      join(folder, 'all.tar'),
      Buffer.concat([
        ...files.flatMap(([path, bytes]) => [tarHead(path, bytes.length, at), bytes, tarPadding(bytes.length)]),
        TAR_END,
      ]),
    );
    execFileSync('tar', ['-xf', 'all.tar'], { cwd: folder, env: { ...process.env, LC_ALL: 'C.UTF-8' } });
    for (const [path, bytes] of files) {
      expect(readFileSync(join(folder, path)).equals(bytes)).toBe(true);
      expect(statSync(join(folder, path)).mtimeMs).toBe(at);
    }
    rmSync(folder, { recursive: true });
  });
});
