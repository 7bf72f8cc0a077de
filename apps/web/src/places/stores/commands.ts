import type { NodeItem } from '@quay/contract';
import type { Act } from '@quay/core';
import type { MenuEntry } from './menu';

/** What is asked before something is done to items. */
export type Dialog =
  | { kind: 'new-folder' }
  | { kind: 'rename'; item: NodeItem }
  | { kind: 'tags'; items: NodeItem[] }
  | { kind: 'choose'; items: NodeItem[]; how: 'move' | 'copy' };

/** What commands do; each pane does it for its own folder. */
export interface Doing {
  open: (item: NodeItem) => void;
  download: (items: NodeItem[]) => void;
  ontoSlip: (items: NodeItem[]) => void;
  ask: (dialog: Dialog) => void;
  toClipboard: (items: NodeItem[], how: 'move' | 'copy') => void;
  pin: (items: NodeItem[], on: boolean) => void;
  details: () => void;
  trash: (items: NodeItem[]) => void;
}

/** Something that can be done to the chosen items: by key, in the menu, in the bar and in the command box. */
export interface ItemCommand {
  words: string;
  /** Stands together with others of its group. */
  group: 'look' | 'move' | 'mark' | 'trash';
  /** The key press, as `keyName` of ui/keys calls it. */
  press?: string;
  /** The key as it is shown. */
  key?: string;
  /** In the bar, by this shorter word. */
  bar?: string;
  bad?: boolean;
  run: () => void;
}

/** The one table of what can be done to the chosen items by whoever may do it, in the order of the menu. */
export function commandsFor(chosen: NodeItem[], may: (act: Act) => boolean, doing: Doing): ItemCommand[] {
  if (chosen.length === 0) return [];
  const [first] = chosen as [NodeItem];
  const only = chosen.length === 1 ? first : null;
  const pinned = chosen.every((i) => i.pinned);
  const looked = first.kind === 'folder' ? { words: 'Open', key: 'Enter' } : { words: 'Look at it', key: 'Space' };
  const table: (ItemCommand & { if: boolean })[] = [
    { ...looked, if: only !== null, group: 'look', run: () => doing.open(first) },
    {
      words: 'Put on slip',
      if: may('publish'),
      group: 'look',
      press: 's',
      key: 's',
      run: () => doing.ontoSlip(chosen),
    },
    { words: 'Download', if: may('read'), group: 'look', bar: 'Download', run: () => doing.download(chosen) },
    {
      ...{ words: 'Move to ...', if: may('remove'), group: 'move', press: 'm', key: 'm', bar: 'Move' },
      run: () => doing.ask({ kind: 'choose', items: chosen, how: 'move' }),
    },
    {
      ...{ words: 'Copy to ...', if: may('read'), group: 'move' },
      run: () => doing.ask({ kind: 'choose', items: chosen, how: 'copy' }),
    },
    {
      ...{ words: 'Cut', if: may('remove'), group: 'move', press: 'ctrl+x', key: 'Ctrl X' },
      run: () => doing.toClipboard(chosen, 'move'),
    },
    {
      ...{ words: 'Copy', if: may('read'), group: 'move', press: 'ctrl+c', key: 'Ctrl C' },
      run: () => doing.toClipboard(chosen, 'copy'),
    },
    {
      ...{ words: 'Tags ...', if: may('change'), group: 'mark', press: 't', key: 't', bar: 'Tag' },
      run: () => doing.ask({ kind: 'tags', items: chosen }),
    },
    {
      ...{ words: 'Rename', if: only !== null && may('change'), group: 'move', press: 'f2', key: 'F2', bar: 'Rename' },
      run: () => doing.ask({ kind: 'rename', item: first }),
    },
    { words: pinned ? 'Unpin' : 'Pin', if: true, group: 'mark', run: () => doing.pin(chosen, !pinned) },
    { words: 'Details', if: only !== null, group: 'mark', key: 'i', run: doing.details },
    {
      ...{ words: 'Move to the trash', if: may('remove'), group: 'trash', press: 'delete', key: 'Del', bar: 'Trash' },
      ...{ bad: true, run: () => doing.trash(chosen) },
    },
  ];
  return table.filter((c) => c.if);
}

/** The commands as a menu, its groups apart. */
export function menuOf(commands: ItemCommand[]): (MenuEntry | null)[] {
  const groups = (['look', 'move', 'mark', 'trash'] as const)
    .map((group) => commands.filter((c) => c.group === group))
    .filter((g) => g.length > 0);
  return groups.flatMap((group, i) => (i === 0 ? group : [null, ...group]));
}

/** The commands by the keys that call them. */
export const keysOf = (commands: ItemCommand[]): Record<string, () => void> =>
  Object.fromEntries(commands.flatMap((c) => (c.press ? [[c.press, c.run]] : [])));
