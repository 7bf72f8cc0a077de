import type {
  ChangeFolderAccess,
  CheckAnswer,
  FileText,
  FindAnswer,
  FindQuery,
  FolderAccess,
  FolderPage,
  Grantable,
  GrantRow,
  LitterItem,
  MoveAnswer,
  NewGrant,
  NodeInfo,
  NodeItem,
  NodeShares,
  PastFolder,
  PersonQuota,
  PolicyEffect,
  PurgeAnswer,
  RestoreAnswer,
  ServerFolder,
  ShareMarks,
  SortKey,
  StorePolicyText,
  StoreUsage,
  Tag,
  Task,
  TrashAnswer,
  TrashList,
  VersionList,
} from '@quay/contract';
import { MOST_ITEMS } from '@quay/contract';
import { countOf, LEVEL_WORDS, type AccessLevel } from '@quay/core';
import { infiniteQueryOptions, queryOptions, useMutation, useQueryClient } from '@tanstack/react-query';
import { api, ApiProblem } from '../../ui/api';
import { tellFailure, useNotices } from '../../ui/notices';

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
export const sharesOfQuery = (id: string) =>
  queryOptions({ queryKey: ['marks', 'of', id], queryFn: () => api<NodeShares>('GET', `/api/shares/of/${id}`) });
export const versionsQuery = (id: string) =>
  queryOptions({
    queryKey: ['info', id, 'versions'],
    queryFn: () => api<VersionList>('GET', `/api/files/${id}/versions`),
  });
export const textQuery = (id: string, version?: number) =>
  queryOptions({
    queryKey: ['info', id, 'text', version ?? 0],
    queryFn: () => api<FileText>('GET', `/api/files/${id}/text${version ? `?version=${version}` : ''}`),
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
    queryFn: () => api<LitterItem[]>('GET', `/api/stores/${storeId}/litter`),
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
  queryFn: () => api<{ nodeId: string; name: string; version: number; since: string }[]>('GET', '/api/damaged'),
});
export const browseQuery = (path: string | null) =>
  queryOptions({
    queryKey: ['browse', path],
    queryFn: () =>
      api<ServerFolder>('GET', `/api/import/browse${path === null ? '' : `?path=${encodeURIComponent(path)}`}`),
    retry: false,
  });

/** What has been decided about a move: names that are taken, and more people who would reach it. */
export interface MoveHow {
  ifTaken: 'refuse' | 'keep-both';
  widens: boolean;
}

/** Whether a refusal asks for a decision, and for which. */
export const moveAsks = (error: unknown): error is ApiProblem & { code: 'name.taken' | 'move.widens' } =>
  error instanceof ApiProblem && (error.code === 'name.taken' || error.code === 'move.widens');

/** What is moved where. */
export interface MoveAsked {
  items: { id: string; name: string }[];
  toFolderId: string;
  toName: string;
}

const what = (items: { name: string }[]) =>
  items.length === 1 ? (items[0] as { name: string }).name : countOf(items.length, 'item');

