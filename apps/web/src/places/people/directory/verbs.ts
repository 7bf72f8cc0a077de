import type { Directory, DirectoryRunSheet, KeepDirectory, LookAtDirectory } from '@quay/contract';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { api } from '../../../ui/api';
import { useChanged } from '../../../ui/changed';
import { tellFailure, useNotices } from '../../../ui/notices';
import { directoryQuery, directoryRunQuery } from '../queries';

/** What can be done about the directory. */
export function useDirectoryVerbs() {
  const client = useQueryClient();
  const changed = useChanged();
  const { show } = useNotices();
  const took = (sheet: DirectoryRunSheet) => {
    client.setQueryData(directoryRunQuery(sheet.id).queryKey, sheet);
    changed('people');
  };
  const kept = (words: string) => (state: Directory) => {
    client.setQueryData(directoryQuery.queryKey, state);
    changed('people');
    show(words);
  };
  const look = useMutation({
    mutationFn: (asked: LookAtDirectory) => api<DirectoryRunSheet>('POST', '/api/directory/runs', asked),
    onSuccess: took,
    onError: tellFailure,
  });
  const agree = useMutation({
    mutationFn: (id: string) => api<DirectoryRunSheet>('POST', `/api/directory/runs/${id}`),
    onSuccess: took,
    onError: tellFailure,
  });
  const drop = useMutation({
    mutationFn: (id: string) => api<DirectoryRunSheet>('DELETE', `/api/directory/runs/${id}`),
    onSuccess: took,
    onError: tellFailure,
  });
  const keep = useMutation({
    mutationFn: (asked: KeepDirectory) => api<Directory>('PUT', '/api/directory', asked),
    onSuccess: kept('The directory is asked like this from now on.'),
  });
  const forget = useMutation({
    mutationFn: () => api<Directory>('DELETE', '/api/directory'),
    onSuccess: kept('The directory is asked no more. Whoever came from it needs a password by a link.'),
    onError: tellFailure,
  });
  const follow = useMutation({
    mutationFn: (asked: KeepDirectory) => api<Directory>('PUT', '/api/directory', asked),
    onSuccess: (state, { branches }) =>
      kept(
        branches.length > 0
          ? 'Look now to see whom that brings.'
          : 'No branch is followed any more; all stay as they are.',
      )(state),
    onError: tellFailure,
  });
  return { look, agree, drop, keep, forget, follow };
}
