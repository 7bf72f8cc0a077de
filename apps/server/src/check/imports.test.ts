import { readdirSync, readFileSync } from 'node:fs';
import { dirname, join, relative } from 'node:path';
import { expect, it } from 'vitest';

const ROOT = join(import.meta.dirname, '../../../..');
const FROM = /^(?:import|export) (?!type)[^;]*?from '(\.[^']+)'/gms;

/** The source files of all parts, with what each imports of its own part; types are gone when it runs. */
function importsOf(): Map<string, string[]> {
  const all = ['apps', 'packages']
    .flatMap((group) => readdirSync(join(ROOT, group)).map((part) => join(ROOT, group, part, 'src')))
    .flatMap((src) => readdirSync(src, { recursive: true, encoding: 'utf8' }).map((f) => join(src, f)))
    .filter((f) => /\.tsx?$/.test(f));
  const known = new Set(all);
  const found = (from: string, named: string) => {
    const base = join(dirname(from), named).replace(/\.js$/, '');
    return [base, `${base}.ts`, `${base}.tsx`, join(base, 'index.ts'), join(base, 'index.tsx')].find((f) =>
      known.has(f),
    );
  };
  return new Map(
    all.map((file) => {
      const named = [...readFileSync(file, 'utf8').matchAll(FROM)].map((m) => m[1] as string);
      return [file, named.flatMap((n) => found(file, n) ?? [])];
    }),
  );
}

/** The first circle that each file is met in. */
function circles(imports: Map<string, string[]>): string[] {
  const done = new Set<string>();
  const found: string[] = [];
  const visit = (file: string, way: string[]): void => {
    if (way.includes(file)) {
      found.push([...way.slice(way.indexOf(file)), file].map((f) => relative(ROOT, f)).join(' → '));
      return;
    }
    if (done.has(file)) return;
    for (const next of imports.get(file) ?? []) visit(next, [...way, file]);
    done.add(file);
  };
  for (const file of imports.keys()) visit(file, []);
  return found;
}

it('no file imports itself, by whatever way', () => {
  const imports = importsOf();
  expect(imports.size).toBeGreaterThan(300);
  expect(circles(imports)).toEqual([]);
  // The search itself finds one.
  expect(
    circles(
      new Map([
        ['a', ['b']],
        ['b', ['c']],
        ['c', ['a']],
      ]),
    ),
  ).toHaveLength(1);
});
