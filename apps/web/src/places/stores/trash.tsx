import { MOST_ITEMS, type TrashItem, type TrashList } from '@quay/contract';
import { countOf, formatSize } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Button, Form, Modal } from 'react-bootstrap';
import { Link, useParams } from 'react-router';
import { useChosen } from '../../ui/chosen';
import { storesQuery } from '../../ui/queries';
import { Empty, Failure, SkeletonRows } from '../../ui/states';
import { HiddenHead, Size, When } from '../../ui/words';
import { FolderChooser } from './folder-chooser';
import { trashQuery } from './queries';
import { namesOf, placeIsGone, useTrash } from './verbs';

/** What lies in the trash of a store: who put it there and from where, when it goes for good, and the way back. */
export function Trash() {
  const { storeId = '' } = useParams();
  const { data: list, error, refetch } = useQuery(trashQuery(storeId));
  if (error) return <Failure error={error} again={() => void refetch()} />;
  if (!list) return <SkeletonRows />;
  return <OpenTrash list={list} storeId={storeId} />;
}

function OpenTrash({ list: { items, more }, storeId }: { list: TrashList; storeId: string }) {
  const { data: stores } = useQuery(storesQuery);
  const store = stores?.find((s) => s.id === storeId);
  const verbs = useTrash();
  const chosen = useChosen();
  const [placing, setPlacing] = useState<TrashItem[] | null>(null);
  const [purging, setPurging] = useState<TrashItem[] | null>(null);
  const selected = items.filter((i) => chosen.ids.has(i.id));
  const putBack = (those: TrashItem[]) => {
    chosen.clear();
    // Where the old place is gone, another is asked for.
    if (those.some((i) => !i.placeIsThere)) return setPlacing(those);
    const nodeIds = those.map((i) => i.id);
    verbs.putBack.mutate({ nodeIds }, { onError: (e) => placeIsGone(e) && setPlacing(those) });
  };
  const purge = (those: TrashItem[]) => {
    chosen.clear();
    for (let at = 0; at < those.length; at += MOST_ITEMS) verbs.purge.mutate(those.slice(at, at + MOST_ITEMS));
    setPurging(null);
  };
  const tools = { items, selected, putBack, place: setPlacing, purge: setPurging };
  return (
    <>
      <div className="title-line">
        <h1>
          Trash of {store?.kind === 'home' ? 'my files' : (store?.name ?? 'this store')}: {more && 'more than '}
          {countOf(items.length, 'item')}, {formatSize(items.reduce((sum, i) => sum + i.sizeBytes, 0))}.
        </h1>
        <div className="tools">
          <Tools {...tools} />
          {store && (
            <Link className="btn btn-plain" to={`/stores/${store.rootId}`}>
              Back to the store
            </Link>
          )}
        </div>
      </div>
      {items.length === 0 ? (
        <Empty>What is moved to the trash waits here, and can be put back where it was.</Empty>
      ) : (
        <TrashTable items={items} chosen={chosen} putBack={putBack} busy={verbs.putBack.isPending} />
      )}
      {more && <p className="quiet mt-2">These are the newest. When some of them are gone, the next are shown.</p>}
      {placing && (
        <FolderChooser
          title={`Put ${namesOf(placing)} into another folder`}
          verb="Put into"
          startId={store?.rootId ?? null}
          choose={(to) => verbs.putBack.mutate({ nodeIds: placing.map((i) => i.id), toFolderId: to.id })}
          close={() => setPlacing(null)}
        />
      )}
      {purging && <PurgeDialog items={purging} purge={purge} close={() => setPurging(null)} />}
    </>
  );
}

interface ToolsProps {
  items: TrashItem[];
  selected: TrashItem[];
  putBack: (items: TrashItem[]) => void;
  place: (items: TrashItem[]) => void;
  purge: (items: TrashItem[]) => void;
}

function Tools({ items, selected, putBack, place, purge }: ToolsProps) {
  const removable = items.filter((i) => i.removable);
  if (selected.length === 0)
    return removable.length > 0 ? (
      <Button variant="plain" onClick={() => purge(removable)}>
        Empty the trash
      </Button>
    ) : null;
  return (
    <>
      <Button variant="plain" onClick={() => putBack(selected)}>
        Put {selected.length} back
      </Button>
      <Button variant="plain" onClick={() => place(selected)}>
        Put elsewhere
      </Button>
      {selected.every((i) => i.removable) && (
        <Button variant="danger" onClick={() => purge(selected)}>
          Remove for good
        </Button>
      )}
    </>
  );
}

interface TableProps {
  items: TrashItem[];
  chosen: ReturnType<typeof useChosen>;
  putBack: (items: TrashItem[]) => void;
  busy: boolean;
}

function TrashTable({ items, chosen, putBack, busy }: TableProps) {
  return (
    <table className="rows">
      <thead>
        <tr>
          <HiddenHead>Selected</HiddenHead>
          <th>Name</th>
          <th>From</th>
          <th className="number">Size</th>
          <th>When</th>
          <th>Who</th>
          <th>Goes for good</th>
          <HiddenHead>Put back</HiddenHead>
        </tr>
      </thead>
      <tbody>
        {items.map((i) => (
          <tr key={i.id}>
            <td>
              <Form.Check
                aria-label={`Select ${i.name}`}
                checked={chosen.ids.has(i.id)}
                onChange={() => chosen.toggle(i.id)}
              />
            </td>
            <td>
              <i className={`bi ${i.kind === 'folder' ? 'bi-folder' : 'bi-file-earmark'} me-2`} aria-hidden />
              {i.name}
            </td>
            <td className={i.placeIsThere ? undefined : 'quiet'}>
              {i.from}
              {!i.placeIsThere && ' (gone)'}
            </td>
            <td className="number">
              <Size bytes={i.sizeBytes} />
            </td>
            <td>
              <When at={i.trashedAt} brief />
            </td>
            <td>{i.trashedBy}</td>
            <td className="quiet">{i.purgeAt ? <When at={i.purgeAt} brief /> : 'never by itself'}</td>
            <td className="number">
              <Button variant="plain" size="sm" disabled={busy} onClick={() => putBack([i])}>
                Put back<span className="visually-hidden"> {i.name}</span>
              </Button>
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

interface PurgeProps {
  items: TrashItem[];
  purge: (items: TrashItem[]) => void;
  close: () => void;
}

function PurgeDialog({ items, purge, close }: PurgeProps) {
  return (
    <Modal show onHide={close} aria-labelledby="purge-title" restoreFocus>
      <Modal.Header closeButton>
        <Modal.Title as="h2" className="h5" id="purge-title">
          Remove {namesOf(items)} for good?
        </Modal.Title>
      </Modal.Header>
      <Modal.Body>
        This cannot be taken back. Only a backup holds the bytes then. What a live share still needs stays.
      </Modal.Body>
      <Modal.Footer>
        <Button variant="plain" autoFocus onClick={close}>
          Leave it in the trash
        </Button>
        <Button variant="danger" onClick={() => purge(items)}>
          Remove for good
        </Button>
      </Modal.Footer>
    </Modal>
  );
}
