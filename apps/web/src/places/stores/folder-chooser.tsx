import type { FolderPage } from '@quay/contract';
import { useInfiniteQuery, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Button, Modal } from 'react-bootstrap';
import { storesQuery } from '../../ui/queries';
import { Failure, SkeletonRows } from '../../ui/states';
import { folderQuery } from './queries';

const ORDER = { sort: 'name', descending: false, litter: false } as const;

/** Chooses a folder of any store: where to move, copy or put back to. */
export function FolderChooser({
  title,
  verb,
  startId,
  choose,
  close,
}: {
  title: string;
  verb: string;
  startId: string | null;
  choose: (folder: { id: string; name: string }) => void;
  close: () => void;
}) {
  const [at, setAt] = useState<string | null>(startId);
  return (
    <Modal show onHide={close} aria-labelledby="chooser-title" restoreFocus>
      <Modal.Header closeButton>
        <Modal.Title as="h2" className="h5" id="chooser-title">
          {title}
        </Modal.Title>
      </Modal.Header>
      {at === null ? (
        <StoreList go={setAt} />
      ) : (
        <FolderList id={at} go={setAt} verb={verb} choose={choose} close={close} />
      )}
    </Modal>
  );
}

function StoreList({ go }: { go: (id: string) => void }) {
  const { data: stores = [] } = useQuery(storesQuery);
  return (
    <Modal.Body className="chooser">
      {stores
        .filter((s) => s.acts.includes('add'))
        .map((s) => (
          <button key={s.rootId} type="button" onClick={() => go(s.rootId)}>
            <i className={`bi ${s.kind === 'home' ? 'bi-person' : 'bi-hdd-stack'}`} aria-hidden />{' '}
            {s.kind === 'home' ? 'My files' : s.name}
          </button>
        ))}
    </Modal.Body>
  );
}

function FolderList({
  id,
  go,
  verb,
  choose,
  close,
}: {
  id: string;
  go: (id: string | null) => void;
  verb: string;
  choose: (folder: { id: string; name: string }) => void;
  close: () => void;
}) {
  const pages = useInfiniteQuery(folderQuery(id, ORDER));
  const head: FolderPage['folder'] = pages.data?.pages[0]?.folder ?? null;
  const folders = pages.data?.pages.flatMap((p) => p.items).filter((i) => i.kind === 'folder') ?? [];
  const above = head && head.path.length > 1 ? (head.path.at(-2)?.id ?? null) : null;
  return (
    <>
      <Modal.Body className="chooser">
        {pages.error && <Failure error={pages.error} />}
        {!head && !pages.error && <SkeletonRows count={3} />}
        {head && (
          <>
            <button type="button" onClick={() => go(above)}>
              <i className="bi bi-arrow-90deg-up" aria-hidden /> {above ? head.path.at(-2)?.name : 'All stores'}
            </button>
            <p className="mb-1 mt-1">
              <strong>{head.name}</strong>
            </p>
            {folders.length === 0 && <p className="quiet mb-0">No folders inside.</p>}
            {folders.map((f) => (
              <button key={f.id} type="button" onClick={() => go(f.id)}>
                <i className="bi bi-folder" aria-hidden /> {f.name}
              </button>
            ))}
            {pages.hasNextPage && (
              <Button variant="plain" size="sm" onClick={() => void pages.fetchNextPage()}>
                More
              </Button>
            )}
          </>
        )}
      </Modal.Body>
      <Modal.Footer>
        <Button variant="plain" onClick={close}>
          Cancel
        </Button>
        <Button
          disabled={!head || !head.acts.includes('add')}
          onClick={() => {
            if (head) choose({ id: head.id, name: head.name });
            close();
          }}
        >
          {verb}
          {head && ` ${head.name}`}
        </Button>
      </Modal.Footer>
    </>
  );
}
