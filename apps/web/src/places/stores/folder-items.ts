import type { NodeItem, ShareMarks } from '@quay/contract';
import { useInfiniteQuery, useQueries, useQuery } from '@tanstack/react-query';
import { useCallback, useMemo } from 'react';
import { mayIn } from './may';
import { folderQuery, marksQuery, tagsQuery } from './queries';
import { useSelection } from './selection';
import { useLooks } from './store';

/** What is shown of a folder: its items as far as they were asked for, their marks, and which of them are chosen. */
export function useFolderItems(folderId: string) {
  const looks = useLooks();
  const pages = useInfiniteQuery(folderQuery(folderId, looks));
  const items = useMemo(() => pages.data?.pages.flatMap((p) => p.items) ?? [], [pages.data]);
  const folder = pages.data?.pages[0]?.folder ?? undefined;
  const order = useMemo(() => items.map((i) => i.id), [items]);
  const marks = useMarks(folderId, pages.data?.pages.map((p) => p.items) ?? []);
  const { data: tags = [] } = useQuery(tagsQuery);
  const selection = useSelection(order);
  const chosen = useMemo(() => items.filter((i) => selection.ids.has(i.id)), [items, selection.ids]);
  const may = useMemo(() => mayIn(folder), [folder]);
  const nearEnd = useCallback(() => {
    if (pages.hasNextPage && !pages.isFetchingNextPage) void pages.fetchNextPage();
  }, [pages]);
  const again = () => void pages.refetch();
  return { folder, items, marks, tags, selection, chosen, may, nearEnd, error: pages.error, again };
}

/** Marks page by page: a page that is there is not asked for again when the next one comes. */
function useMarks(folderId: string, pages: NodeItem[][]): ShareMarks {
  const found = useQueries({ queries: pages.map((items) => marksQuery(folderId, items)) });
  return useMemo(() => Object.assign({}, ...found.map((f) => f.data ?? {})) as ShareMarks, [found]);
}
