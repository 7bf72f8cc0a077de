const UNITS = ['B', 'kB', 'MB', 'GB', 'TB', 'PB'] as const;

/**
 * A size in words: decimal units (IEC 80000-13: k = 1000), two or three significant digits ("48.2 MB", "612 MB").
 * @param sizeBytes a whole number of bytes, 0 or more
 */
export function formatSize(sizeBytes: number): string {
  let value = sizeBytes;
  let unit = 0;
  // 999.5 rounds to 1000, which must read as the next unit.
  while (unit < UNITS.length - 1 && value >= (unit === 0 ? 1000 : 999.5)) {
    value /= 1000;
    unit += 1;
  }
  const digits = unit === 0 || value >= 99.95 ? 0 : 1;
  return `${value.toFixed(digits).replace(/\.0$/, '')} ${UNITS[unit]}`;
}

/** The exact number of bytes, grouped for reading: "48,213,004 bytes". */
export function formatExactBytes(sizeBytes: number): string {
  return `${sizeBytes.toLocaleString('en-GB')} ${sizeBytes === 1 ? 'byte' : 'bytes'}`;
}

/** "1 item", "3 items": a count with its noun. */
export function countOf(count: number, singular: string, plural = `${singular}s`): string {
  return `${count.toLocaleString('en-GB')} ${count === 1 ? singular : plural}`;
}
