import { useEffect, useRef } from 'react';
import './menu.scss';

export interface MenuEntry {
  words: string;
  key?: string;
  run: () => void;
  bad?: boolean;
}

/** A context menu at a point of the window. Arrow keys move, Enter chooses, Escape closes. */
export function ContextMenu({
  at,
  entries,
  close,
}: {
  at: { x: number; y: number };
  entries: (MenuEntry | null)[];
  close: () => void;
}) {
  const list = useRef<HTMLDivElement>(null);
  useEffect(() => {
    const element = list.current;
    if (!element) return;
    // Within the window, whatever the point was.
    element.style.left = `${Math.max(4, Math.min(at.x, window.innerWidth - element.offsetWidth - 8))}px`;
    element.style.top = `${Math.max(4, Math.min(at.y, window.innerHeight - element.offsetHeight - 8))}px`;
    element.querySelector<HTMLElement>('[role=menuitem]')?.focus();
    const leave = (event: Event) => !element.contains(event.target as Node) && close();
    window.addEventListener('mousedown', leave);
    window.addEventListener('blur', close);
    return () => {
      window.removeEventListener('mousedown', leave);
      window.removeEventListener('blur', close);
    };
  }, [at, close]);
  const step = (by: number) => {
    const all = [...(list.current?.querySelectorAll<HTMLElement>('[role=menuitem]') ?? [])];
    all[(all.indexOf(document.activeElement as HTMLElement) + by + all.length) % all.length]?.focus();
  };
  return (
    <div
      ref={list}
      className="context-menu dropdown-menu show"
      role="menu"
      aria-label="What to do"
      onKeyDown={(e) => {
        if (e.key === 'ArrowDown') step(1);
        else if (e.key === 'ArrowUp') step(-1);
        else if (e.key === 'Escape' || e.key === 'Tab') close();
        else return;
        e.preventDefault();
        e.stopPropagation();
      }}
    >
      {entries.map((entry, i) =>
        entry === null ? (
          <div key={i} className="dropdown-divider" role="separator" />
        ) : (
          <button
            key={entry.words}
            type="button"
            role="menuitem"
            tabIndex={-1}
            className={`dropdown-item${entry.bad ? ' bad' : ''}`}
            onClick={() => {
              close();
              entry.run();
            }}
          >
            {entry.words} {entry.key && <kbd>{entry.key}</kbd>}
          </button>
        ),
      )}
    </div>
  );
}
