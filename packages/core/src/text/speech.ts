import type { Instant } from './when.js';

/** Texts of one language by their keys. A key that depends on a count has one text for each plural: "files#one". */
export type Texts = Readonly<Record<string, string>>;
export type Said = Readonly<Record<string, string | number>>;

/** How a page speaks one language. */
export interface Speech {
  language: string;
  /** A text with its values put in; `count` among them chooses the plural (CLDR, by Intl). */
  say: (key: string, values?: Said) => string;
  /** Whether there is a text of that key. */
  has: (key: string) => boolean;
  /** A size in decimal units, as `formatSize`, with the language's numbers and names of units. */
  size: (bytes: number) => string;
  /** A moment as it is written where that language is: with the year when it is not that of `now`, and the zone. */
  moment: (at: Instant, now: Instant, zone: string) => string;
}

/** Ends a key of which there are several, one for each plural. */
const PLURAL = '#';

/** @param texts what a language lacks is filled in from another before */
export function speechOf(language: string, texts: Texts): Speech {
  const plurals = new Intl.PluralRules(language);
  const numbers = new Intl.NumberFormat(language);
  const textOf = (key: string, count: string | number | undefined): string | undefined =>
    typeof count === 'number'
      ? (texts[`${key}${PLURAL}${plurals.select(count)}`] ?? texts[`${key}${PLURAL}other`] ?? texts[key])
      : texts[key];
  const say: Speech['say'] = (key, values = {}) =>
    (textOf(key, values['count']) ?? key).replaceAll(/\{([a-zA-Z]+)\}/g, (all, name: string) => {
      const value = values[name];
      if (value === undefined) return all;
      return typeof value === 'number' ? numbers.format(value) : value;
    });
  return {
    language,
    say,
    has: (key) => key in texts,
    size: (bytes) => sizeIn(language, (texts['units'] ?? '').split(' '), bytes),
    moment: (at, now, zone) => momentIn(language, at, now, zone),
  };
}

function sizeIn(language: string, units: readonly string[], bytes: number): string {
  let value = bytes;
  let unit = 0;
  // 999.5 rounds to 1000, which must read as the next unit.
  while (unit < units.length - 1 && value >= (unit === 0 ? 1000 : 999.5)) {
    value /= 1000;
    unit += 1;
  }
  const maximumFractionDigits = unit === 0 || value >= 99.95 ? 0 : 1;
  return `${new Intl.NumberFormat(language, { maximumFractionDigits }).format(value)} ${units[unit]}`;
}

function momentIn(language: string, at: Instant, now: Instant, zone: string): string {
  const yearOf = (moment: Instant) => new Intl.DateTimeFormat('en', { year: 'numeric', timeZone: zone }).format(moment);
  return new Intl.DateTimeFormat(language === 'en' ? 'en-GB' : language, {
    weekday: 'short',
    day: 'numeric',
    month: 'short',
    ...(yearOf(at) !== yearOf(now) && { year: 'numeric' }),
    hour: '2-digit',
    minute: '2-digit',
    hour12: false,
    timeZoneName: 'short',
    timeZone: zone,
  }).format(at);
}

/**
 * The first language that somebody reads and that there are texts in.
 * @param accepted what a browser says: Accept-Language (RFC 9110 12.5.4), tried as RFC 4647 3.4 looks up
 * @param available in the order in which they are preferred; the first where none is read
 */
export function languageFor(accepted: string, available: readonly string[]): string {
  const ranges = accepted
    .slice(0, 1000)
    .split(',')
    .map((part, place) => {
      const [range = '', ...parameters] = part.split(';').map((piece) => piece.trim().toLowerCase());
      const quality = parameters.find((p) => p.startsWith('q='));
      return { range, quality: quality === undefined ? 1 : Number(quality.slice(2)), place };
    })
    .filter(({ range, quality }) => range !== '' && quality > 0)
    .sort((a, b) => b.quality - a.quality || a.place - b.place);
  for (const { range } of ranges) {
    const found = lookUp(range, available);
    if (found) return found;
  }
  return available[0] ?? 'en';
}

/** A range with less and less of it, a single letter never last. */
function lookUp(range: string, available: readonly string[]): string | undefined {
  const parts = range.split('-');
  while (parts.length > 0) {
    const found = available.find((each) => each.toLowerCase() === parts.join('-'));
    if (found) return found;
    parts.pop();
    if (parts.at(-1)?.length === 1) parts.pop();
  }
  return undefined;
}
