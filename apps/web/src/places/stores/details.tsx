import type { NodeItem, VersionRow } from '@quay/contract';
import { formatExactBytes, previewKind } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Dropdown, Modal } from 'react-bootstrap';
import { Link } from 'react-router';
import { CopyLine } from '../../ui/copy';
import { StateMark } from '../../ui/state-mark';
import { SkeletonRows } from '../../ui/states';
import { Size, When } from '../../ui/words';
import { Compare } from './compare';
import { sharesOfQuery } from '../../ui/queries';
import { infoQuery, tagsQuery, versionsQuery } from './queries';
import { useRestoring } from './verbs';
import { TagChip } from './tags';
import { Preview } from './viewer';
import { WhoReaches } from './who-reaches';
import './details.scss';

/** Everything about the item in focus: what it looks like, its facts, where it is shared, its versions. */
export function Details({
  item,
  folderId,
  close,
  view,
}: {
  item: NodeItem | null;
  folderId: string;
  close: () => void;
  view: (item: NodeItem) => void;
}) {
  return (
    <aside className="details" aria-label="Details">
      <div className="details-head">
        <h2>{item ? <bdi>{item.name}</bdi> : 'Details'}</h2>
        <button type="button" className="btn btn-sm" aria-label="Close the details" onClick={close}>
          <i className="bi bi-x-lg" aria-hidden />
        </button>
      </div>
      {item ? (
        <About key={item.id} item={item} view={view} />
      ) : (
        <>
          <p className="quiet">Choose an item to see what it is, where it is shared and what it was before.</p>
          <WhoReaches key={folderId} folderId={folderId} />
        </>
      )}
    </aside>
  );
}

function About({ item, view }: { item: NodeItem; view: (item: NodeItem) => void }) {
  const { data: info, error } = useQuery(infoQuery(item.id));
  const { data: tags = [] } = useQuery(tagsQuery);
  if (error) return <p className="quiet">{error.message}</p>;
  if (!info) return <SkeletonRows count={5} />;
  const kind = previewKind(item.name);
  return (
    <>
      {item.kind === 'file' && ['image', 'pages', 'text', 'table'].includes(kind) && (
        <div className={`details-picture ${kind}`}>
          <div inert>
            <Preview id={item.id} name={item.name} kind={kind} pages={null} />
          </div>
          <button type="button" aria-label={`Look at ${item.name}`} onClick={() => view(item)} />
        </div>
      )}
      {info.damaged && (
        <p className="field-fault">
          Its bytes are damaged or missing on the server. An earlier version may be whole; a backup is.
        </p>
      )}
      <dl className="facts">
        <dt>Size</dt>
        <dd title={formatExactBytes(info.sizeBytes)}>
          <Size bytes={info.sizeBytes} />
          {info.kind === 'folder' && `, ${info.files.toLocaleString('en-GB')} files`}
        </dd>
        <dt>Changed</dt>
        <dd>
          <When at={info.changedAt} /> {info.changedBy && <span className="quiet">by {info.changedBy}</span>}
        </dd>
        <dt>Made</dt>
        <dd>
          <When at={info.createdAt} />
        </dd>
        {info.sha256 && (
          <>
            <dt>SHA-256</dt>
            <dd>
              <CopyLine value={info.sha256} label="checksum" />
            </dd>
          </>
        )}
        {info.tags.length > 0 && (
          <>
            <dt>Tags</dt>
            <dd>
              {tags
                .filter((t) => info.tags.includes(t.id))
                .map((t) => (
                  <TagChip key={t.id} tag={t} />
                ))}
            </dd>
          </>
        )}
      </dl>
      <SharedAt id={item.id} />
      <WhoReaches folderId={item.kind === 'folder' ? item.id : item.parentId} itemId={item.id} />
      {item.kind === 'file' && <Versions item={item} />}
    </>
  );
}

