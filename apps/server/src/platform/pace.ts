/** How slow somebody may be before their request ends: whoever holds a connection without using it keeps others out. */
export interface Pace {
  /** A stream that brings or takes less than `leastBytes` in each stretch of this length ends. */
  stretchMs: number;
  leastBytes: number;
  /** A request with a small body (JSON) has arrived whole after this long. */
  bodyMs: number;
}

/** Half a kilobyte a second: far below any line that files are sent over (common practice, no source). */
export const PACE: Pace = { stretchMs: 30_000, leastBytes: 16 * 1024, bodyMs: 30_000 };

/** Watches a stream: call `stop` at its end. Time in which the stream was made to wait by us does not count. */
export function watchPace(pace: Pace, bytesSoFar: () => number, held: () => boolean, tooSlow: () => void): () => void {
  let before = bytesSoFar();
  const timer = setInterval(() => {
    const now = bytesSoFar();
    if (!held() && now - before < pace.leastBytes) tooSlow();
    before = now;
  }, pace.stretchMs);
  timer.unref();
  return () => clearInterval(timer);
}
