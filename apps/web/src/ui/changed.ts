import { useQueryClient } from '@tanstack/react-query';
import { useCallback } from 'react';
import { STALE_AFTER_CHANGE } from './server-state';

/** What to call after something was changed here: it is asked for again wherever it is shown. */
export function useChanged(): (what: keyof typeof STALE_AFTER_CHANGE) => void {
  const refreshed = useRefreshed();
  return useCallback((what) => void refreshed(what), [refreshed]);
}

/** The same, for what is only done once it is shown as it is now, so that nothing moves under the hand afterwards. */
export function useRefreshed(): (what: keyof typeof STALE_AFTER_CHANGE) => Promise<unknown> {
  const client = useQueryClient();
  return useCallback(
    (what) => Promise.all(STALE_AFTER_CHANGE[what].map((queryKey) => client.invalidateQueries({ queryKey }))),
    [client],
  );
}
