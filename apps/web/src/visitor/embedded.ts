import { HEIGHT_MESSAGE, type Embed } from '@quay/core';

// The page of an intake within a page of somebody else's, where browsers keep no cookie of it.

const PATH = /\/embed\/?$/;
export const isEmbedded = PATH.test(location.pathname);

/** Everything below the link: /h/TOKEN. */
export const base = location.pathname.replace(PATH, '').replace(/\/$/, '');

const KEY = `deposit ${base}`;
let key: string | null = kept();

function kept(): string | null {
  // A browser may refuse pages within others any store of their own: then it is known until the page goes.
  try {
    return isEmbedded ? sessionStorage.getItem(KEY) : null;
  } catch {
    return null;
  }
}

/** Keeps what this page is known by from now on. */
export function keepKey(given: string): void {
  key = given;
  try {
    sessionStorage.setItem(KEY, given);
  } catch {
    // It is known until the page goes.
  }
}

/** What every request says of itself. */
export const ownHeaders = (): Record<string, string> => (key === null ? {} : { 'Quay-Deposit': key });

let told = '';

/** Shows itself in the colours that it was given, and tells the page around it how high it is. */
export function settleIn({ origins, colours }: Embed): void {
  const { style } = document.documentElement;
  const { ink, paper, accent } = colours ?? {};
  const values = { ink, paper, sheet: paper, stone: paper, tide: accent, quiet: ink, 'on-tide': paper };
  for (const [name, value] of Object.entries(values)) if (value) style.setProperty(`--${name}`, value);
  if (colours) style.setProperty('color-scheme', 'only light');
  if (told !== '') return;
  told = parentOf(origins);
  if (told === '') return;
  const tell = () =>
    parent.postMessage({ kind: HEIGHT_MESSAGE, px: Math.ceil(document.body.getBoundingClientRect().height) }, told);
  new ResizeObserver(tell).observe(document.body);
}

/** The page around this one, if it is one of those that are named; empty: it is none, and is told nothing. */
function parentOf(origins: readonly string[]): string {
  const around = document.referrer === '' ? (location.ancestorOrigins?.[0] ?? '') : new URL(document.referrer).origin;
  return origins.includes(around) ? around : '';
}
