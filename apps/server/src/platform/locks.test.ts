import { readdirSync, readFileSync } from 'node:fs';
import { join, resolve } from 'node:path';
import { describe, expect, it } from 'vitest';
import { LOCKS } from './locks.js';

const ROOT = resolve(import.meta.dirname, '../../../..');

function sources(folder: string): string[] {
  return readdirSync(join(ROOT, folder), { withFileTypes: true, recursive: true })
    .filter((e) => e.isFile() && /\.(ts|mjs)$/.test(e.name) && !/node_modules|dist/.test(e.parentPath))
    .map((e) => join(e.parentPath, e.name));
}

describe('advisory locks', () => {
  it('are all different', () => {
    const numbers = Object.values(LOCKS);
    expect(new Set(numbers).size).toBe(numbers.length);
  });
  it('are declared in one file, and asked for by name', () => {
    const elsewhere = ['apps/server/src', 'scripts']
      .flatMap(sources)
      .filter((path) => !/locks(\.test)?\.ts$/.test(path))
      .filter((path) => /\b7_?15_?0_?\d{2}\b|pg_(try_)?advisory\w*\(\s*\d/.test(readFileSync(path, 'utf8')));
    expect(elsewhere.map((path) => path.slice(ROOT.length + 1))).toEqual([]);
  });
});
