import type { MoveAnswer, PurgeAnswer, RestoreAnswer, StorePolicyText, Tag, TrashAnswer } from '@quay/contract';
import { countOf } from '@quay/core';
import { useMutation } from '@tanstack/react-query';
import { api, ApiProblem } from '../../ui/api';
import { useChanged } from '../../ui/changed';
import { tellFailure, useNotices } from '../../ui/notices';

// What can be done to items; each tells how it went, and offers to take it back.

interface Named {
  id: string;
  name: string;
}

const idsOf = (items: { id: string }[]): string[] => items.map((i) => i.id);

/** "plan.pdf", or "3 items". */
export const namesOf = (items: { name: string }[]): string =>
  items.length === 1 ? (items[0] as { name: string }).name : countOf(items.length, 'item');

/** After a change of items: all that is shown of them is asked again. */
function useItemsChanged(): { refresh: () => void; quietly: (work: Promise<unknown>) => void } {
  const changed = useChanged();
  const refresh = () => changed('items');
  return { refresh, quietly: (work) => void work.then(refresh, tellFailure) };
}

/** Makes folders, and gives items other names. */
export function useNaming() {
  const { refresh, quietly } = useItemsChanged();
  const rename = useMutation({
    mutationFn: ({ item, name }: { item: Named; name: string }) => api('PATCH', `/api/nodes/${item.id}`, { name }),
    onSuccess: (_, { item, name }) => {
      refresh();
      const undo = () => quietly(api('PATCH', `/api/nodes/${item.id}`, { name: item.name }));
      useNotices.getState().show(`Renamed to ${name}.`, { undo });
    },
  });
  const createFolder = useMutation({
    mutationFn: ({ folderId, name }: { folderId: string; name: string }) =>
      api<{ id: string }>('POST', `/api/folders/${folderId}/folders`, { name, ifExists: 'refuse' }),
    onSuccess: refresh,
  });
  return { rename, createFolder };
}

/** Into the trash, out of it, and for good. */
export function useTrash() {
  const { refresh } = useItemsChanged();
  const { show } = useNotices();
  const putBack = useMutation({
    mutationFn: (asked: { nodeIds: string[]; toFolderId?: string }) =>
      api<TrashAnswer>('POST', '/api/trash/put-back', asked),
    onSuccess: refresh,
    // Where else it is to go is asked by the trash.
    onError: (error) => (placeIsGone(error) ? undefined : tellFailure(error)),
  });
  const trash = useMutation({
    mutationFn: async (items: Named[]) => {
      const nodeIds = idsOf(items);
      const affected = await api<{ title: string }[]>('POST', '/api/shares/affected', { nodeIds });
      await api<TrashAnswer>('POST', '/api/trash', { nodeIds });
      return affected;
    },
    onSuccess: (affected, items) => {
      refresh();
      const undo = () => putBack.mutate({ nodeIds: idsOf(items) });
      show(`${namesOf(items)} went to the trash.${lossWords(affected)}`, { undo });
    },
    onError: tellFailure,
  });
  const purge = useMutation({
    mutationFn: (items: Named[]) => api<PurgeAnswer>('POST', '/api/trash/purge', { nodeIds: idsOf(items) }),
    onSuccess: ({ kept }, items) => {
      refresh();
      const [first] = kept;
      if (!first) return show(`${namesOf(items)} removed for good.`);
      const more = kept.length > 1 ? ` So do ${kept.length - 1} more.` : '';
      show(`${first.name} stays: ${first.why}.${more}`, { bad: true });
    },
    onError: tellFailure,
  });
  return { putBack, trash, purge };
}

/** Whether something cannot be put back because the folder it lay in is not there. */
export const placeIsGone = (error: unknown): boolean =>
  error instanceof ApiProblem && error.code === 'trash.place-gone';

function lossWords(affected: { title: string }[]): string {
  if (affected.length === 0) return '';
  return affected.length === 1
    ? ` The share ${affected[0]?.title} is broken by it.`
    : ` ${affected.length} shares are broken by it.`;
}

/** What has been decided about a move: names that are taken, and more people who would reach it. */
export interface MoveHow {
  ifTaken: 'refuse' | 'keep-both';
  widens: boolean;
}

/** Whether a refusal asks for a decision, and for which. */
export const moveAsks = (error: unknown): error is ApiProblem & { code: 'name.taken' | 'move.widens' } =>
  error instanceof ApiProblem && (error.code === 'name.taken' || error.code === 'move.widens');

