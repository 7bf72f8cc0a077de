import type { StoreSettings } from '@quay/contract';
import { useQueryClient } from '@tanstack/react-query';
import { api } from '../../ui/api';
import { tellFailure, useNotices } from '../../ui/notices';
import { storeSettingsQuery } from './queries';

/** What can be done with stores; each tells how it went, and offers to take it back. */
export function useStoreVerbs() {
  const client = useQueryClient();
  const show = useNotices((notices) => notices.show);
  const send = async (method: 'POST' | 'PUT' | 'PATCH', path: string, body: object) => {
    const stores = await api<StoreSettings[]>(method, `/api/settings/stores${path}`, body);
    client.setQueryData(storeSettingsQuery.queryKey, stores);
    await client.invalidateQueries({ queryKey: ['stores'] });
    await client.invalidateQueries({ queryKey: ['folder'] });
  };
  const undo = (method: 'PUT' | 'PATCH', path: string, body: object) => ({
    undo: () => void send(method, path, body).catch(tellFailure),
  });
  return {
    /** @throws ApiProblem for the form that asks */
    make: async (name: string) => {
      await send('POST', '', { name });
      show(`${name} is there. All staff may edit in it.`);
    },
    /** @throws ApiProblem for the form that asks */
    rename: async ({ id, name: before }: StoreSettings, name: string) => {
      await send('PATCH', `/${id}`, { name });
      if (name !== before) show(`${before} is called ${name} now.`, undo('PATCH', `/${id}`, { name: before }));
    },
    order: (storeIds: string[], before: string[]) =>
      void send('PUT', '/order', { storeIds }).then(
        () => show('People see the stores in this order.', undo('PUT', '/order', { storeIds: before })),
        tellFailure,
      ),
    archive: ({ id, name }: StoreSettings, archived: boolean) =>
      void send('PUT', `/${id}/archive`, { archived }).then(() => {
        const words = archived
          ? `${name} is archived.`
          : `${name} is back: people may do there what they were granted.`;
        show(words, undo('PUT', `/${id}/archive`, { archived: !archived }));
      }, tellFailure),
  };
}
