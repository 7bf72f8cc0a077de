import type { AccessAnswer, AccessShifts, AccessTrial, FolderAccess, Grantable } from '@quay/contract';
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

export const answerQuery = ({ text, here }: { text: string; here: string | null }) =>
  queryOptions({
    queryKey: ['people', 'answer', text, here],
    queryFn: () => api<AccessAnswer>('POST', '/api/access/questions', { text, ...(here && { here }) }),
    staleTime: 0,
    retry: false,
  });

/** What a change would do. */
export const trialQuery = (trial: AccessTrial) =>
  queryOptions({
    queryKey: ['people', 'trial', trial],
    queryFn: () => api<AccessShifts>('POST', '/api/access/trials', trial),
    staleTime: 0,
    retry: false,
  });
