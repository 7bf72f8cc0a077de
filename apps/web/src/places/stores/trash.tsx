import { countOf, formatSize } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { Button } from 'react-bootstrap';
import { Link, useParams } from 'react-router';
import { storesQuery } from '../../ui/queries';
import { Empty, Failure, SkeletonRows } from '../../ui/states';
import { Size, When } from '../../ui/words';
import { trashQuery, useFolderVerbs } from './queries';

/** What lies in the trash of a store, with who put it there and from where. */
export function Trash() {
  const { storeId = '' } = useParams();
  const { data: items, error, refetch } = useQuery(trashQuery(storeId));
  const { data: stores } = useQuery(storesQuery);
  const store = stores?.find((s) => s.id === storeId);
  const { putBack } = useFolderVerbs('');
  if (error) return <Failure error={error} again={() => void refetch()} />;
  if (!items) return <SkeletonRows />;
  return (
    <>
      <div className="title-line">
        <h1>
          Trash of {store?.kind === 'home' ? 'my files' : (store?.name ?? 'this store')}: {countOf(items.length, 'item')}, {formatSize(items.reduce((sum, i) => sum + i.sizeBytes, 0))}.
        </h1>
        {store && (
          <div className="tools">
            <Link className="btn btn-plain" to={`/stores/${store.rootId}`}>
              Back to the store
            </Link>
          </div>
        )}
      </div>
      {items.length === 0 ? (
        <Empty>What is moved to the trash waits here, and can be put back where it was.</Empty>
      ) : (
        <table className="rows">
          <thead>
            <tr>
              <th>Name</th>
              <th>From</th>
              <th className="number">Size</th>
              <th>When</th>
              <th>Who</th>
              <th>
                <span className="visually-hidden">Put back</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {items.map((i) => (
              <tr key={i.id}>
                <td>
                  <i className={`bi ${i.kind === 'folder' ? 'bi-folder' : 'bi-file-earmark'} me-2`} aria-hidden />
                  {i.name}
                </td>
                <td>{i.from}</td>
                <td className="number">
                  <Size bytes={i.sizeBytes} />
                </td>
                <td>
                  <When at={i.trashedAt} />
                </td>
                <td>{i.trashedBy}</td>
                <td className="number">
                  <Button variant="plain" size="sm" disabled={putBack.isPending} onClick={() => putBack.mutate([i.id])}>
                    Put back<span className="visually-hidden"> {i.name}</span>
                  </Button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </>
  );
}
