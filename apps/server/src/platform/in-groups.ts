/** How things are worked through. */
export interface Groups {
  /** So many are worked at together. */
  size: number;
  /** So many groups side by side. */
  lanes: number;
  /** No group is begun later than so many milliseconds after the first. */
  beganWithinMs: number;
}

/**
 * Works through things in their order, group by group.
 * @returns what was left when the time was up
 */
export async function inGroups<T>(
  all: readonly T[],
  { size, lanes, beganWithinMs }: Groups,
  work: (group: T[]) => Promise<void>,
): Promise<T[]> {
  const left = [...all];
  const until = performance.now() + beganWithinMs;
  const lane = async () => {
    while (left.length > 0 && performance.now() < until) await work(left.splice(0, size));
  };
  await Promise.all(Array.from({ length: lanes }, lane));
  return left;
}
