import { diffLines } from 'diff';

export interface DifferenceLine {
  kind: 'same' | 'added' | 'removed' | 'gap';
  text: string;
}

/** Lines of the same text that are shown around a change. */
const CONTEXT = 3;
/** Texts longer than this are not compared line by line. */
export const DIFFERENCE_MOST_BYTES = 1_000_000;

/**
 * Two texts line by line, in the manner of a unified difference (Myers' algorithm, by the package "diff"): long
 * stretches without a change become one gap that says how many lines it leaves out.
 */
export function textDifference(
  before: string,
  after: string,
): { lines: DifferenceLine[]; added: number; removed: number } {
  const parts = diffLines(before.replace(/\r\n/g, '\n'), after.replace(/\r\n/g, '\n'));
  const lines: DifferenceLine[] = [];
  let [added, removed] = [0, 0];
  parts.forEach((part, index) => {
    const texts = part.value.replace(/\n$/, '').split('\n');
    if (part.added) added += texts.length;
    if (part.removed) removed += texts.length;
    const kind = part.added ? 'added' : part.removed ? 'removed' : 'same';
    const head = index === 0 ? 0 : CONTEXT;
    const tail = index === parts.length - 1 ? 0 : CONTEXT;
    if (kind !== 'same' || texts.length <= head + tail + 1)
      lines.push(...texts.map((text) => ({ kind, text }) as const));
    else {
      lines.push(...texts.slice(0, head).map((text) => ({ kind, text }) as const));
      lines.push({ kind: 'gap', text: `${(texts.length - head - tail).toLocaleString('en-GB')} lines the same` });
      lines.push(...texts.slice(texts.length - tail).map((text) => ({ kind, text }) as const));
    }
  });
  return { lines, added, removed };
}
