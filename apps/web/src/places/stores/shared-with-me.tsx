import type { SharedWithMe } from '@quay/contract';
import { queryOptions, useQuery } from '@tanstack/react-query';
import { api } from '../../ui/api';
import { SharedTable } from '../../ui/shared-table';

const forMeQuery = queryOptions({
  queryKey: ['shares', 'for-me'],
  queryFn: () => api<SharedWithMe[]>('GET', '/api/shares/for-me'),
});

/** They open here, where one is signed in, whatever address their link is built on. */
const here = ({ link }: SharedWithMe): string => `/s/${link.split('/').at(-1)}`;

/** Shares that are for whoever looks. */
export function SharedWithMeList() {
  const { data } = useQuery(forMeQuery);
  return data ? <SharedTable title="Shared with you" shares={data} hrefOf={here} /> : null;
}
