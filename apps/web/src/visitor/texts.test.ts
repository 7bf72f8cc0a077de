import { CONTENT_KINDS } from '@quay/core';
import { readdirSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { describe, expect, it } from 'vitest';

const folder = join(import.meta.dirname, '../../public/texts');
const read = (name: string) => JSON.parse(readFileSync(join(folder, name), 'utf8')) as Record<string, string>;
const names = readdirSync(folder);
const english = read('en.json');
/** Keys without their plurals, which are the language's own. */
const kinds = (texts: Record<string, string>) =>
  [...new Set(Object.keys(texts).map((key) => key.split('#')[0]))].sort();
const placeholders = (text: string) => [...text.matchAll(/\{(\w+)\}/g)].map(([, name]) => name).sort();
const source = readdirSync(import.meta.dirname)
  .filter((name) => name.endsWith('.ts') && !name.endsWith('.test.ts'))
  .map((name) => readFileSync(join(import.meta.dirname, name), 'utf8'))
  .join('\n');

describe('the texts of the visitor page', () => {
  it('are there in English, German, French and Spanish', () =>
    expect(names.sort()).toEqual(['de.json', 'en.json', 'es.json', 'fr.json']));

  it.each(names)('in %s say the same, with the same values', (name) => {
    const texts = read(name);
    const ours = kinds(texts).filter((key) => !key?.startsWith('problem.'));
    expect(ours).toEqual(kinds(english));
    for (const [key, text] of Object.entries(texts)) {
      const same = english[key] ?? english[`${key.split('#')[0]}#other`];
      if (same !== undefined) expect(placeholders(text), key).toEqual(placeholders(same));
      expect(text.trim(), key).not.toBe('');
    }
  });

  it('tell of the same problems in each language; in English the server does', () => {
    const problems = (name: string) => kinds(read(name)).filter((key) => key?.startsWith('problem.'));
    expect(problems('en.json')).toEqual([]);
    for (const name of ['fr.json', 'es.json']) expect(problems(name)).toEqual(problems('de.json'));
  });

  it('are all used, and none is used that is not there', () => {
    const used = [...source.matchAll(/say\(\s*'([\w.-]+)'/g)].map(([, key]) => key as string);
    for (const key of used) expect(kinds(english), key).toContain(key);
    const server = readFileSync(join(import.meta.dirname, '../../../server/src/visits/plain-page.ts'), 'utf8');
    const page = readFileSync(join(import.meta.dirname, '../../../server/src/visits/page-texts.ts'), 'utf8');
    const plain = readFileSync(join(import.meta.dirname, '../../../server/src/intakes/plain-intake-page.ts'), 'utf8');
    const parts = readFileSync(join(import.meta.dirname, '../../../server/src/visits/plain-parts.ts'), 'utf8');
    const receipt = readFileSync(join(import.meta.dirname, '../../../server/src/intakes/receipt-page.ts'), 'utf8');
    const ofReceipts = ['waiting', 'accepted', 'partly', 'refused'].map((s) => `receipt.${s}`);
    const ofIntakes = [
      ...['scheduled', 'closed', 'withdrawn', 'broken'].map((s) => `intake.${s}`),
      ...CONTENT_KINDS.map((kind) => `intake.kind.${kind}`),
    ];
    const states = ['scheduled', 'closed', 'usedUp', 'withdrawn', 'broken'].flatMap((s) => [s, `${s}.title`]);
    for (const key of kinds(english))
      expect(
        [...states, ...ofReceipts, ...ofIntakes, 'units'].includes(key as string) ||
          `${source}${server}${page}${plain}${parts}${receipt}`.includes(`'${key}'`),
        key,
      ).toBe(true);
  });
});
