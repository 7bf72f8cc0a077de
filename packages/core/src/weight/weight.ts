/** Files, and what their present versions take in bytes. */
export interface Weight {
  files: number;
  bytes: number;
}

/**
 * A part of a tree of folders in which somebody's access is the same everywhere: a folder with all below it, up to the
 * folders at which other such parts begin.
 */
export interface WeightPart {
  /** The folder at which it begins. */
  id: string;
  /** The part in which that folder lies; null where none of those that are known is above it. */
  within: string | null;
  /** All that is in the folder, the parts that lie in it included, whoever asks. */
  whole: Weight;
  /** What somebody sees here: everything, what they brought themselves alone, or nothing. */
  sees: 'all' | 'own' | 'nothing';
}

/**
 * What folders weigh to somebody: as if they walked down from each through what they see and counted. What lies beyond
 * a part that they do not see is not counted either, since no way leads there from the folder.
 * @param parts in any order
 * @param own what they brought to parts in which they see that alone, without the parts that lie in those
 * @returns the weight of the folder of each part
 */
export function weightsSeen(
  parts: readonly WeightPart[],
  own: ReadonlyMap<string, Weight> = new Map(),
): Map<string, Weight> {
  const inside = new Map<string | null, WeightPart[]>();
  for (const part of parts) {
    const beside = inside.get(part.within);
    if (beside) beside.push(part);
    else inside.set(part.within, [part]);
  }
  const weights = new Map<string, Weight>();
  // From above to below, and then back up, so that what is in a part is known before it.
  const order = [...(inside.get(null) ?? [])];
  for (const part of order) order.push(...(inside.get(part.id) ?? []));
  for (const part of order.reverse()) {
    const below = inside.get(part.id) ?? [];
    const weight = { files: 0, bytes: 0 };
    const add = ({ files, bytes }: Weight, sign: 1 | -1) => {
      weight.files += sign * files;
      weight.bytes += sign * bytes;
    };
    if (part.sees === 'all') add(part.whole, 1);
    if (part.sees === 'own') add(own.get(part.id) ?? { files: 0, bytes: 0 }, 1);
    if (part.sees !== 'nothing')
      for (const lower of below) {
        if (part.sees === 'all') add(lower.whole, -1);
        add(weights.get(lower.id) as Weight, 1);
      }
    weights.set(part.id, weight);
  }
  return weights;
}
