import { Temporal } from 'temporal-polyfill';
import type { Instant } from '../text/when.js';

/** When a share or intake is open. Half-open: open at `opensAt`, closed at `closesAt`; either may be absent. */
export interface Window {
  opensAt: Instant | null;
  closesAt: Instant | null;
}

export type WindowPhase = 'scheduled' | 'open' | 'closed';

/** Where in its window a moment lies. */
export function windowPhase(window: Window, at: Instant): WindowPhase {
  if (window.closesAt !== null && at >= window.closesAt) return 'closed';
  if (window.opensAt !== null && at < window.opensAt) return 'scheduled';
  return 'open';
}

/** The furthest a window may reach: ten years. Anything later is a slip of the hand (common practice, no source). */
export const LONGEST_WINDOW_YEARS = 10;

export type WindowFault = 'window.closes-before-opens' | 'window.closes-in-the-past' | 'window.too-far';

/** What is wrong with a window that somebody asks for at `now`; null when nothing is. */
export function windowFault(window: Window, now: Instant): WindowFault | null {
  const { opensAt, closesAt } = window;
  if (opensAt !== null && closesAt !== null && closesAt <= opensAt) return 'window.closes-before-opens';
  if (closesAt !== null && closesAt <= now) return 'window.closes-in-the-past';
  const limit = now + LONGEST_WINDOW_YEARS * 366 * 86_400_000;
  if ((opensAt ?? 0) > limit || (closesAt ?? 0) > limit) return 'window.too-far';
  return null;
}

/** What each fault is told as. */
export const WINDOW_FAULT_WORDS: Record<WindowFault, string> = {
  'window.closes-before-opens': 'The window would close before it opens.',
  'window.closes-in-the-past': 'That moment has passed. Choose a later one.',
  'window.too-far': 'That is more than ten years ahead. Choose an earlier moment.',
};

export const WINDOW_PRESETS = ['1-day', '3-days', '1-week', 'end-of-week', '30-days'] as const;
export type WindowPreset = (typeof WINDOW_PRESETS)[number];

export const PRESET_WORDS: Record<WindowPreset, string> = {
  '1-day': '1 day',
  '3-days': '3 days',
  '1-week': '1 week',
  'end-of-week': 'End of this week',
  '30-days': '30 days',
};

/** The working day's end, when "end of this week" closes (common practice, no source). */
const END_OF_DAY = { hour: 17, minute: 0 };

/**
 * The closing time that a preset means, counted from `from` on the calendar of the office's zone: a week across a clock
 * change is still the same wall time (a wall time that the change skips moves on by the gap, as RFC 5545 §3.3.5 asks).
 * Seconds are dropped, so that a window closes on the minute that is shown. "End of this week" is Friday 17:00; from
 * Friday 16:00 on it is the next week's.
 */
export function presetCloses(preset: WindowPreset, from: Instant, zone: string): Instant {
  const start = Temporal.Instant.fromEpochMilliseconds(from)
    .toZonedDateTimeISO(zone)
    .with({ second: 0, millisecond: 0 });
  switch (preset) {
    case '1-day':
      return start.add({ days: 1 }).epochMilliseconds;
    case '3-days':
      return start.add({ days: 3 }).epochMilliseconds;
    case '1-week':
      return start.add({ weeks: 1 }).epochMilliseconds;
    case '30-days':
      return start.add({ days: 30 }).epochMilliseconds;
    case 'end-of-week': {
      const friday = start.add({ days: (5 - start.dayOfWeek + 7) % 7 }).with(END_OF_DAY);
      const tooSoon = friday.epochMilliseconds - start.epochMilliseconds <= 3_600_000;
      return (tooSoon ? friday.add({ weeks: 1 }) : friday).epochMilliseconds;
    }
  }
}

/** The same wall time, that many days on, in the office's zone: what "Extend a week" does. */
export function extendedBy(closesAt: Instant, days: number, zone: string): Instant {
  return Temporal.Instant.fromEpochMilliseconds(closesAt).toZonedDateTimeISO(zone).add({ days }).epochMilliseconds;
}

/** An instant as the value of a datetime-local field in the zone ("2026-12-01T17:00"). */
export function toLocalField(at: Instant, zone: string): string {
  return Temporal.Instant.fromEpochMilliseconds(at)
    .toZonedDateTimeISO(zone)
    .toPlainDateTime()
    .toString({ smallestUnit: 'minute' });
}

/** The instant that a datetime-local field means in the zone; null when the field is not a date and time. */
export function fromLocalField(field: string, zone: string): Instant | null {
  try {
    return Temporal.PlainDateTime.from(field).toZonedDateTime(zone, { disambiguation: 'compatible' }).epochMilliseconds;
  } catch {
    return null;
  }
}

/** Midnight starting the calendar day of `at`, plus `days`, in the zone: the grid of the window chart. */
export function startOfDay(at: Instant, days: number, zone: string): Instant {
  return Temporal.Instant.fromEpochMilliseconds(at).toZonedDateTimeISO(zone).startOfDay().add({ days }).startOfDay()
    .epochMilliseconds;
}

/** ISO day of the week (1 = Monday) of an instant in the zone. */
export function dayOfWeek(at: Instant, zone: string): number {
  return Temporal.Instant.fromEpochMilliseconds(at).toZonedDateTimeISO(zone).dayOfWeek;
}

/** A moment as it is kept for later use: so many calendar days on, at a time of day ("17:00"), in the office's zone. */
export interface MomentLater {
  days: number;
  at: string;
}

export function momentLaterOf(moment: Instant, now: Instant, zone: string): MomentLater {
  const local = (at: Instant) => Temporal.Instant.fromEpochMilliseconds(at).toZonedDateTimeISO(zone);
  const days = local(now).toPlainDate().until(local(moment).toPlainDate(), { largestUnit: 'days' }).days;
  return { days, at: local(moment).toPlainTime().toString({ smallestUnit: 'minute' }) };
}

/** When that is, counted from a moment. */
export function momentLater({ days, at }: MomentLater, now: Instant, zone: string): Instant {
  const day = Temporal.Instant.fromEpochMilliseconds(now).toZonedDateTimeISO(zone).toPlainDate().add({ days });
  return day.toZonedDateTime({ timeZone: zone, plainTime: Temporal.PlainTime.from(at) }).epochMilliseconds;
}

/**
 * A window as it was, as many whole days on as it takes for it to begin now or later: the same times of day.
 * @param madeAt when it began, where it says nothing of that; it then begins at once
 */
export function movedOn({ opensAt, closesAt }: Window, madeAt: Instant, now: Instant, zone: string): Window {
  const began = opensAt ?? madeAt;
  let days = Math.max(0, Math.floor((now - began) / 86_400_000));
  while (extendedBy(began, days, zone) < now) days += 1;
  return {
    opensAt: opensAt === null ? null : extendedBy(opensAt, days, zone),
    closesAt: closesAt === null ? null : extendedBy(closesAt, days, zone),
  };
}
