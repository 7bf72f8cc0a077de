import { ledgerWords } from '@quay/core';
import { readdirSync, readFileSync } from 'node:fs';
import { join, resolve } from 'node:path';
import { expect, it } from 'vitest';

const SOURCES = resolve(import.meta.dirname, '..');
const files = readdirSync(SOURCES, { recursive: true, encoding: 'utf8' }).filter((f) => /(?<!\.test)\.ts$/.test(f));

/** Every kind of entry that the server writes, with the details it gives, as its source says. */
const written = files.flatMap((file) =>
  [
    ...readFileSync(join(SOURCES, file), 'utf8').matchAll(
      /kind: '((?:person|folder|file|files|node|version|versions|store|blob|address|reach|share|access|home|office)\.[a-z-]+)'/g,
    ),
  ].map((m) => ({ file, kind: m[1] as string })),
);

it('the server writes entries of many kinds', () =>
  expect(new Set(written.map((w) => w.kind)).size).toBeGreaterThan(25));

it.each([...new Set(written.map((w) => w.kind))].sort())('%s is told in words, and not by its name', (kind) => {
  const words = ledgerWords({ kind, detail: {} });
  expect(words).not.toBe(kind);
  expect(words).toMatch(/^[a-z]/);
});
