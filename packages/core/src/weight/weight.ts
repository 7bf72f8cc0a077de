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
  /** The part in which that folder lies; null where what was asked about begins. */
  within: string | null;
  /** All that is in the folder, the parts that lie in it included, whoever asks. */
  whole: Weight;
  /** What somebody sees here: everything, what they brought themselves alone, or nothing. */
  sees: 'all' | 'own' | 'nothing';
}

/**
 * What a folder weighs to somebody: as if they walked down through what they see and counted. What lies beyond a part that
 * they do not see is not counted either, since no way leads there from the folder.
 * @param topId the part of the folder that is asked about
 * @param parts it and all that lie in it, in any order
 * @returns the weight of what they see all of, and the parts in which what they brought has still to be counted
 * @throws Error when the part of the folder is not among them
 */
export function weightSeen(topId: string, parts: readonly WeightPart[]): { weight: Weight; ownIn: string[] } {
  const byId = new Map(parts.map((part) => [part.id, part]));
  const inside = new Map<string, WeightPart[]>();
  for (const part of parts)
    if (part.within !== null) inside.set(part.within, [...(inside.get(part.within) ?? []), part]);
  const weight: Weight = { files: 0, bytes: 0 };
  const ownIn: string[] = [];
  const add = (part: WeightPart, sign: 1 | -1) => {
    weight.files += sign * part.whole.files;
    weight.bytes += sign * part.whole.bytes;
  };
  const first = byId.get(topId);
  if (!first) throw new Error(`the part ${topId} is not among those that were given`);
  for (const todo = [first]; todo.length > 0;) {
    const part = todo.pop() as WeightPart;
    if (part.sees === 'nothing') continue;
    const below = inside.get(part.id) ?? [];
    if (part.sees === 'all') {
      add(part, 1);
      for (const lower of below) add(lower, -1);
    } else ownIn.push(part.id);
    todo.push(...below);
  }
  return { weight, ownIn };
}