function SharedAt({ id }: { id: string }) {
  const { data: shares = [] } = useQuery(sharesOfQuery(id));
  return (
    <section>
      <h3>Shared</h3>
      {shares.length === 0 && <p className="quiet mb-0">Nobody outside can reach it.</p>}
      {shares.map((s) => (
        <div key={s.id} className="shared-at">
          <StateMark state={s.state} />
          <span>
            {s.mine ? <Link to={`/shares/${s.id}`}>{s.title}</Link> : s.title}
            {s.through && <span className="quiet"> through {s.through}</span>}
            <br />
            <span className="quiet">
              {s.lastTakenAt ? (
                <>
                  taken by outsiders <When at={s.lastTakenAt} brief />
                </>
              ) : s.lastVisitAt ? (
                <>
                  last visit <When at={s.lastVisitAt} brief />, not taken
                </>
              ) : (
                'no visit yet'
              )}
            </span>
          </span>
        </div>
      ))}
    </section>
  );
}

function Versions({ item }: { item: NodeItem }) {
  const { data } = useQuery(versionsQuery(item.id));
  const verbs = useRestoring();
  const [comparing, setComparing] = useState<VersionRow | null>(null);
  const [looking, setLooking] = useState<VersionRow | null>(null);
  if (!data) return null;
  const current = data.versions[0];
  return (
    <section>
      <h3>Versions</h3>
      <p className="quiet small mb-1">{data.policy}</p>
      {data.versions.map((v) => (
        <VersionLine
          key={v.number}
          item={item}
          version={v}
          verbs={verbs}
          look={() => setLooking(v)}
          compare={current && !v.current ? () => setComparing(v) : null}
        />
      ))}
      {looking && <VersionLook item={item} number={looking.number} close={() => setLooking(null)} />}
      {comparing && current && (
        <Compare
          item={item}
          before={comparing}
          after={current}
          close={() => setComparing(null)}
          bringBack={() => verbs.restoreVersion.mutate({ id: item.id, number: comparing.number })}
        />
      )}
    </section>
  );
}

interface LineProps {
  item: NodeItem;
  version: VersionRow;
  verbs: ReturnType<typeof useRestoring>;
  look: () => void;
  /** With the present one; null: this is it. */
  compare: (() => void) | null;
}

function VersionLine({ item, version: v, verbs, look, compare }: LineProps) {
  return (
    <div className="version-row">
      <strong>v{v.number}</strong>
      <span className="text-truncate" title={v.createdBy ?? undefined}>
        <When at={v.createdAt} brief /> <span className="quiet">{v.createdBy}</span>
      </span>
      <span className="number">
        <Size bytes={v.sizeBytes} />
      </span>
      {v.kept ? (
        <i className="bi bi-lock-fill" role="img" aria-label="Kept for ever" title="Kept for ever" />
      ) : (
        <span />
      )}
      <Dropdown align="end">
        <Dropdown.Toggle
          variant="plain"
          size="sm"
          className="no-caret border-0"
          aria-label={`What to do with version ${v.number}`}
        >
          <i className="bi bi-three-dots" aria-hidden />
        </Dropdown.Toggle>
        <Dropdown.Menu>
          <Dropdown.Item href={`/api/files/${item.id}/content?version=${v.number}`} download>
            Download
          </Dropdown.Item>
          <Dropdown.Item onClick={look}>Look at it</Dropdown.Item>
          {compare && <Dropdown.Item onClick={compare}>Compare with the present one</Dropdown.Item>}
          {!v.current && (
            <Dropdown.Item onClick={() => verbs.restoreVersion.mutate({ id: item.id, number: v.number })}>
              Bring back
            </Dropdown.Item>
          )}
          <Dropdown.Item onClick={() => verbs.keepVersion.mutate({ id: item.id, number: v.number, kept: !v.kept })}>
            {v.kept ? 'Keep no longer than others' : 'Keep for ever'}
          </Dropdown.Item>
        </Dropdown.Menu>
      </Dropdown>
    </div>
  );
}

function VersionLook({ item, number, close }: { item: NodeItem; number: number; close: () => void }) {
  return (
    <Modal show size="xl" scrollable onHide={close} aria-labelledby="version-title" restoreFocus>
      <Modal.Header closeButton>
        <Modal.Title as="h2" className="h5" id="version-title">
          {item.name}, version {number}
        </Modal.Title>
      </Modal.Header>
      <Modal.Body className="version-view">
        <Preview id={item.id} name={item.name} kind={previewKind(item.name)} pages={null} version={number} />
      </Modal.Body>
    </Modal>
  );
}
