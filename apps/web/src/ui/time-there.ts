/** "Thu 26 Nov, 15:04": what a clock on the wall of a zone shows now; '' for no zone. */
export function timeThere(zone: string, at = new Date()): string {
  try {
    return new Intl.DateTimeFormat('en-GB', {
      timeZone: zone,
      weekday: 'short',
      day: 'numeric',
      month: 'short',
      hour: '2-digit',
      minute: '2-digit',
    })
      .format(at)
      .replace(/^(\w+),/, '$1');
  } catch {
    return '';
  }
}
