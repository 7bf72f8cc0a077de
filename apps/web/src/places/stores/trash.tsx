import type { TrashItem } from '@quay/contract';
import { countOf, formatSize } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Button, Form, Modal } from 'react-bootstrap';
import { Link, useParams } from 'react-router';
import { ApiProblem } from '../../ui/api';
import { storesQuery } from '../../ui/queries';
import { Empty, Failure, SkeletonRows } from '../../ui/states';
import { Size, When } from '../../ui/words';
import { FolderChooser } from './folder-chooser';
import { trashQuery } from './queries';
import { useTrash } from './verbs';

/** What lies in the trash of a store: who put it there and from where, when it goes for good, and the way back. */
export function Trash() {
  const { storeId = '' } = useParams();
  const { data: list, error, refetch } = useQuery(trashQuery(storeId));
  const { data: stores } = useQuery(storesQuery);
  const store = stores?.find((s) => s.id === storeId);
  const verbs = useTrash();
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
  const [placing, setPlacing] = useState<TrashItem[] | null>(null);
  const [purging, setPurging] = useState<TrashItem[] | null>(null);
  if (error) return <Failure error={error} again={() => void refetch()} />;
  if (!list) return <SkeletonRows />;
  const { items, more } = list;
  const removable = items.filter((i) => i.removable);
  const selected = items.filter((i) => chosen.has(i.id));
  const toggle = (id: string) => {
    const next = new Set(chosen);
    if (!next.delete(id)) next.add(id);
    setChosen(next);
  };
  const putBack = (chosenItems: TrashItem[]) => {
    setChosen(new Set());
    // Where the old place is gone, another is asked for.
    if (chosenItems.some((i) => !i.placeIsThere)) setPlacing(chosenItems);
    else
      verbs.putBack.mutate(
        { nodeIds: chosenItems.map((i) => i.id) },
        { onError: (e) => e instanceof ApiProblem && e.code === 'trash.place-gone' && setPlacing(chosenItems) },
      );
  };
  return (
    <>
      <div className="title-line">
        <h1>
          Trash of {store?.kind === 'home' ? 'my files' : (store?.name ?? 'this store')}: {more && 'more than '}
          {countOf(items.length, 'item')}, {formatSize(items.reduce((sum, i) => sum + i.sizeBytes, 0))}.
        </h1>
        <div className="tools">
          {selected.length > 0 && (
            <>
              <Button variant="plain" onClick={() => putBack(selected)}>
                Put {selected.length} back
              </Button>
              <Button variant="plain" onClick={() => setPlacing(selected)}>
                Put elsewhere
              </Button>
              {selected.every((i) => i.removable) && (
                <Button variant="danger" onClick={() => setPurging(selected)}>
                  Remove for good
                </Button>
              )}
            </>
          )}
          {selected.length === 0 && removable.length > 0 && (
            <Button variant="plain" onClick={() => setPurging(removable)}>
              Empty the trash
            </Button>
          )}
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
        <table className="rows">
          <thead>
            <tr>
              <th>
                <span className="visually-hidden">Selected</span>
              </th>
              <th>Name</th>
              <th>From</th>
              <th className="number">Size</th>
              <th>When</th>
              <th>Who</th>
              <th>Goes for good</th>
              <th>
                <span className="visually-hidden">Put back</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {items.map((i) => (
              <tr key={i.id}>
                <td>
                  <Form.Check
                    aria-label={`Select ${i.name}`}
                    checked={chosen.has(i.id)}
                    onChange={() => toggle(i.id)}
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
                  <Button variant="plain" size="sm" disabled={verbs.putBack.isPending} onClick={() => putBack([i])}>
                    Put back<span className="visually-hidden"> {i.name}</span>
                  </Button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {more && <p className="quiet mt-2">These are the newest. When some of them are gone, the next are shown.</p>}
      {placing && (
        <FolderChooser
          title={
            placing.length === 1
              ? `Put ${placing[0]?.name} into another folder`
              : `Put ${placing.length} items into another folder`
          }
          verb="Put into"
          startId={store?.rootId ?? null}
          choose={(to) => verbs.putBack.mutate({ nodeIds: placing.map((i) => i.id), toFolderId: to.id })}
          close={() => setPlacing(null)}
        />
      )}
      {purging && (
        <Modal show onHide={() => setPurging(null)} aria-labelledby="purge-title" restoreFocus>
          <Modal.Header closeButton>
            <Modal.Title as="h2" className="h5" id="purge-title">
              Remove {purging.length === 1 ? purging[0]?.name : countOf(purging.length, 'item')} for good?
            </Modal.Title>
          </Modal.Header>
          <Modal.Body>
            This cannot be taken back. Only a backup holds the bytes then. What a live share still needs stays.
          </Modal.Body>
          <Modal.Footer>
            <Button variant="plain" autoFocus onClick={() => setPurging(null)}>
              Leave it in the trash
            </Button>
            <Button
              variant="danger"
              onClick={() => {
                setChosen(new Set());
                for (let at = 0; at < purging.length; at += 200) verbs.purge.mutate(purging.slice(at, at + 200));
                setPurging(null);
              }}
            >
              Remove for good
            </Button>
          </Modal.Footer>
        </Modal>
      )}
    </>
  );
}
