import { MOST_ITEMS, type ItemTotal } from '@quay/contract';
import { queryOptions, useQuery } from '@tanstack/react-query';
import { api } from './api';

/** Bytes by item id. */
export type Sizes = ReadonlyMap<string, number>;

interface Sized {
  id: string;
  kind: 'folder' | 'file';
  sizeBytes: number;
}

/** What items hold, in the order that was asked for; what is gone meanwhile is left out. */
export const totalsQuery = (ids: string[]) =>
  queryOptions({ queryKey: ['sizes', ...ids], queryFn: () => counted(ids) });

/**
 * Bytes of each item with all that is in it, kept true while they are shown; a folder is missing until it is counted.
 */
export function useSizes(items: readonly Sized[]): Sizes {
  const folders = items.filter((i) => i.kind === 'folder').map((i) => i.id);
  const { data } = useQuery({
    ...totalsQuery(folders),
    enabled: folders.length > 0,
    placeholderData: (previous: ItemTotal[] | undefined) => previous,
  });
  const files = items.filter((i) => i.kind === 'file').map((i) => [i.id, i.sizeBytes] as const);
  return new Map([...files, ...(data ?? []).map((t) => [t.id, t.sizeBytes] as const)]);
}

/** What all of them take together; null until every folder is counted. */
export function totalOf(items: readonly Sized[], sizes: Sizes): number | null {
  let total = 0;
  for (const { id } of items) {
    const size = sizes.get(id);
    if (size === undefined) return null;
    total += size;
  }
  return total;
}

/** As many at once as a request may name. */
async function counted(ids: string[]): Promise<ItemTotal[]> {
  const found: ItemTotal[] = [];
  for (let at = 0; at < ids.length; at += MOST_ITEMS)
    found.push(...(await api<ItemTotal[]>('POST', '/api/sizes', { nodeIds: ids.slice(at, at + MOST_ITEMS) })));
  return found;
}
