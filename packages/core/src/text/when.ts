/** A point in time: whole milliseconds since 1970-01-01T00:00:00Z. Core never reads a clock; it is handed one. */
export type Instant = number;

const DAY_MS = 86_400_000;
const formats = new Map<string, Intl.DateTimeFormat>();

function format(zone: string, options: Intl.DateTimeFormatOptions): Intl.DateTimeFormat {
  const key = zone + JSON.stringify(options);
  let made = formats.get(key);
  if (!made) formats.set(key, (made = new Intl.DateTimeFormat('en-GB', { ...options, timeZone: zone })));
  return made;
}

/** "17:00" in the zone. */
export function clockTime(at: Instant, zone: string): string {
  return format(zone, { hour: '2-digit', minute: '2-digit', hour12: false }).format(at);
}

/** "Tue 8 Dec" in the zone; with the year when it is not the year of `now`. */
export function dayInWords(at: Instant, now: Instant, zone: string): string {
  const parts = new Map(
    format(zone, { weekday: 'short', day: 'numeric', month: 'short', year: 'numeric' })
      .formatToParts(at)
      .map((p) => [p.type, p.value]),
  );
  const year = format(zone, { year: 'numeric' }).format(now) === parts.get('year') ? '' : ` ${parts.get('year')}`;
  return `${parts.get('weekday')} ${parts.get('day')} ${shortMonth(parts.get('month') ?? '')}${year}`;
}

/** "Tue 8 Dec, 17:00": how every moment is written in the product. */
export function momentInWords(at: Instant, now: Instant, zone: string): string {
  return `${dayInWords(at, now, zone)}, ${clockTime(at, zone)}`;
}

/** The zone's short name at that moment, for the hover text: "GMT", "BST", "GMT+2". */
export function zoneName(at: Instant, zone: string): string {
  const part = format(zone, { timeZoneName: 'short', hour: '2-digit' })
    .formatToParts(at)
    .find((p) => p.type === 'timeZoneName');
  return part?.value ?? zone;
}

/** "in 3 hours", "2 days ago", "just now": rounded down, for people in a hurry. */
export function distanceInWords(at: Instant, now: Instant): string {
  const ahead = at > now;
  const ms = Math.abs(at - now);
  if (ms < 60_000) return ahead ? 'in a moment' : 'just now';
  const [count, unit] =
    ms < 3_600_000 ? [ms / 60_000, 'minute'] : ms < 2 * DAY_MS ? [ms / 3_600_000, 'hour'] : [ms / DAY_MS, 'day'];
  const whole = Math.floor(count as number);
  const words = `${whole} ${unit as string}${whole === 1 ? '' : 's'}`;
  return ahead ? `in ${words}` : `${words} ago`;
}

// ICU writes "Sept"; the product writes three letters for every month so that columns line up.
function shortMonth(month: string): string {
  return month.slice(0, 3);
}
