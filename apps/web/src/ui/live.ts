import type { QuayEvent } from '@quay/contract';
import { useQueryClient, type QueryClient } from '@tanstack/react-query';
import { useEffect } from 'react';
import { listenWhileShown } from '../live-source';
import { Refresher, STALE_WHEN_HEARD_AGAIN, staleAfter, type StateKey } from './server-state';

/** Keeps what is on the screen true: events of the server make what they concern be asked again. */
export function useLiveUpdates(): void {
  const client = useQueryClient();
  useEffect(() => {
    const refresher = new Refresher((key) => askAgain(client, key));
    const leave = listenWhileShown(
      '/api/events',
      (data) => refresher.add(staleAfter(JSON.parse(data) as QuayEvent)),
      () => refresher.add(STALE_WHEN_HEARD_AGAIN),
    );
    return () => {
      leave();
      refresher.end();
    };
  }, [client]);
}

/**
 * Asks again what an event concerns; what is being asked for the first time may have been answered before it, and is
 * asked once more.
 */
function askAgain(client: QueryClient, queryKey: StateKey): void {
  for (const query of client.getQueryCache().findAll({ queryKey })) {
    if (query.state.data === undefined && query.state.fetchStatus === 'fetching')
      void query.promise?.then(
        () => client.invalidateQueries({ queryKey: query.queryKey, exact: true }),
        () => undefined,
      );
  }
  void client.invalidateQueries({ queryKey });
}
