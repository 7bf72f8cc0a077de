import { storeNameSchema, type StoreName, type StoreSettings } from '@quay/contract';
import { formatSize } from '@quay/core';
import { useQuery, useQueryClient, type QueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Button, Form } from 'react-bootstrap';
import { Link } from 'react-router';
import { api } from '../../ui/api';
import { Field, FormFault, tellRefused, useSchemaForm } from '../../ui/form';
import { tellFailure, useNotices } from '../../ui/notices';
import { Failure, SkeletonRows } from '../../ui/states';
import { storeSettingsQuery } from './queries';

const shown = (client: QueryClient, stores: StoreSettings[]) => {
  client.setQueryData(storeSettingsQuery.queryKey, stores);
  return client.invalidateQueries({ queryKey: ['stores'] });
};

export function StoreSettingsList() {
  const { data, error, refetch } = useQuery(storeSettingsQuery);
  const [renaming, setRenaming] = useState<string | null>(null);
  if (error) return <Failure error={error} again={() => void refetch()} />;
  if (!data) return <SkeletonRows count={4} />;
  return (
    <>
      <table className="rows mb-3">
        <thead>
          <tr>
            <th>Store</th>
            <th className="number">Holds</th>
            <th>
              <span className="visually-hidden">What can be done</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {data.map((store) => (
            <tr key={store.id}>
              <td className="first">
                {renaming === store.id ? (
                  <Rename store={store} done={() => setRenaming(null)} />
                ) : (
                  <Link to={`/stores/${store.rootId}`}>{store.name}</Link>
                )}
              </td>
              <td className="number">{store.usedBytes === 0 ? 'nothing' : formatSize(store.usedBytes)}</td>
              <td className="number">
                <button type="button" className="link" onClick={() => setRenaming(store.id)}>
                  Rename<span className="visually-hidden"> {store.name}</span>
                </button>{' '}
                <Link to={`/stores/${store.id}/storage`}>
                  Rules<span className="visually-hidden"> of {store.name}</span>
                </Link>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <NewStore />
    </>
  );
}

function Rename({ store, done }: { store: StoreSettings; done: () => void }) {
  const client = useQueryClient();
  const form = useSchemaForm<StoreName>(storeNameSchema, { name: store.name });
  const rename = async (name: string) =>
    shown(client, await api<StoreSettings[]>('PATCH', `/api/settings/stores/${store.id}`, { name }));
  const submit = form.handleSubmit(async ({ name }) => {
    try {
      await rename(name);
      const undo = () => void rename(store.name).catch(tellFailure);
      if (name !== store.name) useNotices.getState().show(`${store.name} is called ${name} now.`, { undo });
      done();
    } catch (error) {
      tellRefused(form, error);
    }
  });
  return (
    <Form noValidate onSubmit={(e) => void submit(e)} onKeyDown={(e) => e.key === 'Escape' && done()}>
      <Field
        {...{ form, name: 'name', id: 'store-name', hiddenLabel: true }}
        label={`New name of ${store.name}`}
        autoFocus
      />
      <FormFault form={form} />
    </Form>
  );
}

function NewStore() {
  const client = useQueryClient();
  const form = useSchemaForm<StoreName>(storeNameSchema, { name: '' });
  const submit = form.handleSubmit(async (asked) => {
    try {
      await shown(client, await api<StoreSettings[]>('POST', '/api/settings/stores', asked));
      useNotices.getState().show(`${asked.name} is there. All staff may edit in it.`);
      form.reset();
    } catch (error) {
      tellRefused(form, error);
    }
  });
  return (
    <Form noValidate onSubmit={(e) => void submit(e)} className="d-grid gap-2">
      <h2 className="small-head mb-0">A new store</h2>
      <p className="quiet mb-0">All staff may edit in it at first; who else reaches it is said on its folder.</p>
      <Field {...{ form, name: 'name', id: 'new-store' }} label="Name" />
      <FormFault form={form} />
      <div>
        <Button type="submit" variant="plain" disabled={form.formState.isSubmitting}>
          Make the store
        </Button>
      </div>
    </Form>
  );
}
