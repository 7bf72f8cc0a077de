import { execFileSync } from 'node:child_process';
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { textDifference } from './difference.js';

describe('two texts line by line', () => {
  it('leave out what is the same', () => {
    const before = Array.from({ length: 40 }, (_, i) => `line ${i}`).join('\n');
    const { lines, added, removed } = textDifference(before, before.replace('line 20', 'line twenty'));
    expect([added, removed]).toEqual([1, 1]);
    expect(lines.filter((l) => l.kind === 'gap').map((l) => l.text)).toEqual([
      '17 lines the same',
      '16 lines the same',
    ]);
    expect(lines.filter((l) => l.kind === 'added')).toEqual([{ kind: 'added', text: 'line twenty' }]);
  });
  it('say the same line ends are no change', () =>
    expect(textDifference('a\r\nb\r\n', 'a\nb\n')).toMatchObject({ added: 0, removed: 0 }));
  it('change as few lines as GNU diff does (Debian diffutils)', () => {
    const folder = mkdtempSync(join(tmpdir(), 'quay-diff-'));
    const text = fc
      .array(fc.constantFrom('alpha', 'bravo', 'charlie', 'delta'), { minLength: 1, maxLength: 12 })
      .map((l) => `${l.join('\n')}\n`);
    fc.assert(
      fc.property(text, text, (a, b) => {
        writeFileSync(join(folder, 'a'), a);
        writeFileSync(join(folder, 'b'), b);
        let out = '';
        try {
          execFileSync('diff', ['--minimal', 'a', 'b'], { cwd: folder });
        } catch (error) {
          out = String((error as { stdout: Buffer }).stdout);
        }
        const theirs = out.split('\n').filter((l) => /^[<>] /.test(l)).length;
        const ours = textDifference(a, b);
        expect(ours.added + ours.removed).toBe(theirs);
      }),
      { numRuns: 60 },
    );
    rmSync(folder, { recursive: true });
  });
});
