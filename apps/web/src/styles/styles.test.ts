import { existsSync, readdirSync, readFileSync } from 'node:fs';
import { basename, dirname, join, relative } from 'node:path';
import { compile } from 'sass';
import { describe, expect, it } from 'vitest';

const SOURCE = join(import.meta.dirname, '..');
const SHARED = ['theme.scss', 'common.scss', '_narrow.scss'];

const sheets = readdirSync(SOURCE, { recursive: true, encoding: 'utf8' })
  .filter((file) => file.endsWith('.scss') && !SHARED.includes(basename(file)))
  .map((file) => join(SOURCE, file));

const css = (file: string): string => compile(file, { loadPaths: [import.meta.dirname] }).css;

/** The first class of each selector: what a rule is about. Selectors in compiled CSS end at a brace or a comma. */
const subjects = (text: string): Set<string> =>
  new Set(
    [...text.matchAll(/^\s*([^@/}\s][^{}]*?)\s*\{/gm)]
      .flatMap(([, selectors = '']) => selectors.split(/,(?![^(]*\))/))
      .filter((selector) => !/^\s*(to|from|\d+%)\s*$/.test(selector))
      .map((selector) => /\.([\w-]+)/.exec(selector)?.[1] ?? selector.trim()),
  );

describe('stylesheets', () => {
  it('lie beside the component that asks for them', () => {
    expect(sheets.length).toBeGreaterThan(30);
    for (const sheet of sheets) {
      const component = sheet.replace(/\.scss$/, '.tsx');
      expect(existsSync(component), relative(SOURCE, sheet)).toBe(true);
      expect(readFileSync(component, 'utf8')).toContain(`import './${basename(sheet)}';`);
    }
  });
  it('say how something looks in one of them only, so that it does not matter which one comes first', () => {
    const owners = new Map<string, string[]>();
    for (const sheet of [...sheets, join(import.meta.dirname, 'common.scss')])
      for (const subject of subjects(css(sheet)))
        owners.set(subject, [...(owners.get(subject) ?? []), relative(SOURCE, sheet)]);
    expect([...owners].filter(([, files]) => files.length > 1)).toEqual([]);
    expect(owners.get('matrix')).toEqual([join('places', 'reach', 'components', 'matrix.scss')]);
  });
  it('override nothing by force', () => {
    for (const sheet of sheets) expect(readFileSync(sheet, 'utf8'), dirname(sheet)).not.toContain('!important');
  });
});
