import { useState } from 'react';

/** Rows that are ticked, by their ids. */
export function useChosen(): { ids: ReadonlySet<string>; toggle: (id: string) => void; clear: () => void } {
  const [ids, setIds] = useState<ReadonlySet<string>>(new Set());
  const toggle = (id: string) => {
    const next = new Set(ids);
    if (!next.delete(id)) next.add(id);
    setIds(next);
  };
  return { ids, toggle, clear: () => setIds(new Set()) };
}
