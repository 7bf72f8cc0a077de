import { useCallback, useState } from 'react';

/** Selection in a list of ids, as on a desktop: click, Ctrl click, Shift click and the arrow keys. */
export interface Selection {
  ids: ReadonlySet<string>;
  /** Index of the row that keys act on; -1 before the first. */
  focus: number;
  click: (index: number, how: { ctrl: boolean; shift: boolean }) => void;
  toggle: (index: number) => void;
  move: (to: number, extend: boolean) => void;
  all: () => void;
  clear: () => void;
}

export function useSelection(order: readonly string[]): Selection {
  const [state, setState] = useState<{ ids: ReadonlySet<string>; focus: number; anchor: number }>({
    ids: new Set(),
    focus: -1,
    anchor: 0,
  });
  const between = useCallback(
    (a: number, b: number) => new Set(order.slice(Math.min(a, b), Math.max(a, b) + 1)),
    [order],
  );
  return {
    // What has gone from the list is not selected any more.
    ids: state.ids,
    focus: Math.min(state.focus, order.length - 1),
    click: (index, { ctrl, shift }) =>
      setState((s) => {
        if (shift) return { ids: between(s.anchor, index), focus: index, anchor: s.anchor };
        if (ctrl) return { ids: toggled(s.ids, order[index]), focus: index, anchor: index };
        return { ids: new Set(order.slice(index, index + 1)), focus: index, anchor: index };
      }),
    toggle: (index) => setState((s) => ({ ids: toggled(s.ids, order[index]), focus: index, anchor: index })),
    move: (to, extend) =>
      setState((s) => {
        const index = Math.max(0, Math.min(order.length - 1, to));
        return extend
          ? { ids: between(s.anchor, index), focus: index, anchor: s.anchor }
          : { ids: new Set(order.slice(index, index + 1)), focus: index, anchor: index };
      }),
    all: () => setState((s) => ({ ...s, ids: new Set(order) })),
    clear: () => setState((s) => ({ ...s, ids: new Set() })),
  };
}

function toggled(ids: ReadonlySet<string>, id: string | undefined): ReadonlySet<string> {
  const next = new Set(ids);
  if (id !== undefined && !next.delete(id)) next.add(id);
  return next;
}
