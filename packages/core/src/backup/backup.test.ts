import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { backupFindings, TARGET_FULL, type BackupPlaceFacts } from './findings.js';
import { backupsKept } from './kept.js';
import { isBackupDue, isRehearsalDue, lastScheduled, nextScheduled, type BackupSchedule } from './schedule.js';
import { backupChangeWords, keptWords, liesIn, scheduleWords } from './words.js';

const HOUR = 3_600_000;
const DAY = 24 * HOUR;
const ZONES = ['UTC', 'Europe/London', 'America/New_York', 'Asia/Kolkata', 'Australia/Lord_Howe'];
const daily: BackupSchedule = { every: 'day', atMinute: 22 * 60 + 30, weekday: 1 };

const anySchedule = fc.record({
  every: fc.constantFrom('hour' as const, 'day' as const, 'week' as const),
  atMinute: fc.integer({ min: 0, max: 1439 }),
  weekday: fc.integer({ min: 1, max: 7 }),
});
/** Around the days on which clocks are put forward and back, and others. */
const anyMoment = fc
  .integer({ min: Date.parse('2026-03-01T00:00Z') / 60_000, max: Date.parse('2026-12-01T00:00Z') / 60_000 })
  .map((minutes) => minutes * 60_000);

const clocks = new Map(
  ZONES.map((zone) => [
    zone,
    new Intl.DateTimeFormat('en-GB', {
      timeZone: zone,
      ...{ weekday: 'long', hour: '2-digit', minute: '2-digit', hourCycle: 'h23' },
    }),
  ]),
);

/** Whether a wall clock of the zone shows the time that is set: asked of Intl (ECMA-402). */
function isShown({ every, atMinute, weekday }: BackupSchedule, zone: string, at: number): boolean {
  const parts = (clocks.get(zone) as Intl.DateTimeFormat).formatToParts(at);
  const read = (type: string) => parts.find((p) => p.type === type)?.value ?? '';
  const minute = Number(read('hour')) * 60 + Number(read('minute'));
  if (every === 'hour') return minute % 60 === atMinute % 60;
  const days = ['Monday', 'Tuesday', 'Wednesday', 'Thursday', 'Friday', 'Saturday', 'Sunday'];
  return minute === atMinute && (every === 'day' || read('weekday') === days[weekday - 1]);
}

describe('when a backup is due', () => {
  it('is when the wall clock of the office shows it, and never twice within an hour', () => {
    fc.assert(
      fc.property(anySchedule, fc.constantFrom(...ZONES), anyMoment, (schedule, zone, now) => {
        const [last, next] = [lastScheduled(schedule, zone, now), nextScheduled(schedule, zone, now)];
        expect(last).toBeLessThanOrEqual(now);
        expect(next).toBeGreaterThan(now);
        const longest = { hour: 2 * HOUR, day: DAY + HOUR, week: 7 * DAY + HOUR }[schedule.every];
        expect(next - last).toBeLessThanOrEqual(longest);
        // A time that clocks leave out on one day is made up for an hour on; all others are shown.
        const isLeftOut = (at: number) => !isShown(schedule, zone, at);
        for (const at of [last, next]) if (isLeftOut(at)) expect(isShown(schedule, zone, at - HOUR)).toBe(false);
        // No zone changes by less than half an hour.
        for (let at = last + HOUR / 2; at < next; at += HOUR / 2)
          if (isShown(schedule, zone, at)) {
            // Clocks that are put back show it a second time.
            expect(at - last).toBeLessThanOrEqual(HOUR);
          }
      }),
      { numRuns: 300 },
    );
  });
  it('stays at the same time of day when clocks are put forward and back (London, 29 March and 25 October 2026)', () => {
    expect(nextScheduled(daily, 'Europe/London', Date.parse('2026-03-28T23:00Z'))).toBe(
      Date.parse('2026-03-29T21:30Z'),
    );
    expect(nextScheduled(daily, 'Europe/London', Date.parse('2026-10-24T22:00Z'))).toBe(
      Date.parse('2026-10-25T22:30Z'),
    );
    const atNight = { ...daily, atMinute: 90 };
    // 01:30 is left out on 29 March.
    expect(nextScheduled(atNight, 'Europe/London', Date.parse('2026-03-28T12:00Z'))).toBe(
      Date.parse('2026-03-29T01:30Z'),
    );
    expect(lastScheduled(atNight, 'Europe/London', Date.parse('2026-10-25T12:00Z'))).toBe(
      Date.parse('2026-10-25T00:30Z'),
    );
  });
  it('is made up for once after the server was off, and tried again an hour after it failed', () => {
    const now = Date.parse('2026-11-27T12:00Z');
    const due = (triedAt: number | null, worked: boolean) => isBackupDue(daily, 'UTC', { triedAt, worked }, now);
    expect(due(null, true)).toBe(true);
    expect(due(now - 5 * DAY, true)).toBe(true);
    expect(due(now - HOUR, true)).toBe(false);
    expect(due(now - HOUR / 2, false)).toBe(false);
    expect(due(now - HOUR, false)).toBe(true);
    const rehearsed = (triedAt: number | null, worked: boolean) => isRehearsalDue('week', { triedAt, worked }, now);
    expect(rehearsed(null, true)).toBe(true);
    expect(rehearsed(now - 6 * DAY, true)).toBe(false);
    expect(rehearsed(now - 7 * DAY, true)).toBe(true);
    expect(rehearsed(now - DAY, false)).toBe(true);
    expect(isRehearsalDue('never', { triedAt: null, worked: true }, now)).toBe(false);
  });
});

