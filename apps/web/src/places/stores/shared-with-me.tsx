import type { SharedWithMe } from '@quay/contract';
import { queryOptions, useQuery } from '@tanstack/react-query';
import { api } from '../../ui/api';
import { SharedTable } from '../../ui/shared-table';

const forMeQuery = queryOptions({
  queryKey: ['shares', 'for-me'],
  queryFn: () => api<SharedWithMe[]>('GET', '/api/shares/for-me'),
});

/** Shares that are for whoever looks. */
export function SharedWithMeList() {
  const { data } = useQuery(forMeQuery);
  return data ? <SharedTable title="Shared with you" shares={data} /> : null;
}
