import type { HandOvers, KnownAddressee, MessageTemplateRow } from '@quay/contract';
import type { Addressee, ListFault } from '@quay/core/recipients';
import { queryOptions, useMutation, useQueryClient } from '@tanstack/react-query';
import { useEffect, useState } from 'react';
import { api } from '../api';

export const handOversQuery = (shareId: string) =>
  queryOptions({
    queryKey: ['hand-overs', shareId],
    queryFn: () => api<HandOvers>('GET', `/api/shares/${shareId}/hand-overs`),
  });

export const addresseesQuery = queryOptions({
  queryKey: ['hand-overs', 'recipients'],
  queryFn: () => api<KnownAddressee[]>('GET', '/api/hand-overs/recipients'),
});

export const messageTemplatesQuery = queryOptions({
  queryKey: ['templates', 'messages'],
  queryFn: () => api<MessageTemplateRow[]>('GET', '/api/message-templates'),
});

/** Something that is done about the hand-overs of a share, whose answer is how they stand then. */
export function useHandOver<Asked>(shareId: string, method: 'POST' | 'PATCH', rest: (asked: Asked) => string) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (asked: Asked) => api<HandOvers>(method, `/api/shares/${shareId}/hand-overs${rest(asked)}`, asked),
    onSuccess: async (found) => {
      client.setQueryData(handOversQuery(shareId).queryKey, found);
      await client.invalidateQueries({ queryKey: ['hand-overs'], refetchType: 'active' });
    },
  });
}

interface ReadTo {
  to: Addressee[];
  faults: ListFault[];
}

/** To whom something goes, as it is understood; null while it is read. Reading takes tables of all scripts. */
export function useAddressees(text: string, kind: 'address' | 'number'): ReadTo | null {
  const [read, setRead] = useState<{ of: string; found: ReadTo } | null>(null);
  useEffect(() => {
    let current = true;
    void import('@quay/core/recipients').then(({ readAddressees }) => {
      if (current) setRead({ of: text, found: readAddressees(text, kind) });
    });
    return () => {
      current = false;
    };
  }, [text, kind]);
  return read?.of === text ? read.found : null;
}

/** As the server reads it back: a name in quotes, so that its commas part nothing. */
export const addresseeText = ({ value, name }: Addressee): string =>
  name === '' ? value : `"${name.replaceAll('"', '')}" <${value}>`;
