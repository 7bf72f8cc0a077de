import type { Instant } from './when.js';

const formats = new Map<string, Intl.DateTimeFormat>();

function formatOf(zone: string): Intl.DateTimeFormat {
  let made = formats.get(zone);
  if (!made) {
    const fields = { year: 'numeric', month: 'numeric', day: 'numeric', hour: 'numeric', minute: 'numeric' } as const;
    made = new Intl.DateTimeFormat('en-GB', { timeZone: zone, hourCycle: 'h23', ...fields });
    formats.set(zone, made);
  }
  return made;
}

/**
 * What clock and calendar of a zone show at a moment, as if it were UTC: for questions about days and hours there.
 * @returns milliseconds, whole minutes
 */
export function shownIn(zone: string, at: Instant): number {
  const parts = formatOf(zone).formatToParts(at);
  const read = (type: string) => Number(parts.find((p) => p.type === type)?.value);
  return Date.UTC(read('year'), read('month') - 1, read('day'), read('hour'), read('minute'));
}

/** Minutes that a zone's clock is ahead of UTC at a moment. */
export const minutesAhead = (zone: string, at: Instant): number =>
  Math.round((shownIn(zone, at) - Math.floor(at / 60_000) * 60_000) / 60_000);

/**
 * The moment at which a zone's clock shows something, given as if it were UTC. What it shows twice is the first time;
 * what it never shows (clocks go forward) is the moment an hour on.
 */
export function whenShown(zone: string, shown: number): Instant {
  const DAY = 86_400_000;
  // The clock's distance from UTC is that of the day before or after, whichever fits.
  const candidates = [shown - DAY, shown + DAY].map((near) => shown - minutesAhead(zone, near) * 60_000);
  const fitting = candidates.filter((at) => shownIn(zone, at) === shown);
  return fitting.length > 0 ? Math.min(...fitting) : Math.max(...candidates);
}
