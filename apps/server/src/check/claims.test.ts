import { existsSync, readFileSync } from 'node:fs';
import { join, resolve } from 'node:path';
import { expect, it } from 'vitest';

const ROOT = resolve(import.meta.dirname, '../../../..');
const claims = readFileSync(join(ROOT, 'docs/security.md'), 'utf8');
const proofs = [...claims.matchAll(/→ `([^`]+)` "([^"]+)"/g)].map(
  ([, file = '', title = '']) => [file, title] as const,
);

it.each(proofs)('what docs/security.md claims is tested: %s, "%s"', (file, title) => {
  const path = join(ROOT, /^(packages|e2e)\//.test(file) ? '' : 'apps/server/src', `${file}.test.ts`);
  expect(existsSync(path) && readFileSync(path, 'utf8').includes(title)).toBe(true);
});

it('no line of docs/security.md that claims something stands alone', () => {
  const alone = claims.split('\n').filter((line) => line.startsWith('- ') && !line.includes('→ `'));
  // What only the reader can do has no test.
  expect(alone).toEqual([expect.stringContaining('keep the token')]);
});