describe('which backups stay', () => {
  it('the newest of each of the newest days, weeks and months', () => {
    // One each night at 22:30 for 400 nights; the newest is of a Thursday.
    const newest = Date.parse('2026-11-26T22:30Z');
    const copies = Array.from({ length: 400 }, (_, n) => newest - n * DAY);
    const stays = [...backupsKept(copies, { days: 3, weeks: 3, months: 3 }, 'UTC')].sort((a, b) => b - a);
    expect(stays.map((at) => new Date(at).toISOString().slice(0, 10))).toEqual([
      ...['2026-11-26', '2026-11-25', '2026-11-24', '2026-11-22', '2026-11-15'],
      ...['2026-10-31', '2026-09-30'],
    ]);
  });
  it('counts only periods that have one, always keeps the newest, and keeps more when asked to keep more', () => {
    const old = [Date.parse('2024-01-01T00:00Z'), Date.parse('2025-01-01T00:00Z')];
    expect(backupsKept(old, { days: 2, weeks: 0, months: 0 }, 'UTC')).toEqual(new Set(old));
    expect(backupsKept(old, { days: 0, weeks: 0, months: 0 }, 'UTC')).toEqual(new Set(old.slice(1)));
    const kept = fc.record({ days: fc.nat(10), weeks: fc.nat(10), months: fc.nat(10) });
    fc.assert(
      fc.property(fc.array(anyMoment), kept, fc.constantFrom(...ZONES), (copies, few, zone) => {
        const stays = backupsKept(copies, few, zone);
        const more = backupsKept(copies, { ...few, days: few.days + 1 }, zone);
        for (const at of stays) expect(more.has(at)).toBe(true);
        expect(stays.size).toBeLessThanOrEqual(few.days + few.weeks + few.months + 1);
        // What stays, stays: the same asked again of what is left.
        expect(backupsKept([...stays], few, zone)).toEqual(stays);
      }),
    );
  });
});

describe('what is said of backups', () => {
  const now = Date.parse('2026-11-27T12:00Z');
  const place: BackupPlaceFacts = {
    ...{ folder: '/mnt/copies', every: 'day', goodAt: now - DAY, since: now - 90 * DAY },
    ...{ fault: null, lacking: 0, rehearsalFault: null },
  };
  const kinds = (change: Partial<BackupPlaceFacts>) =>
    backupFindings([{ ...place, ...change }], now, 'UTC').map((f) => f.kind);
  it('none yet, late, failed, full, lacking, not to be brought back', () => {
    expect(backupFindings([], now, 'UTC').map((f) => f.kind)).toEqual(['none']);
    expect(kinds({})).toEqual([]);
    expect(kinds({ goodAt: now - 2 * DAY })).toEqual(['late']);
    expect(kinds({ goodAt: null, since: now - HOUR })).toEqual([]);
    expect(kinds({ goodAt: null })).toEqual(['late']);
    expect(kinds({ fault: { code: TARGET_FULL, words: '2 GB are needed.' } })).toEqual(['full']);
    expect(kinds({ fault: { code: 'backup.not-mounted', words: 'It is not there.' }, lacking: 2 })).toEqual([
      'failed',
      'lacking',
    ]);
    expect(kinds({ rehearsalFault: 'It is damaged.' })).toEqual(['rehearsal']);
    expect(backupFindings([{ ...place, goodAt: now - 2 * DAY }], now, 'UTC')[0]?.words).toBe(
      'The backup to /mnt/copies is late. The newest is of Wed 25 Nov, 12:00.',
    );
  });
  it('schedules, what is kept, and changes in words', () => {
    expect(scheduleWords(daily)).toBe('every day at 22:30');
    expect(scheduleWords({ every: 'week', atMinute: 5, weekday: 7 })).toBe('every Sunday at 00:05');
    expect(scheduleWords({ every: 'hour', atMinute: 125, weekday: 1 })).toBe('every hour, 5 minutes past');
    expect(keptWords({ days: 7, weeks: 5, months: 1 })).toBe('one each of the newest 7 days, 5 weeks and 1 month');
    expect(keptWords({ days: 0, weeks: 0, months: 0 })).toBe('only the newest');
    const plan = { ...daily, days: 7, weeks: 5, months: 12, folder: '/a', recipients: [] };
    expect(backupChangeWords(plan, plan)).toEqual([]);
    expect(backupChangeWords(plan, { ...plan, recipients: ['age1x'], days: 3, every: 'hour', atMinute: 0 })).toEqual([
      'The next backup copies every file anew, encrypted for those who are named. Earlier ones stay as they are.',
      'From the next backup on, kept is one each of the newest 3 days, 5 weeks and 12 months; what is older is removed.',
      'A backup is made every hour.',
    ]);
    expect(liesIn('/srv/quay/copies', '/srv/quay')).toBe(true);
    expect(liesIn('/srv/quay2', '/srv/quay')).toBe(false);
    expect(liesIn('/srv', '/')).toBe(true);
  });
});
