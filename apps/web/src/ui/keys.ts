import { useEffect, useRef } from 'react';

export type KeyMap = Record<string, (event: KeyboardEvent) => void>;

/** The name of a key press: "ctrl+k", "alt+arrowup", "s", "?". */
export function keyName(event: KeyboardEvent): string {
  const key = event.key === ' ' ? 'space' : event.key.toLowerCase();
  return `${event.ctrlKey || event.metaKey ? 'ctrl+' : ''}${event.altKey ? 'alt+' : ''}${event.shiftKey && key.length > 1 ? 'shift+' : ''}${key}`;
}

function isTyping(target: EventTarget | null): boolean {
  return (
    target instanceof HTMLElement &&
    (target.isContentEditable || /^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName)) &&
    !(target instanceof HTMLInputElement && /^(checkbox|radio|button)$/.test(target.type))
  );
}

/**
 * Keys of a place. They rest while somebody types into a field or a dialog is open; Ctrl keys always work.
 * @param isOver they are of what lies over a place, and do not rest for it
 */
export function useKeys(keys: KeyMap, isOver = false): void {
  const latest = useRef(keys);
  useEffect(() => {
    latest.current = keys;
  });
  useEffect(() => {
    // Seen before anybody acts on the key: a dialog that it closes is gone by the time it comes here.
    let inDialog = false;
    const look = () => {
      inDialog = document.querySelector(isOver ? '.modal' : '.modal, .viewer') !== null;
    };
    const listen = (event: KeyboardEvent) => {
      const name = keyName(event);
      const action = latest.current[name];
      if (!action || event.defaultPrevented) return;
      if (!name.startsWith('ctrl+') && inDialog) return;
      if (isTyping(event.target) && name !== 'ctrl+k') return;
      // A focused button or link keeps its own Enter and Space.
      if (
        (name === 'enter' || name === 'space') &&
        event.target instanceof HTMLElement &&
        event.target.closest('button, a, summary, [role=menuitem]')
      )
        return;
      event.preventDefault();
      action(event);
    };
    window.addEventListener('keydown', look, { capture: true });
    window.addEventListener('keydown', listen);
    return () => {
      window.removeEventListener('keydown', look, { capture: true });
      window.removeEventListener('keydown', listen);
    };
  }, [isOver]);
}

/** What the help shows, in the order of the frame. */
export const KEY_HELP: [keys: string, words: string][] = [
  ['Ctrl K', 'commands: go to a place, find a share, do a thing'],
  ['/', 'find in this place'],
  ['n', 'new folder, or new item of the place'],
  ['s', 'selection onto the slip'],
  ['↑ ↓', 'move through the rows; with Shift, select'],
  ['Enter', 'open'],
  ['Space', 'look at the file; ← → the next one'],
  ['i', 'details'],
  ['t', 'tags'],
  ['m', 'move to another folder'],
  ['Ctrl X C V', 'cut, copy, put down'],
  ['F2', 'rename'],
  ['Del', 'to the trash'],
  ['Ctrl A', 'select everything'],
  ['Ctrl Z', 'undo'],
  ['Alt ↑', 'the folder above'],
  ['[ ]', 'earlier and later, where time is shown'],
  ['Esc', 'clear the selection, close what is open'],
  ['?', 'these keys'],
];
