import type {
  AccessMoments,
  AccessTableAnswer,
  Directory,
  DirectoryFind,
  DirectoryFindAnswer,
  DirectoryRunSheet,
  Explanation,
  GroupRow,
  ImportAnswer,
  ImportPeople,
  Leaving,
  FindAnswer,
  PersonSheet,
  PersonThen,
  SeenAs,
  SeenFolder,
  SeenShare,
  ShareList,
  ShiftsBetween,
} from '@quay/contract';
import { infiniteQueryOptions, keepPreviousData, queryOptions } from '@tanstack/react-query';
import { api } from '../../ui/api';

/** For those who manage groups and do not look after people. */
export const ownGroupsQuery = queryOptions({
  queryKey: ['people', 'groups'],
  queryFn: () => api<GroupRow[]>('GET', '/api/groups'),
});

/** Of a person's shares, in their sheet. */
const SHARES_SHOWN = 5;

export const personQuery = (id: string) =>
  queryOptions({
    queryKey: ['people', 'sheet', id],
    queryFn: () => api<PersonSheet>('GET', `/api/people/${id}`),
    retry: false,
  });

/** What somebody was and reached at a moment. @param at RFC 3339 */
export const thenQuery = (id: string, at: string) =>
  queryOptions({
    queryKey: ['people', 'then', id, at],
    queryFn: () => api<PersonThen>('GET', `/api/people/${id}/then?at=${encodeURIComponent(at)}`),
    retry: false,
  });

/** The files that somebody changed last, as far as whoever looks sees them. */
export const broughtQuery = (id: string) =>
  queryOptions({
    queryKey: ['find', 'brought', id],
    queryFn: () => api<FindAnswer>('GET', `/api/find?personId=${id}`),
  });

/** The newest shares of somebody, as far as whoever looks sees them. */
export const sharesByQuery = (id: string) =>
  queryOptions({
    queryKey: ['shares', 'by', id],
    queryFn: () => api<ShareList>('GET', `/api/shares?by=${id}&limit=${SHARES_SHOWN}`),
  });

/** What somebody leaves behind, or has left. */
export const leavingQuery = (id: string) =>
  queryOptions({
    queryKey: ['people', 'leaving', id],
    queryFn: () => api<Leaving>('GET', `/api/people/${id}/leaving`),
  });

/** The stores as somebody gets them. Asked once for each look: each is in the ledger. */
export const seenAsQuery = (personId: string) =>
  queryOptions({
    queryKey: ['people', 'seen', personId],
    queryFn: () => api<SeenAs>('GET', `/api/people/${personId}/seen`),
    retry: false,
  });

export const seenShareQuery = (personId: string, shareId: string) =>
  queryOptions({
    queryKey: ['people', 'seen', personId, 'share', shareId],
    queryFn: () => api<SeenShare>('GET', `/api/people/${personId}/seen/shares/${shareId}`),
    retry: false,
  });

export const seenFolderQuery = (personId: string, folderId: string) =>
  infiniteQueryOptions({
    queryKey: ['people', 'seen', personId, folderId],
    queryFn: ({ pageParam }) =>
      api<SeenFolder>(
        'GET',
        `/api/people/${personId}/seen/folders/${folderId}${pageParam ? `?after=${encodeURIComponent(pageParam)}` : ''}`,
      ),
    initialPageParam: '',
    getNextPageParam: (last) => last.page.next,
    retry: false,
  });

export const directoryQuery = queryOptions({
  queryKey: ['people', 'directory'],
  queryFn: () => api<Directory>('GET', '/api/directory'),
});

/** A look at the directory: what it would change, or has. */
export const directoryRunQuery = (id: string) =>
  queryOptions({
    queryKey: ['people', 'directory', 'run', id],
    queryFn: () => api<DirectoryRunSheet>('GET', `/api/directory/runs/${id}`),
  });

export const directoryFindQuery = (asked: DirectoryFind) =>
  queryOptions({
    queryKey: ['people', 'directory', 'find', asked],
    queryFn: () => api<DirectoryFindAnswer>('POST', '/api/directory/find', asked),
    placeholderData: keepPreviousData,
    // The directory of the office is asked when somebody looks, not with each change here.
    staleTime: 60_000,
    retry: false,
  });

/** What would become of each line of a list. */
export const importQuery = (asked: Omit<ImportPeople, 'keep'>) =>
  queryOptions({
    queryKey: ['people', 'import', asked],
    queryFn: () => api<ImportAnswer>('POST', '/api/people/import', { ...asked, keep: false }),
    staleTime: 0,
    retry: false,
  });

/** @param at RFC 3339; null: now */
export const tableQuery = (at: string | null) =>
  queryOptions({
    queryKey: ['people', 'table', at],
    queryFn: () => api<AccessTableAnswer>('GET', `/api/access/table${at ? `?at=${encodeURIComponent(at)}` : ''}`),
    // Another moment takes the place of the one that is shown.
    placeholderData: keepPreviousData,
  });

export const momentsQuery = queryOptions({
  queryKey: ['people', 'moments'],
  queryFn: () => api<AccessMoments>('GET', '/api/access/moments'),
});

export const shiftsQuery = (since: string) =>
  queryOptions({
    queryKey: ['people', 'shifts', since],
    queryFn: () => api<ShiftsBetween>('GET', `/api/access/shifts?since=${encodeURIComponent(since)}`),
  });

/** Why somebody, or a group, has what they have in a folder. */
export const explainQuery = (folderId: string, who: { personId?: string; groupId?: string }, at: string | null) =>
  queryOptions({
    queryKey: ['people', 'explain', folderId, who, at],
    queryFn: () => {
      const asked = new URLSearchParams({ ...who, ...(at && { at }) });
      return api<Explanation>('GET', `/api/folders/${folderId}/access/explain?${asked.toString()}`);
    },
    retry: false,
  });
