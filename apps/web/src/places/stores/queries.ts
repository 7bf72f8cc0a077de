import type { FolderPage, NodeItem, ShareMarks, TrashAnswer, TrashItem } from '@quay/contract';
import { infiniteQueryOptions, queryOptions, useMutation, useQueryClient } from '@tanstack/react-query';
import { api } from '../../ui/api';
import { tellFailure, useNotices } from '../../ui/notices';

export const folderQuery = (id: string) =>
  infiniteQueryOptions({
    queryKey: ['folder', id],
    queryFn: ({ pageParam }) => api<FolderPage>('GET', `/api/folders/${id}${pageParam ? `?after=${encodeURIComponent(pageParam)}` : ''}`),
    initialPageParam: '',
    getNextPageParam: (page) => page.next ?? undefined,
  });

export const marksQuery = (folderId: string, ids: string[]) =>
  queryOptions({
    queryKey: ['marks', folderId, ids.length, ids[0] ?? ''],
    queryFn: async () => {
      const marks: ShareMarks = {};
      for (let i = 0; i < ids.length; i += 200) Object.assign(marks, await api<ShareMarks>('POST', '/api/shares/marks', { nodeIds: ids.slice(i, i + 200) }));
      return marks;
    },
    enabled: ids.length > 0,
  });

export const trashQuery = (storeId: string) => queryOptions({ queryKey: ['trash', storeId], queryFn: () => api<TrashItem[]>('GET', `/api/stores/${storeId}/trash`) });

/** What can be done to the items of a folder; each tells how it went, and offers to take it back. */
export function useFolderVerbs(folderId: string) {
  const client = useQueryClient();
  const { show } = useNotices();
  const refresh = () => {
    void client.invalidateQueries({ queryKey: ['folder', folderId] });
    void client.invalidateQueries({ queryKey: ['trash'] });
    void client.invalidateQueries({ queryKey: ['marks'] });
  };
  const putBack = useMutation({ mutationFn: (nodeIds: string[]) => api<TrashAnswer>('POST', '/api/trash/put-back', { nodeIds }), onSuccess: refresh, onError: tellFailure });
  const rename = useMutation({
    mutationFn: ({ item, name }: { item: NodeItem; name: string }) => api('PATCH', `/api/nodes/${item.id}`, { name }),
    onSuccess: (_, { item, name }) => {
      refresh();
      show(`Renamed to ${name}.`, { undo: () => void api('PATCH', `/api/nodes/${item.id}`, { name: item.name }).then(refresh, tellFailure) });
    },
  });
  const createFolder = useMutation({ mutationFn: (name: string) => api<{ id: string }>('POST', `/api/folders/${folderId}/folders`, { name, ifExists: 'refuse' }), onSuccess: refresh });
  const trash = useMutation({
    mutationFn: async (items: NodeItem[]) => {
      const nodeIds = items.map((i) => i.id);
      const affected = await api<{ title: string }[]>('POST', '/api/shares/affected', { nodeIds });
      await api<TrashAnswer>('POST', '/api/trash', { nodeIds });
      return affected;
    },
    onSuccess: (affected, items) => {
      refresh();
      const what = items.length === 1 ? (items[0] as NodeItem).name : `${items.length} items`;
      const loss = affected.length === 0 ? '' : affected.length === 1 ? ` The share ${affected[0]?.title} is broken by it.` : ` ${affected.length} shares are broken by it.`;
      show(`${what} went to the trash.${loss}`, { undo: () => putBack.mutate(items.map((i) => i.id)) });
    },
    onError: tellFailure,
  });
  return { rename, createFolder, trash, putBack };
}
