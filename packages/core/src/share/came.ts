import type { Instant } from '../text/when.js';
import { startOfDay } from '../window/window.js';

/** How much one bar of a chart of visits stands for. */
export type BarStep = 'hour' | 'day' | 'week' | 'four weeks';

const HOUR_MS = 3_600_000;
const DAY_MS = 24 * HOUR_MS;
const STEP_DAYS: [step: BarStep, days: number][] = [
  ['day', 1],
  ['week', 7],
  ['four weeks', 28],
];
/** Up to so many hours are told apart; beyond, and up to so many days, days. */
const MOST_HOURS = 72;
const MOST_BARS = 90;

/**
 * The edges of the bars that show visits from one moment to another: hours, or days of the office's calendar, or whole
 * weeks of them, so that there are not too many to be seen.
 * @returns edges in order, the first at or before `from`, the last behind `to`
 */
export function visitEdges(from: Instant, to: Instant, zone: string): { step: BarStep; edges: Instant[] } {
  const end = Math.max(from, to);
  if (end - from < MOST_HOURS * HOUR_MS) {
    const first = Math.floor(from / HOUR_MS) * HOUR_MS;
    const count = Math.floor((end - first) / HOUR_MS) + 2;
    return { step: 'hour', edges: Array.from({ length: count }, (_, i) => first + i * HOUR_MS) };
  }
  const days = (end - from) / DAY_MS + 2;
  const [step, each] = STEP_DAYS.find(([, n]) => days / n <= MOST_BARS) ?? (['four weeks', 28] as const);
  const edges = [startOfDay(from, 0, zone)];
  for (let n = each; (edges.at(-1) as Instant) <= end; n += each) edges.push(startOfDay(from, n, zone));
  return { step, edges };
}
