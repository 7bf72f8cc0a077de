import { shownIn } from '../text/zone.js';
import type { Instant } from '../text/when.js';

/** For how many days, weeks and months one copy each is kept. */
export interface BackupsKept {
  days: number;
  weeks: number;
  months: number;
}

const DAY = 86_400_000;

const PERIODS: [keyof BackupsKept, (shown: number) => number][] = [
  ['days', (shown) => Math.floor(shown / DAY)],
  // Weeks begin on Monday (ISO 8601); 1970-01-01 was a Thursday.
  ['weeks', (shown) => Math.floor((Math.floor(shown / DAY) + 3) / 7)],
  ['months', (shown) => new Date(shown).getUTCFullYear() * 12 + new Date(shown).getUTCMonth()],
];

/**
 * Which copies stay: of each of the newest days, weeks and months that have any, the newest one; and the newest of all.
 * Periods without a copy do not count, so that a server that was off for a month loses nothing.
 * @param zone whose days they are
 */
export function backupsKept(copies: readonly Instant[], kept: BackupsKept, zone: string): Set<Instant> {
  const newestFirst = [...copies].sort((a, b) => b - a);
  const stays = new Set(newestFirst.slice(0, 1));
  for (const [name, periodOf] of PERIODS) {
    const seen = new Set<number>();
    for (const copy of newestFirst) {
      const period = periodOf(shownIn(zone, copy));
      if (seen.has(period)) continue;
      if (seen.size === kept[name]) break;
      seen.add(period);
      stays.add(copy);
    }
  }
  return stays;
}
