import type { QuayEvent } from '@quay/contract';
import { useQueryClient, type QueryClient } from '@tanstack/react-query';
import { useEffect } from 'react';
import { listenWhileShown } from '../live-source';

/** Keeps what is on the screen true: events of the server make the queries they concern be asked again. */
export function useLiveUpdates(): void {
  const client = useQueryClient();
  useEffect(
    () =>
      listenWhileShown(
        '/api/events',
        (data) => {
          for (const key of keysOf(JSON.parse(data) as QuayEvent)) askAgain(client, key);
        },
        () => void client.invalidateQueries({ predicate: (query) => query.queryKey[0] !== 'me' }),
      ),
    [client],
  );
}

/**
 * Asks again what an event concerns; what is being asked for the first time may have been answered before it, and is
 * asked once more.
 */
function askAgain(client: QueryClient, queryKey: string[]): void {
  for (const query of client.getQueryCache().findAll({ queryKey })) {
    if (query.state.data === undefined && query.state.fetchStatus === 'fetching')
      void query.promise?.then(
        () => client.invalidateQueries({ queryKey: query.queryKey, exact: true }),
        () => undefined,
      );
  }
  void client.invalidateQueries({ queryKey });
}

function keysOf(event: QuayEvent): string[][] {
  switch (event.topic) {
    case 'share':
      return [['shares'], ['share', event.id], ['marks']];
    case 'node':
      return [
        ['folder', event.id],
        ['folder', 'sizes'],
        ['stores'],
        ['trash'],
        ['shares'],
        ['marks'],
        ['info'],
        ['past', event.id],
      ];
    case 'store':
      return [['stores'], ['trash']];
    case 'preview':
      return [['info', event.id]];
    case 'task':
      return [['tasks']];
    case 'reach':
      return [['reach'], ['me'], ['shares']];
    case 'ledger':
      return [['ledger']];
    case 'session':
      return [['me']];
    // Whatever is shown may be more now, or less.
    case 'access':
    case 'missed':
      return [[]];
  }
}
