import type {
  Accepted,
  ChangeIntake,
  CreateIntake,
  DepositRow,
  FolderPage,
  IntakeRow,
  IntakeSheet,
  PreviewFacts,
  Reminded,
} from '@quay/contract';
import { queryOptions, useMutation, useQueryClient } from '@tanstack/react-query';
import { api } from '../../ui/api';
import { useChanged, useRefreshed } from '../../ui/changed';

export const intakeQuery = (id: string) =>
  queryOptions({ queryKey: ['intakes', 'sheet', id], queryFn: () => api<IntakeSheet>('GET', `/api/intakes/${id}`) });
export const depositQuery = (id: string) =>
  queryOptions({ queryKey: ['intakes', 'deposit', id], queryFn: () => api<DepositRow>('GET', `/api/deposits/${id}`) });

/** Asks for files, and puts the answer where the place reads it. */
export function useAskForFiles() {
  const client = useQueryClient();
  const changed = useChanged();
  return useMutation({
    mutationFn: (asked: CreateIntake) => api<IntakeSheet>('POST', '/api/intakes', asked),
    onSuccess: (sheet) => {
      client.setQueryData(intakeQuery(sheet.id).queryKey, sheet);
      changed('intakes');
    },
  });
}

export function useChangeIntake(id: string) {
  const changed = useChanged();
  return useMutation({
    mutationFn: (asked: ChangeIntake) => api<IntakeSheet | IntakeRow>('PATCH', `/api/intakes/${id}`, asked),
    onSuccess: () => changed('intakes'),
  });
}

/** Writes to those who were asked by name and have handed nothing in. */
export function useRemind(id: string) {
  const changed = useChanged();
  return useMutation({
    mutationFn: () => api<Reminded>('POST', `/api/intakes/${id}/remind`),
    onSettled: () => changed('intakes'),
  });
}

/** Decides about files of a deposit. */
export function useDecide(depositId: string) {
  const refreshed = useRefreshed();
  const accept = useMutation({
    mutationFn: (fileIds: string[]) => api<Accepted>('POST', `/api/deposits/${depositId}/accept`, { fileIds }),
    onSettled: () => refreshed('intakes'),
  });
  const refuse = useMutation({
    mutationFn: (asked: { fileIds: string[]; reason: string }) =>
      api<DepositRow>('POST', `/api/deposits/${depositId}/refuse`, asked),
    onSettled: () => refreshed('intakes'),
  });
  return { accept, refuse };
}

/** Asks a contributor about what they handed in. */
export function useAskBack(depositId: string) {
  const refreshed = useRefreshed();
  return useMutation({
    mutationFn: (words: string) => api<DepositRow>('POST', `/api/deposits/${depositId}/ask`, { words }),
    onSettled: () => refreshed('intakes'),
  });
}

/** How a file that waits can be looked at. */
export const waitingFileQuery = (at: string) =>
  queryOptions({
    queryKey: ['intakes', 'look', at],
    queryFn: () => api<PreviewFacts>('GET', `${at}/preview`),
    retry: false,
  });

/** What a folder is called, as its listing says. */
export const folderNameQuery = (id: string) =>
  queryOptions({
    queryKey: ['folder', id, 'name'],
    queryFn: async () => {
      const { folder } = await api<FolderPage>('GET', `/api/folders/${id}`);
      return { id, name: folder?.name ?? '' };
    },
  });
