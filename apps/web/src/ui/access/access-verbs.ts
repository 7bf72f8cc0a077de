import type { ChangeFolderAccess, FolderAccess, GrantRow, NewGrant } from '@quay/contract';
import { LEVEL_WORDS, type AccessLevel } from '@quay/core';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { api } from '../api';
import { useChanged } from '../changed';
import { tellFailure, useNotices } from '../notices';
import { accessQuery } from './queries';

/** What can be done to who reaches a folder; each tells how it went, and offers to take it back. */
export function useAccessVerbs(folderId: string) {
  const client = useQueryClient();
  const { show } = useNotices();
  const changed = useChanged();
  const takeOver = (access: FolderAccess) => {
    client.setQueryData(accessQuery(folderId).queryKey, access);
    changed('access');
  };
  const send = (method: 'POST' | 'PUT' | 'DELETE' | 'PATCH', path: string, body?: object) =>
    api<FolderAccess>(method, path, body);
  const quietly = (work: Promise<FolderAccess>) => void work.then(takeOver, tellFailure);
  const subjectOf = ({ subject }: GrantRow): NewGrant['subject'] =>
    subject.id === null ? { kind: subject.kind } : { kind: subject.kind, id: subject.id };
  const grantOf = (access: FolderAccess, { kind, id }: NewGrant['subject']) =>
    access.grants.find((g) => g.folderId === folderId && g.subject.kind === kind && g.subject.id === (id ?? null));
  const grant = useMutation({
    mutationFn: (asked: NewGrant) => send('POST', `/api/folders/${folderId}/grants`, asked),
    onSuccess: (access, asked) => {
      takeOver(access);
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
      takeOver(access);
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
      takeOver(access);
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
      takeOver(access);
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
