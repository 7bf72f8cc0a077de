import { useQueryClient } from '@tanstack/react-query';
import { useCallback } from 'react';
import { STALE_AFTER_CHANGE } from './server-state';

/** What to call after something was changed here: it is asked for again wherever it is shown. */
export function useChanged(): (what: keyof typeof STALE_AFTER_CHANGE) => void {
  const client = useQueryClient();
  return useCallback(
    (what) => {
      for (const queryKey of STALE_AFTER_CHANGE[what]) void client.invalidateQueries({ queryKey });
    },
    [client],
  );
}
