import type { QuayEvent } from '@quay/contract';
import { useQueryClient } from '@tanstack/react-query';
import { useEffect } from 'react';

/** Keeps what is on the screen true: events of the server make the queries they concern be asked again. */
export function useLiveUpdates(): void {
  const client = useQueryClient();
  useEffect(() => {
    const source = new EventSource('/api/events');
    let broken = false;
    source.onmessage = (message: MessageEvent<string>) => {
      const event = JSON.parse(message.data) as QuayEvent;
      for (const key of keysOf(event)) void client.invalidateQueries({ queryKey: key });
    };
    source.onerror = () => (broken = true);
    // What happened while the connection was away is not known: ask for everything that is shown.
    source.onopen = () => {
      if (broken) void client.invalidateQueries();
      broken = false;
    };
    return () => source.close();
  }, [client]);
}

function keysOf(event: QuayEvent): string[][] {
  switch (event.topic) {
    case 'share':
      return [['shares'], ['share', event.id], ['marks']];
    case 'node':
      return [['folder', event.id], ['folder', 'sizes'], ['stores'], ['trash'], ['shares'], ['marks']];
    case 'store':
      return [['stores']];
    case 'ledger':
      return [['ledger']];
    case 'session':
      return [['me']];
  }
}
