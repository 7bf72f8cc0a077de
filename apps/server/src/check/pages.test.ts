import { APP_PAGES } from '@quay/contract';
import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { expect, it } from 'vitest';

it('the server has the document for every page of the browser, and for no other', () => {
  const source = readFileSync(join(import.meta.dirname, '../../../web/src/main.tsx'), 'utf8');
  const shown = [...source.matchAll(/path="(\/[^"]*)"/g)].map(([, path]) => path as string);
  expect(shown.length).toBeGreaterThan(15);
  const answers = (page: string, path: string) =>
    page === path || (page.endsWith('/*rest') && path.startsWith(page.slice(0, -'*rest'.length)));
  expect(shown.filter((path) => !APP_PAGES.some((page) => answers(page, path)))).toEqual([]);
  // The root leads to where somebody begins.
  expect(APP_PAGES.filter((page) => page !== '/' && !shown.some((path) => answers(page, path)))).toEqual([]);
});
