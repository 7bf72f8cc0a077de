import type { Instant } from '../text/when.js';

const DAY_MS = 86_400_000;
/** The 97.5 % point of the standard normal distribution: two-sided 95 %. */
const Z_95 = 1.959964;

export interface TheilSen {
  slope: number;
  intercept: number;
  /** Bounds of the slope's 95 % confidence interval. */
  low: number;
  high: number;
}

/**
 * The Theil–Sen line: the median of the slopes through all pairs of points, which a fifth of wild values does not move.
 * The interval is Sen's, from the variance of Kendall's S without ties (Sen 1968, J. Am. Stat. Assoc. 63:1379–1389;
 * Hollander and Wolfe, Nonparametric Statistical Methods, §9.3). Null with fewer than two different x.
 */
export function theilSen(points: readonly (readonly [x: number, y: number])[]): TheilSen | null {
  const slopes: number[] = [];
  for (let i = 0; i < points.length; i += 1) {
    for (let j = i + 1; j < points.length; j += 1) {
      const [a, b] = [points[i], points[j]] as [readonly [number, number], readonly [number, number]];
      if (a[0] !== b[0]) slopes.push((b[1] - a[1]) / (b[0] - a[0]));
    }
  }
  if (slopes.length === 0) return null;
  slopes.sort((a, b) => a - b);
  const slope = median(slopes);
  const n = points.length;
  const spread = Z_95 * Math.sqrt((n * (n - 1) * (2 * n + 5)) / 18);
  const at = (rank: number) => slopes[Math.max(0, Math.min(slopes.length - 1, Math.round(rank)))] as number;
  return {
    slope,
    intercept: median(points.map(([x, y]) => y - slope * x).sort((a, b) => a - b)),
    low: at((slopes.length - spread) / 2 - 1),
    high: at((slopes.length + spread) / 2),
  };
}

function median(sorted: readonly number[]): number {
  const half = sorted.length >> 1;
  return sorted.length % 2 ? (sorted[half] as number) : ((sorted[half - 1] as number) + (sorted[half] as number)) / 2;
}

export interface UsageSample {
  at: Instant;
  usedBytes: number;
}

export interface FillForecast {
  bytesPerDay: number;
  /** When the room is full on the present trend; null: not on this trend. */
  fullAt: Instant | null;
  /** The same for the steep and the flat end of the 95 % interval; null: never. */
  earliest: Instant | null;
  latest: Instant | null;
}

/** Fewer daily samples than this say nothing about a trend. */
export const SAMPLES_NEEDED = 7;

/**
 * When a store or disk fills up.
 * @param samples one a day, in any order
 * @param capacityBytes what fits in all, the used bytes included
 * @param now from where the trend is drawn on, starting at the newest sample's bytes
 * @returns null when there are too few samples
 */
export function fillForecast(
  samples: readonly UsageSample[],
  capacityBytes: number,
  now: Instant,
): FillForecast | null {
  if (samples.length < SAMPLES_NEEDED) return null;
  const line = theilSen(samples.map((s) => [s.at / DAY_MS, s.usedBytes] as const));
  if (!line) return null;
  const newest = samples.reduce((a, b) => (b.at > a.at ? b : a));
  const room = capacityBytes - newest.usedBytes;
  const reach = (bytesPerDay: number): Instant | null =>
    room <= 0 ? now : bytesPerDay <= 0 ? null : now + (room / bytesPerDay) * DAY_MS;
  return { bytesPerDay: line.slope, fullAt: reach(line.slope), earliest: reach(line.high), latest: reach(line.low) };
}
