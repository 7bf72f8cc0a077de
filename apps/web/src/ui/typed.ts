import { useEffect, useEffectEvent, useState } from 'react';

/** How long somebody pauses before what they typed is taken. */
const PAUSE_MS = 200;

interface Typed {
  text: string;
  /** Values from before and on the way: while the field's own value is one of them, what was typed is newer. */
  older: string[];
}

/**
 * A field whose value lives elsewhere (in the address, say) and is slower than typing: what is typed is shown at once,
 * and taken after a pause. When the value becomes another by itself, as by going back, that is shown.
 * @returns what the field shows, and what to call when it changes
 */
export function useTyped(value: string, take: (text: string) => void): [string, (text: string) => void] {
  const [typed, setTyped] = useState<Typed | null>(null);
  const taken = useEffectEvent((text: string) => text !== value && take(text));
  const text = typed?.text;
  useEffect(() => {
    if (text === undefined) return;
    const timer = setTimeout(() => taken(text), PAUSE_MS);
    return () => clearTimeout(timer);
  }, [text]);
  const isNewer = typed !== null && (typed.text === value || typed.older.includes(value));
  const change = (next: string) =>
    setTyped({
      text: next,
      older: [...(isNewer ? typed.older : []), value, ...(text === undefined ? [] : [text])].slice(-20),
    });
  return [isNewer ? typed.text : value, change];
}
