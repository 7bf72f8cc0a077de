import type { FolderAccess, Grantable } from '@quay/contract';
import { queryOptions } from '@tanstack/react-query';
import { api } from '../api';

export const accessQuery = (folderId: string) =>
  queryOptions({
    queryKey: ['access', folderId],
    queryFn: () => api<FolderAccess>('GET', `/api/folders/${folderId}/access`),
    retry: false,
  });
export const grantableQuery = queryOptions({
  queryKey: ['access', 'grantable'],
  queryFn: () => api<Grantable>('GET', '/api/grantable'),
});