/** What can be done to items; each tells how it went, and offers to take it back. */
export function useVerbs() {
  const client = useQueryClient();
  const { show } = useNotices();
  const refresh = () => {
    for (const key of ['folder', 'trash', 'marks', 'info', 'find', 'past'])
      void client.invalidateQueries({ queryKey: [key] });
    void client.invalidateQueries({ queryKey: ['stores'] });
  };
  const quietly = (work: Promise<unknown>) => void work.then(refresh, tellFailure);
  const putBack = useMutation({
    mutationFn: (asked: { nodeIds: string[]; toFolderId?: string }) =>
      api<TrashAnswer>('POST', '/api/trash/put-back', asked),
    onSuccess: refresh,
    onError: (error) =>
      error instanceof ApiProblem && error.code === 'trash.place-gone' ? undefined : tellFailure(error),
  });
  const rename = useMutation({
    mutationFn: ({ item, name }: { item: { id: string; name: string }; name: string }) =>
      api('PATCH', `/api/nodes/${item.id}`, { name }),
    onSuccess: (_, { item, name }) => {
      refresh();
      show(`Renamed to ${name}.`, { undo: () => quietly(api('PATCH', `/api/nodes/${item.id}`, { name: item.name })) });
    },
  });
  const createFolder = useMutation({
    mutationFn: ({ folderId, name }: { folderId: string; name: string }) =>
      api<{ id: string }>('POST', `/api/folders/${folderId}/folders`, { name, ifExists: 'refuse' }),
    onSuccess: refresh,
  });
  const trash = useMutation({
    mutationFn: async (items: { id: string; name: string }[]) => {
      const nodeIds = items.map((i) => i.id);
      const affected = await api<{ title: string }[]>('POST', '/api/shares/affected', { nodeIds });
      await api<TrashAnswer>('POST', '/api/trash', { nodeIds });
      return affected;
    },
    onSuccess: (affected, items) => {
      refresh();
      const loss =
        affected.length === 0
          ? ''
          : affected.length === 1
            ? ` The share ${affected[0]?.title} is broken by it.`
            : ` ${affected.length} shares are broken by it.`;
      show(`${what(items)} went to the trash.${loss}`, {
        undo: () => putBack.mutate({ nodeIds: items.map((i) => i.id) }),
      });
    },
    onError: tellFailure,
  });
  const move = useMutation({
    mutationFn: ({ items, toFolderId, ifTaken, widens }: MoveAsked & MoveHow) =>
      api<MoveAnswer>('POST', '/api/nodes/move', { nodeIds: items.map((i) => i.id), toFolderId, ifTaken, widens }),
    onSuccess: ({ moved }, { toName }) => {
      refresh();
      if (moved.length === 0) return;
      show(`${what(moved)} moved to ${toName}.`, { undo: () => quietly(moveBack(moved)) });
    },
    // What is asked before something moves is asked by the pane.
    onError: (error) => (moveAsks(error) ? undefined : tellFailure(error)),
  });
  const copy = useMutation({
    mutationFn: ({ items, toFolderId }: MoveAsked) =>
      api<TrashAnswer>('POST', '/api/nodes/copy', { nodeIds: items.map((i) => i.id), toFolderId }),
    onSuccess: ({ nodeIds }, { items, toName }) => {
      refresh();
      show(`${what(items)} copied to ${toName}.`, { undo: () => quietly(api('POST', '/api/trash', { nodeIds })) });
    },
    onError: tellFailure,
  });
  const purge = useMutation({
    mutationFn: (items: { id: string; name: string }[]) =>
      api<PurgeAnswer>('POST', '/api/trash/purge', { nodeIds: items.map((i) => i.id) }),
    onSuccess: ({ kept }, items) => {
      refresh();
      const [first] = kept;
      if (first)
        show(`${first.name} stays: ${first.why}.${kept.length > 1 ? ` So do ${kept.length - 1} more.` : ''}`, {
          bad: true,
        });
      else show(`${what(items)} removed for good.`);
    },
    onError: tellFailure,
  });
  const pin = useMutation({
    mutationFn: ({ items, on }: { items: { id: string }[]; on: boolean }) =>
      api('POST', '/api/pins', { nodeIds: items.map((i) => i.id), on }),
    onSuccess: refresh,
    onError: tellFailure,
  });
  const tag = useMutation({
    mutationFn: ({ items, tagId, on }: { items: { id: string }[]; tagId: string; on: boolean }) =>
      api('POST', '/api/nodes/tags', { nodeIds: items.map((i) => i.id), tagId, on }),
    onSuccess: refresh,
    onError: tellFailure,
  });
  const createTag = useMutation({
    mutationFn: (asked: Omit<Tag, 'id'>) => api<Tag>('POST', '/api/tags', asked),
    onSuccess: () => void client.invalidateQueries({ queryKey: ['tags'] }),
    onError: tellFailure,
  });
  const restoreVersion = useMutation({
    mutationFn: ({ id, number }: { id: string; number: number }) =>
      api('POST', `/api/files/${id}/versions/${number}/restore`),
    onSuccess: (_, { number }) => {
      refresh();
      show(`Version ${number} is the present one again, as a new version.`);
    },
    onError: tellFailure,
  });
  const keepVersion = useMutation({
    mutationFn: ({ id, number, kept }: { id: string; number: number; kept: boolean }) =>
      api('PATCH', `/api/files/${id}/versions/${number}`, { kept }),
    onSuccess: refresh,
    onError: tellFailure,
  });
  const restorePast = useMutation({
    mutationFn: ({ folderId, at, nodeIds }: { folderId: string; at: string; nodeIds: string[] | null }) =>
      api<RestoreAnswer>('POST', `/api/folders/${folderId}/restore`, { at, nodeIds }),
    onSuccess: ({ restored, same, lost, refused }) => {
      refresh();
      show(
        `${countOf(restored, 'item')} brought back${same ? `, ${same} unchanged` : ''}${lost.length ? `; the bytes of ${someOf(lost)} are gone` : ''}.${refused[0] ? ` Not brought back: ${someOf(refused.map((r) => r.name))}. ${refused[0].why}` : ''}`,
        { bad: lost.length + refused.length > 0 },
      );
    },
    onError: tellFailure,
  });
  const changePolicy = useMutation({
    mutationFn: ({ storeId, change }: { storeId: string; change: Partial<StorePolicyText> }) =>
      api('PATCH', `/api/stores/${storeId}`, change),
    onSuccess: () => {
      refresh();
      show('The rules are changed.');
    },
  });
  return {
    putBack,
    rename,
    createFolder,
    trash,
    move,
    copy,
    purge,
    pin,
    tag,
    createTag,
    restoreVersion,
    keepVersion,
    restorePast,
    changePolicy,
    refresh,
  };
}

