import { useEffect } from 'react';
import { create } from 'zustand';

export interface Offered {
  words: string;
  run: () => void;
}

/** What the place that is shown offers to do there; the command box lists it. */
export const useOffered = create<{ list: Offered[] }>(() => ({ list: [] }));

/** Offers these while they are given. */
export function useOffer(list: Offered[]): void {
  useEffect(() => {
    useOffered.setState({ list });
  });
  useEffect(() => () => useOffered.setState({ list: [] }), []);
}
