import type { QueryClient } from '@tanstack/react-query';
import { useSlip } from '../slip/store';
import { useNotices } from './notices';
import { meQuery } from './session';
import { dropTransfers } from './transfers/store';

/** Whoever sits here next finds nothing of the person before: no answers, no slip, no transfers, no way back. */
export function forgetPerson(client: QueryClient): void {
  useSlip.getState().clear();
  useNotices.getState().clear();
  void dropTransfers();
  client.setQueryData(meQuery.queryKey, null);
  client.removeQueries({ predicate: (query) => query.queryKey[0] !== 'me' });
}
