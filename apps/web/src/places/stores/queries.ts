import type {
  CheckAnswer,
  Damaged,
  FileText,
  FindAnswer,
  FindQuery,
  FolderPage,
  Litter,
  NodeInfo,
  NodeItem,
  PastFolder,
  PersonQuota,
  PolicyEffect,
  ServerFolder,
  ShareMarks,
  SortKey,
  StoreUsage,
  Tag,
  Task,
  TrashList,
  VersionList,
} from '@quay/contract';
import { MOST_ITEMS } from '@quay/contract';
import { infiniteQueryOptions, queryOptions } from '@tanstack/react-query';
import { api } from '../../ui/api';

export type { CheckAnswer };

export interface Order {
  sort: SortKey;
  descending: boolean;
  litter: boolean;
}

export const folderQuery = (id: string, { sort, descending, litter }: Order) =>
  infiniteQueryOptions({
    queryKey: ['folder', id, sort, descending, litter],
    queryFn: ({ pageParam }) =>
      api<FolderPage>(
        'GET',
        `/api/folders/${id}?sort=${sort}&descending=${descending}&litter=${litter}${pageParam ? `&after=${encodeURIComponent(pageParam)}` : ''}`,
      ),
    initialPageParam: '',
    getNextPageParam: (page) => page.next ?? undefined,
  });

/** One page's marks; asked page by page, so that a long folder asks for each item once. */
export const marksQuery = (folderId: string, items: NodeItem[]) =>
  queryOptions({
    queryKey: ['marks', folderId, items[0]?.id ?? '', items.length],
    queryFn: async () => {
      const marks: ShareMarks = {};
      for (let at = 0; at < items.length; at += MOST_ITEMS)
        Object.assign(
          marks,
          await api<ShareMarks>('POST', '/api/shares/marks', {
            nodeIds: items.slice(at, at + MOST_ITEMS).map((i) => i.id),
          }),
        );
      return marks;
    },
    enabled: items.length > 0,
  });

export const trashQuery = (storeId: string) =>
  queryOptions({
    queryKey: ['trash', storeId],
    queryFn: () => api<TrashList>('GET', `/api/stores/${storeId}/trash`),
  });
export const infoQuery = (id: string) =>
  queryOptions({ queryKey: ['info', id], queryFn: () => api<NodeInfo>('GET', `/api/nodes/${id}`) });
export const versionsQuery = (id: string) =>
  queryOptions({
    queryKey: ['info', id, 'versions'],
    queryFn: () => api<VersionList>('GET', `/api/files/${id}/versions`),
  });
/** @param at what the file is asked for below, where that is not its own path */
export const textQuery = (id: string, version?: number, at = `/api/files/${id}`) =>
  queryOptions({
    queryKey: ['info', id, 'text', version ?? 0],
    queryFn: () => api<FileText>('GET', `${at}/text${version ? `?version=${version}` : ''}`),
    retry: false,
  });
export const pastQuery = (id: string, at: string) =>
  queryOptions({
    queryKey: ['past', id, at],
    queryFn: () => api<PastFolder>('GET', `/api/folders/${id}/past?at=${encodeURIComponent(at)}`),
    placeholderData: (before) => before,
  });
export const tagsQuery = queryOptions({ queryKey: ['tags'], queryFn: () => api<Tag[]>('GET', '/api/tags') });
export const pinsQuery = queryOptions({
  queryKey: ['stores', 'pins'],
  queryFn: () => api<FindAnswer>('GET', '/api/pins'),
});
export const recentQuery = queryOptions({
  queryKey: ['stores', 'recent'],
  queryFn: () => api<FindAnswer>('GET', '/api/recent'),
});
export const findQuery = (query: Partial<Record<keyof FindQuery, string>>) =>
  queryOptions({
    queryKey: ['find', query],
    queryFn: () =>
      api<FindAnswer>('GET', `/api/find?${new URLSearchParams(query as Record<string, string>).toString()}`),
    placeholderData: (before) => before,
    retry: false,
  });
export const usageQuery = (storeId: string) =>
  queryOptions({
    queryKey: ['stores', 'usage', storeId],
    queryFn: () => api<StoreUsage>('GET', `/api/stores/${storeId}/usage`),
  });
export const effectQuery = (storeId: string, versionsKept: number, thinAfterDays: number | null) =>
  queryOptions({
    queryKey: ['stores', 'effect', storeId, versionsKept, thinAfterDays],
    queryFn: () =>
      api<PolicyEffect>(
        'GET',
        `/api/stores/${storeId}/policy-effect?versionsKept=${versionsKept}${thinAfterDays === null ? '' : `&thinAfterDays=${thinAfterDays}`}`,
      ),
    placeholderData: (before) => before,
  });
export const litterQuery = (storeId: string) =>
  queryOptions({
    queryKey: ['stores', 'litter', storeId],
    queryFn: () => api<Litter>('GET', `/api/stores/${storeId}/litter`),
  });
export const quotasQuery = queryOptions({
  queryKey: ['quotas'],
  queryFn: () => api<PersonQuota[]>('GET', '/api/quotas'),
});
export const ownQuotaQuery = queryOptions({
  queryKey: ['stores', 'own'],
  queryFn: () => api<PersonQuota>('GET', '/api/quotas/mine'),
});
export const colleaguesQuery = queryOptions({
  queryKey: ['colleagues'],
  queryFn: () => api<{ id: string; name: string }[]>('GET', '/api/colleagues'),
  staleTime: 600_000,
});
export const tasksQuery = queryOptions({ queryKey: ['tasks'], queryFn: () => api<Task[]>('GET', '/api/tasks') });
export const damagedQuery = queryOptions({
  queryKey: ['tasks', 'damaged'],
  queryFn: () => api<Damaged>('GET', '/api/damaged'),
});
export const browseQuery = (path: string | null) =>
  queryOptions({
    queryKey: ['browse', path],
    queryFn: () =>
      api<ServerFolder>('GET', `/api/import/browse${path === null ? '' : `?path=${encodeURIComponent(path)}`}`),
    retry: false,
  });
