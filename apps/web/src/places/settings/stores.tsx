import { storeNameSchema, type StoreName, type StoreSettings } from '@quay/contract';
import { formatSize } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { useState, type ReactNode } from 'react';
import { Button, Form } from 'react-bootstrap';
import { Link } from 'react-router';
import { AccessDialog } from '../../ui/access/access-dialog';
import { Field, FormFault, tellRefused, useSchemaForm } from '../../ui/form';
import { Failure, SkeletonRows } from '../../ui/states';
import { When } from '../../ui/words';
import { Does } from './does';
import { archiveWouldDoQuery, storeSettingsQuery } from './queries';
import { useStoreVerbs } from './store-verbs';
import './stores.scss';

/** What is being done with one of the stores. */
interface Doing {
  what: 'rename' | 'archive' | 'managers';
  store: StoreSettings;
}

export function StoreSettingsList() {
  const { data, error, refetch } = useQuery(storeSettingsQuery);
  const [doing, setDoing] = useState<Doing | null>(null);
  if (error) return <Failure error={error} again={() => void refetch()} />;
  if (!data) return <SkeletonRows count={4} />;
  const done = () => setDoing(null);
  return (
    <>
      <ul className="store-settings">
        {data.map((store) => (
          <li key={store.id}>
            <Store {...{ store, stores: data }} begin={(what) => setDoing({ what, store })}>
              {doing?.what === 'rename' && doing.store.id === store.id ? (
                <Rename store={store} done={done} />
              ) : (
                <Link className="fw-semibold" to={`/stores/${store.rootId}`}>
                  {store.name}
                </Link>
              )}
            </Store>
            {doing?.what === 'archive' && doing.store.id === store.id && <Archive store={store} done={done} />}
          </li>
        ))}
      </ul>
      <NewStore />
      {doing?.what === 'managers' && (
        <AccessDialog
          folderId={doing.store.rootId}
          close={() => {
            done();
            void refetch();
          }}
        />
      )}
    </>
  );
}

interface StoreProps {
  store: StoreSettings;
  stores: StoreSettings[];
  begin: (what: Doing['what']) => void;
  /** Its name, or the field for another one. */
  children: ReactNode;
}

function Store({ store, stores, begin, children }: StoreProps) {
  const verbs = useStoreVerbs();
  const { name, usedBytes, archivedAt, managers } = store;
  const held = usedBytes === 0 ? 'nothing yet' : formatSize(usedBytes);
  const quota = store.quotaBytes === null ? '' : ` of ${formatSize(store.quotaBytes)}`;
  return (
    <>
      {!archivedAt && <Moves {...{ store, stores }} />}
      <div className="about">
        {children}{' '}
        {archivedAt && (
          <span className="quiet">
            archived <When at={archivedAt} brief />
          </span>
        )}
        <p>
          Holds {held}
          {quota}. {managers.length === 0 ? 'Only admins manage it.' : `Managed by ${managers.join(', ')} and admins.`}
        </p>
        <p className="quiet">{store.policyWords}</p>
        <div className="acts">
          <button type="button" className="link" onClick={() => begin('rename')}>
            Rename<span className="visually-hidden"> {name}</span>
          </button>
          <button type="button" className="link" onClick={() => begin('managers')}>
            Who manages and reaches it<span className="visually-hidden">: {name}</span>
          </button>
          <Link to={`/stores/${store.id}/storage`}>
            Rules<span className="visually-hidden"> of {name}</span>
          </Link>
          {archivedAt ? (
            <button type="button" className="link" onClick={() => verbs.archive(store, false)}>
              Bring it back<span className="visually-hidden">: {name}</span>
            </button>
          ) : (
            <button type="button" className="link" onClick={() => begin('archive')}>
              Archive<span className="visually-hidden"> {name}</span>
            </button>
          )}
        </div>
      </div>
    </>
  );
}

/** Up and down among the stores that are not archived: the order in which people see them. */
function Moves({ store, stores }: Pick<StoreProps, 'store' | 'stores'>) {
  const verbs = useStoreVerbs();
  const ids = stores.filter((s) => !s.archivedAt).map((s) => s.id);
  const at = ids.indexOf(store.id);
  const to = (place: number) => {
    const next = ids.filter((id) => id !== store.id);
    next.splice(place, 0, store.id);
    verbs.order(next, ids);
  };
  return (
    <div className="moves">
      <Button
        variant="plain"
        size="sm"
        disabled={at === 0}
        aria-label={`Move ${store.name} up`}
        onClick={() => to(at - 1)}
      >
        <i className="bi bi-chevron-up" aria-hidden />
      </Button>
      <Button
        variant="plain"
        size="sm"
        disabled={at === ids.length - 1}
        aria-label={`Move ${store.name} down`}
        onClick={() => to(at + 1)}
      >
        <i className="bi bi-chevron-down" aria-hidden />
      </Button>
    </div>
  );
}

function Rename({ store, done }: { store: StoreSettings; done: () => void }) {
  const verbs = useStoreVerbs();
  const form = useSchemaForm<StoreName>(storeNameSchema, { name: store.name });
  const submit = form.handleSubmit(async ({ name }) => {
    try {
      await verbs.rename(store, name);
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

/** What archiving does, and then doing it. */
function Archive({ store, done }: { store: StoreSettings; done: () => void }) {
  const verbs = useStoreVerbs();
  const { data, error, refetch } = useQuery(archiveWouldDoQuery(store.id));
  if (error) return <Failure error={error} again={() => void refetch()} />;
  if (!data) return <SkeletonRows count={1} />;
  const archive = () => {
    verbs.archive(store, true);
    done();
  };
  return (
    <div className="archive">
      <Does words={data.words} />
      <div className="d-flex gap-2 mt-2">
        <Button onClick={archive} autoFocus>
          Archive {store.name}
        </Button>
        <Button variant="plain" onClick={done}>
          Leave it
        </Button>
      </div>
    </div>
  );
}

function NewStore() {
  const verbs = useStoreVerbs();
  const form = useSchemaForm<StoreName>(storeNameSchema, { name: '' });
  const submit = form.handleSubmit(async ({ name }) => {
    try {
      await verbs.make(name);
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