/** What can be done to who reaches a folder; each tells how it went, and offers to take it back. */
export function useAccessVerbs(folderId: string) {
  const client = useQueryClient();
  const { show } = useNotices();
  const take = (access: FolderAccess) => {
    client.setQueryData(accessQuery(folderId).queryKey, access);
    for (const key of ['access', 'folder', 'stores', 'find', 'marks'])
      void client.invalidateQueries({ queryKey: [key] });
  };
  const send = (method: 'POST' | 'PUT' | 'DELETE' | 'PATCH', path: string, body?: object) =>
    api<FolderAccess>(method, path, body);
  const quietly = (work: Promise<FolderAccess>) => void work.then(take, tellFailure);
  const subjectOf = ({ subject }: GrantRow): NewGrant['subject'] =>
    subject.id === null ? { kind: subject.kind } : { kind: subject.kind, id: subject.id };
  const grantOf = (access: FolderAccess, { kind, id }: NewGrant['subject']) =>
    access.grants.find((g) => g.folderId === folderId && g.subject.kind === kind && g.subject.id === (id ?? null));
  const grant = useMutation({
    mutationFn: (asked: NewGrant) => send('POST', `/api/folders/${folderId}/grants`, asked),
    onSuccess: (access, asked) => {
      take(access);
      const made = grantOf(access, asked.subject);
      if (made)
        show(`${made.subject.name} ${LEVEL_WORDS[made.level]} there now.`, {
          undo: () => quietly(send('DELETE', `/api/grants/${made.id}`)),
        });
    },
  });
  const replace = useMutation({
    mutationFn: ({ grant: { id }, level, until }: { grant: GrantRow; level: AccessLevel; until: string | null }) =>
      send('PUT', `/api/grants/${id}`, { level, until }),
    onSuccess: (access, { grant: before }) => {
      take(access);
      const made = grantOf(access, subjectOf(before));
      if (made)
        show(`${made.subject.name} ${LEVEL_WORDS[made.level]} there now.`, {
          undo: () => quietly(send('PUT', `/api/grants/${made.id}`, { level: before.level, until: before.until })),
        });
    },
    onError: tellFailure,
  });
  const end = useMutation({
    mutationFn: (before: GrantRow) => send('DELETE', `/api/grants/${before.id}`),
    onSuccess: (access, before) => {
      take(access);
      const again = { subject: subjectOf(before), level: before.level, until: before.until };
      show(`What ${before.subject.name} had there has ended.`, {
        undo: () => quietly(send('POST', `/api/folders/${folderId}/grants`, again)),
      });
    },
    onError: tellFailure,
  });
  const change = useMutation({
    mutationFn: (asked: ChangeFolderAccess) => send('PATCH', `/api/folders/${folderId}/access`, asked),
    onSuccess: (access, { inherits }) => {
      take(access);
      if (inherits === undefined) return;
      const words = inherits
        ? 'What is granted above counts there again.'
        : 'What is granted above does not count there any more. Whoever reached it still does; end what should not be.';
      show(words, { undo: () => quietly(send('PATCH', `/api/folders/${folderId}/access`, { inherits: !inherits })) });
    },
    onError: tellFailure,
  });
  return { grant, replace, end, change };
}

/** Takes a move back: each item to the folder it came from, under the name it had. */
async function moveBack(moved: MoveAnswer['moved']): Promise<void> {
  for (const folderId of new Set(moved.map((m) => m.fromFolderId))) {
    const back = moved.filter((m) => m.fromFolderId === folderId);
    await api('POST', '/api/nodes/move', {
      nodeIds: back.map((m) => m.id),
      toFolderId: folderId,
      ifTaken: 'keep-both',
      widens: true,
    });
    for (const m of back) if (m.name !== m.fromName) await api('PATCH', `/api/nodes/${m.id}`, { name: m.fromName });
  }
}

/** A few names, and how many more there are. */
function someOf(names: string[]): string {
  const shown = names.slice(0, 3).join(', ');
  return names.length > 3 ? `${shown} and ${names.length - 3} more` : shown;
}
