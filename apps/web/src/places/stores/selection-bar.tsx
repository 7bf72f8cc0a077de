import type { NodeItem } from '@quay/contract';
import { formatSize } from '@quay/core';
import { Button } from 'react-bootstrap';
import { totalOf, useSizes } from '../../ui/sizes';
import type { ItemCommand } from './commands';
import { namesOf } from './verbs';
import './selection-bar.scss';

interface BarProps {
  chosen: NodeItem[];
  commands: ItemCommand[];
  /** What can be put down here; null: nothing, or not here. */
  held: { items: { name: string }[]; how: 'move' | 'copy' } | null;
  paste: () => void;
  clear: () => void;
}

/** What can be done to the chosen items; with none chosen, what was cut or copied, or how to begin. */
export function SelectionBar({ chosen, commands, held, paste, clear }: BarProps) {
  const total = totalOf(chosen, useSizes(chosen));
  if (chosen.length === 0)
    return (
      <div className="selection-bar idle">
        {held && held.items.length > 0 ? (
          <Button variant="plain" onClick={paste}>
            {held.how === 'move' ? 'Move' : 'Copy'} {namesOf(held.items)} here <kbd>Ctrl V</kbd>
          </Button>
        ) : (
          'Select items to put them on the slip, move, download or tag them. Press ? for the keys.'
        )}
      </div>
    );
  const publish = commands.find((c) => c.press === 's');
  return (
    <div className="selection-bar" role="toolbar" aria-label="Selected items">
      <strong className="text-nowrap">{chosen.length} selected</strong>
      <span className="quiet text-nowrap">{total === null ? 'counting' : formatSize(total)}</span>
      {publish && (
        <Button onClick={publish.run}>
          Put on slip <kbd className="bg-transparent border border-light-subtle">S</kbd>
        </Button>
      )}
      {commands
        .filter((c) => c.bar)
        .map((c) => (
          <Button key={c.words} variant="plain" onClick={c.run}>
            {c.bar}
          </Button>
        ))}
      <button type="button" className="btn btn-sm ms-auto" aria-label="Clear the selection" onClick={clear}>
        <i className="bi bi-x-lg" aria-hidden />
      </button>
    </div>
  );
}
