import { shownIn, whenShown } from '../text/zone.js';
import type { Instant } from '../text/when.js';

/** How often a backup is made: every hour at a minute, every day or one day of the week at a time of the office's clock. */
export interface BackupSchedule {
  every: 'hour' | 'day' | 'week';
  /** Minutes after midnight; of it, only the minute counts for every hour. */
  atMinute: number;
  /** 1 is Monday, 7 Sunday; counts for every week only. */
  weekday: number;
}

const MINUTE = 60_000;
const HOUR = 60 * MINUTE;
const DAY = 24 * HOUR;

/** Days since 1970-01-01, a Thursday; 1 is Monday. */
const weekdayOf = (shown: number): number => ((Math.floor(shown / DAY) + 3) % 7) + 1;

/** The newest moment at or before `now` at which a backup is to begin. */
export function lastScheduled(schedule: BackupSchedule, zone: string, now: Instant): Instant {
  return scheduled(schedule, zone, now, 0);
}

/** The first moment after `now` at which a backup is to begin. */
export function nextScheduled(schedule: BackupSchedule, zone: string, now: Instant): Instant {
  return scheduled(schedule, zone, now, 1);
}

function scheduled({ every, atMinute, weekday }: BackupSchedule, zone: string, now: Instant, ahead: 0 | 1): Instant {
  const shown = shownIn(zone, now);
  const step = every === 'hour' ? HOUR : every === 'day' ? DAY : 7 * DAY;
  const day = Math.floor(shown / DAY) * DAY;
  const start =
    every === 'hour'
      ? Math.floor(shown / HOUR) * HOUR + (atMinute % 60) * MINUTE
      : day + atMinute * MINUTE + (every === 'week' ? (weekday - weekdayOf(shown)) * DAY : 0);
  // Around the moment, because a clock that is put forward or back shows some times twice and others never.
  const moments = [-2, -1, 0, 1, 2].map((n) => whenShown(zone, start + n * step));
  const due = moments.filter((at) => (ahead ? at > now : at <= now));
  return ahead ? Math.min(...due) : Math.max(...due);
}

/** After one that failed it is tried again so much later, or when the next is due if that is sooner. */
const AGAIN_AFTER = HOUR;

export interface BackupPast {
  /** When the newest attempt began; null: none yet. */
  triedAt: Instant | null;
  /** Whether that one worked. */
  worked: boolean;
}

/** Whether a backup is to begin now. What was due while the server was off is made up for, once. */
export function isBackupDue(schedule: BackupSchedule, zone: string, past: BackupPast, now: Instant): boolean {
  if (past.triedAt === null || past.triedAt < lastScheduled(schedule, zone, now)) return true;
  return !past.worked && now - past.triedAt >= AGAIN_AFTER;
}

/** A copy that is older than this is late: what is due may have to wait, and be tried again (common practice, no source). */
const LATE_AFTER: Record<BackupSchedule['every'], number> = { hour: 3 * HOUR, day: 36 * HOUR, week: 8 * DAY };

/** Whether the newest good copy is older than it should be. */
export const isBackupLate = (every: BackupSchedule['every'], goodAt: Instant, now: Instant): boolean =>
  now - goodAt > LATE_AFTER[every];

const REHEARSED = { never: null, week: 7 * DAY, month: 30 * DAY } as const;
export type RehearsalEvery = keyof typeof REHEARSED;

/** Whether bringing a copy back is to be rehearsed now. One that failed is tried again the day after. */
export function isRehearsalDue(every: RehearsalEvery, past: BackupPast, now: Instant): boolean {
  const period = REHEARSED[every];
  if (period === null) return false;
  if (past.triedAt === null) return true;
  return now - past.triedAt >= (past.worked ? period : Math.min(period, DAY));
}
