import type { NodeItem } from '@quay/contract';
import type { Selection } from './selection';

/** Rows that Page up and Page down go by. */
const PAGE = 15;

/**
 * The keys that move through a folder.
 * @param across items side by side: 1 in a table
 */
export function movingKeys(
  selection: Selection,
  items: NodeItem[],
  across: number,
  show: { open: (item: NodeItem) => void; view: (item: NodeItem) => void },
): Record<string, () => void> {
  const { focus, move } = selection;
  const focused = items[focus];
  const sideways = {
    arrowright: () => move(focus + 1, false),
    arrowleft: () => move(focus - 1, false),
  };
  return {
    arrowdown: () => move(focus < 0 ? 0 : focus + across, false),
    arrowup: () => move(focus - across, false),
    ...(across > 1 && sideways),
    'shift+arrowdown': () => move(focus + across, true),
    'shift+arrowup': () => move(focus - across, true),
    home: () => move(0, false),
    end: () => move(items.length - 1, false),
    pagedown: () => move(focus + PAGE * across, false),
    pageup: () => move(focus - PAGE * across, false),
    'ctrl+a': selection.all,
    escape: selection.clear,
    enter: () => focused && show.open(focused),
    space: () => focused?.kind === 'file' && show.view(focused),
  };
}
