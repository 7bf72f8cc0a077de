import { useCallback } from 'react';
import { useSearchParams, type NavigateOptions } from 'react-router';

/** Values by name; what is empty, null or undefined leaves the address. Names that are not given stay as they are. */
export type SearchChange = Record<string, string | null | undefined>;

type Change = (change: SearchChange | ((now: URLSearchParams) => SearchChange), options?: NavigateOptions) => void;

/**
 * What stands behind the `?` of the address, and a way to change some of it. A change begins from the address as it is
 * at that moment: what is drawn may be older, and two changes in quick succession would lose the first.
 */
export function useSearch(): [URLSearchParams, Change] {
  const [drawn, setDrawn] = useSearchParams();
  const change = useCallback<Change>(
    (next, options) => {
      const now = new URLSearchParams(window.location.search);
      for (const [name, value] of Object.entries(typeof next === 'function' ? next(now) : next))
        if (value) now.set(name, value);
        else now.delete(name);
      setDrawn(now, options);
    },
    [setDrawn],
  );
  return [drawn, change];
}
