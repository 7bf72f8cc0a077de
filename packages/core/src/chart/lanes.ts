/** A bar of the window chart: half-open in time. */
export interface Span {
  id: string;
  from: number;
  to: number;
}

/**
 * Puts spans into lanes so that no two in a lane overlap, using the fewest lanes: as many as the largest number of
 * spans that overlap anywhere (interval partitioning; Kleinberg and Tardos, Algorithm Design, §4.1). A span keeps the
 * lane in `previous` where that costs nothing, so that bars do not jump when one of them moves.
 * @returns lane number (from 0) by id
 */
export function assignLanes(
  spans: readonly Span[],
  previous: ReadonlyMap<string, number> = new Map(),
): Map<string, number> {
  const ordered = [...spans].sort((a, b) => a.from - b.from || b.to - a.to || (a.id < b.id ? -1 : 1));
  const laneEnds: number[] = [];
  const lanes = new Map<string, number>();
  const depth = largestOverlap(ordered);
  for (const span of ordered) {
    const wished = previous.get(span.id);
    const fits = (lane: number) => (laneEnds[lane] ?? -Infinity) <= span.from;
    let lane = wished !== undefined && wished < depth && fits(wished) ? wished : 0;
    while (!fits(lane)) lane += 1;
    laneEnds[lane] = span.to;
    lanes.set(span.id, lane);
  }
  return lanes;
}

/** The largest number of spans that overlap at any one moment. Empty spans count as one moment. */
export function largestOverlap(spans: readonly Span[]): number {
  const events = spans
    .flatMap(
      (s) =>
        [
          [s.from, 1],
          [s.to, -1],
        ] as [number, number][],
    )
    .sort((a, b) => a[0] - b[0] || a[1] - b[1]);
  let open = 0;
  let most = 0;
  for (const [, step] of events) most = Math.max(most, (open += step));
  return most;
}
