import type { FolderHead, NodeItem, SeenAs, StoreSummary } from '@quay/contract';
import { countOf, LEVEL_WORDS } from '@quay/core';
import { useInfiniteQuery, useQuery } from '@tanstack/react-query';
import { Button } from 'react-bootstrap';
import { Link, useNavigate } from 'react-router';
import { useKeys } from '../../ui/keys';
import { Empty, Failure, SkeletonRows } from '../../ui/states';
import { Size, When } from '../../ui/words';
import { SharedTable } from '../../ui/shared-table';
import { iconOf } from '../stores/icons';
import { SeenSharePage } from './seen-share';
import { seenAsQuery, seenFolderQuery } from './queries';
import './seen-as.scss';

interface Place {
  personId: string;
  folderId: string | undefined;
  shareId: string | undefined;
}

/** What somebody else gets, to look at and not to touch. Their home is not shown to anybody. */
export function SeenAsView({ personId, folderId, shareId }: Place) {
  const { data: start, error, refetch } = useQuery(seenAsQuery(personId));
  const navigate = useNavigate();
  useKeys({ escape: () => void navigate(`/people/staff/${personId}`) });
  if (error) return <Failure error={error} again={() => void refetch()} />;
  if (!start) return <SkeletonRows count={5} />;
  const { person } = start;
  return (
    <div className="seen-as">
      <div className="seen-band" role="note">
        <span>
          As <strong>{person.name}</strong> gets it. Nothing can be changed here, their home is left out, and the ledger
          says that you looked.
        </span>
        <Link
          className="btn btn-plain btn-sm"
          to={`/people/${person.role === 'guest' ? 'guests' : 'staff'}/${personId}`}
        >
          Enough seen
        </Link>
      </div>
      {shareId ? (
        <SeenSharePage personId={personId} shareId={shareId} />
      ) : folderId ? (
        <Folder personId={personId} folderId={folderId} />
      ) : (
        <Start start={start} />
      )}
    </div>
  );
}

function Start({ start }: { start: SeenAs }) {
  return (
    <>
      <div className="title-line">
        <h1>{countOf(start.stores.length, 'store')}.</h1>
      </div>
      {start.stores.length === 0 && <Empty>They see no store but their own files.</Empty>}
      <ul className="seen-stores">
        {start.stores.map((store) => (
          <li key={store.rootId}>
            <StoreLink store={store} personId={start.person.id} />
          </li>
        ))}
      </ul>
      <Hidden count={start.hidden} what="store" />
      <SharedTable
        title="Shared with them"
        shares={start.shares}
        hrefOf={(share) => `/people/as/${start.person.id}/shares/${share.id}`}
      />
      <Hidden count={start.hiddenShares} what="share" />
    </>
  );
}

function StoreLink({ store, personId }: { store: StoreSummary; personId: string }) {
  return (
    <Link to={`/people/as/${personId}/${store.rootId}`}>
      <i className={`bi ${store.part ? 'bi-folder' : 'bi-hdd-stack'}`} aria-hidden />
      <span>
        <strong>{store.name}</strong>{' '}
        <span className="quiet">{store.archivedAt ? 'archived' : LEVEL_WORDS[store.level]}</span>
      </span>
      <span className="number quiet">{countOf(store.itemCount, 'file')}</span>
    </Link>
  );
}

function Folder({ personId, folderId }: { personId: string; folderId: string }) {
  const { data, error, refetch, hasNextPage, fetchNextPage, isFetchingNextPage } = useInfiniteQuery(
    seenFolderQuery(personId, folderId),
  );
  if (error) return <Failure error={error} again={() => void refetch()} />;
  const head = data?.pages[0]?.page.folder;
  if (!data || !head) return <SkeletonRows count={5} />;
  const items = data.pages.flatMap((p) => p.page.items);
  return (
    <>
      <Path head={head} personId={personId} />
      <div className="title-line">
        <h1>
          {head.name}.{' '}
          <span className="quiet">{head.archivedAt ? 'Archived.' : `They ${LEVEL_WORDS[head.level]} here.`}</span>
        </h1>
      </div>
      {items.length === 0 ? (
        <Empty>They see nothing in this folder.</Empty>
      ) : (
        <Items items={items} personId={personId} />
      )}
      <Hidden count={data.pages.reduce((sum, p) => sum + p.hidden, 0)} what="item" />
      {hasNextPage && (
        <Button variant="plain" size="sm" disabled={isFetchingNextPage} onClick={() => void fetchNextPage()}>
          Show more
        </Button>
      )}
    </>
  );
}

function Path({ head, personId }: { head: FolderHead; personId: string }) {
  return (
    <nav className="seen-path" aria-label="Where they are">
      <Link to={`/people/as/${personId}`}>Stores</Link>
      {head.path.slice(0, -1).map((part) => (
        <span key={part.id}>
          {' / '}
          {part.name === '…' ? '…' : <Link to={`/people/as/${personId}/${part.id}`}>{part.name}</Link>}
        </span>
      ))}
    </nav>
  );
}

function Items({ items, personId }: { items: NodeItem[]; personId: string }) {
  return (
    <table className="rows">
      <thead>
        <tr>
          <th>Name</th>
          <th className="number">Size</th>
          <th>Changed</th>
          <th>By</th>
        </tr>
      </thead>
      <tbody>
        {items.map((item) => (
          <tr key={item.id}>
            <td className="first">
              <i className={`bi ${iconOf(item)}`} aria-hidden />{' '}
              {item.kind === 'folder' ? <Link to={`/people/as/${personId}/${item.id}`}>{item.name}</Link> : item.name}
            </td>
            <td className="number">
              {item.kind === 'folder' ? countOf(item.itemCount ?? 0, 'item') : <Size bytes={item.sizeBytes} />}
            </td>
            <td>
              <When at={item.changedAt} brief />
            </td>
            <td className="quiet">{item.changedBy}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** They see more than whoever looks: what it is called is not told. */
function Hidden({ count, what }: { count: number; what: string }) {
  if (count === 0) return null;
  return <p className="quiet">They see {countOf(count, `${what} more`, `${what}s more`)}, which you may not.</p>;
}
