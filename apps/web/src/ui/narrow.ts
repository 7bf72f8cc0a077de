import { useSyncExternalStore } from 'react';

/** Where rows take two lines and panels become pages (styles/_narrow.scss). */
const query = window.matchMedia('(max-width: 759.98px)');

function follow(changed: () => void): () => void {
  query.addEventListener('change', changed);
  return () => query.removeEventListener('change', changed);
}

/** Whether the window is as narrow as a telephone. */
export const useNarrow = (): boolean => useSyncExternalStore(follow, () => query.matches);