/** What is moved or copied where. */
export interface MoveAsked {
  items: Named[];
  toFolderId: string;
  toName: string;
}

export function useMoves() {
  const { refresh, quietly } = useItemsChanged();
  const { show } = useNotices();
  const move = useMutation({
    mutationFn: ({ items, toFolderId, ifTaken, widens }: MoveAsked & MoveHow) =>
      api<MoveAnswer>('POST', '/api/nodes/move', { nodeIds: idsOf(items), toFolderId, ifTaken, widens }),
    onSuccess: ({ moved }, { toName }) => {
      refresh();
      if (moved.length === 0) return;
      show(`${namesOf(moved)} moved to ${toName}.`, { undo: () => quietly(moveBack(moved)) });
    },
    // What is asked before something moves is asked by the pane.
    onError: (error) => (moveAsks(error) ? undefined : tellFailure(error)),
  });
  const copy = useMutation({
    mutationFn: ({ items, toFolderId }: MoveAsked) =>
      api<TrashAnswer>('POST', '/api/nodes/copy', { nodeIds: idsOf(items), toFolderId }),
    onSuccess: ({ nodeIds }, { items, toName }) => {
      refresh();
      const undo = () => quietly(api('POST', '/api/trash', { nodeIds }));
      show(`${namesOf(items)} copied to ${toName}.`, { undo });
    },
    onError: tellFailure,
  });
  return { move, copy };
}

/** Takes a move back: each item to the folder it came from, under the name it had. */
async function moveBack(moved: MoveAnswer['moved']): Promise<void> {
  for (const toFolderId of new Set(moved.map((m) => m.fromFolderId))) {
    const back = moved.filter((m) => m.fromFolderId === toFolderId);
    const asked = { nodeIds: idsOf(back), toFolderId, ifTaken: 'keep-both', widens: true };
    await api('POST', '/api/nodes/move', asked);
    for (const m of back) if (m.name !== m.fromName) await api('PATCH', `/api/nodes/${m.id}`, { name: m.fromName });
  }
}

/** Pins and tags. */
export function useLabels() {
  const { refresh } = useItemsChanged();
  const changed = useChanged();
  const pin = useMutation({
    mutationFn: ({ items, on }: { items: { id: string }[]; on: boolean }) =>
      api('POST', '/api/pins', { nodeIds: idsOf(items), on }),
    onSuccess: refresh,
    onError: tellFailure,
  });
  const tag = useMutation({
    mutationFn: ({ items, tagId, on }: { items: { id: string }[]; tagId: string; on: boolean }) =>
      api('POST', '/api/nodes/tags', { nodeIds: idsOf(items), tagId, on }),
    onSuccess: refresh,
    onError: tellFailure,
  });
  const createTag = useMutation({
    mutationFn: (asked: Omit<Tag, 'id'>) => api<Tag>('POST', '/api/tags', asked),
    onSuccess: () => changed('tags'),
  });
  return { pin, tag, createTag };
}

/** Versions of a file, and folders as they were. */
export function useRestoring() {
  const { refresh } = useItemsChanged();
  const { show } = useNotices();
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
    onSuccess: (answer) => {
      refresh();
      show(restoredWords(answer), { bad: answer.lost.length + answer.refused.length > 0 });
    },
    onError: tellFailure,
  });
  return { restoreVersion, keepVersion, restorePast };
}

function restoredWords({ restored, same, lost, refused }: RestoreAnswer): string {
  const unchanged = same ? `, ${same} unchanged` : '';
  const gone = lost.length ? `; the bytes of ${someOf(lost)} are gone` : '';
  const [first] = refused;
  const not = first ? ` Not brought back: ${someOf(refused.map((r) => r.name))}. ${first.why}` : '';
  return `${countOf(restored, 'item')} brought back${unchanged}${gone}.${not}`;
}

/** A few names, and how many more there are. */
function someOf(names: string[]): string {
  const shown = names.slice(0, 3).join(', ');
  return names.length > 3 ? `${shown} and ${names.length - 3} more` : shown;
}

export function useChangePolicy() {
  const { refresh } = useItemsChanged();
  return useMutation({
    mutationFn: ({ storeId, change }: { storeId: string; change: Partial<StorePolicyText> }) =>
      api('PATCH', `/api/stores/${storeId}`, change),
    onSuccess: () => {
      refresh();
      useNotices.getState().show('The rules are changed.');
    },
  });
}
