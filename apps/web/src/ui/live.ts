import type { QuayEvent } from '@quay/contract';
import { useQueryClient } from '@tanstack/react-query';
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
          for (const key of keysOf(JSON.parse(data) as QuayEvent)) void client.invalidateQueries({ queryKey: key });
        },
        () => void client.invalidateQueries({ predicate: (query) => query.queryKey[0] !== 'me' }),
      ),
    [client],
  );
}

function keysOf(event: QuayEvent): string[][] {
  switch (event.topic) {
    case 'share':
      return [['shares'], ['share', event.id], ['marks']];
    case 'node':
      return [['folder', event.id], ['folder', 'sizes'], ['stores'], ['trash'], ['shares'], ['marks'], ['info'], ['past', event.id]];
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
  }
}
