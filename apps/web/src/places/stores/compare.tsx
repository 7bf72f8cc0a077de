import type { NodeItem, VersionRow } from '@quay/contract';
import { formatSize, previewKind, type textDifference } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { useEffect, useState } from 'react';
import { Button, Modal } from 'react-bootstrap';
import { SkeletonRows } from '../../ui/states';
import { When } from '../../ui/words';
import { textQuery } from './queries';
import { Preview } from './viewer';
import './compare.scss';

type Difference = ReturnType<typeof textDifference>;

/** Two versions of a file: sizes always; texts line by line; pictures side by side. */
export function Compare({
  item,
  before,
  after,
  close,
  bringBack,
}: {
  item: NodeItem;
  before: VersionRow;
  after: VersionRow;
  close: () => void;
  bringBack: () => void;
}) {
  const kind = previewKind(item.name);
  const grown = after.sizeBytes - before.sizeBytes;
  return (
    <Modal show onHide={close} size="xl" scrollable aria-labelledby="compare-title" restoreFocus>
      <Modal.Header closeButton>
        <Modal.Title as="h2" className="h5" id="compare-title">
          {item.name}: version {before.number} and version {after.number}
        </Modal.Title>
      </Modal.Header>
      <Modal.Body>
        <p>
          Version {before.number}, <When at={before.createdAt} />: {formatSize(before.sizeBytes)}. Version{' '}
          {after.number}, <When at={after.createdAt} />: {formatSize(after.sizeBytes)}.{' '}
          {before.sha256 === after.sha256
            ? 'The bytes are the same.'
            : grown === 0
              ? 'As long as before, and different.'
              : `${formatSize(Math.abs(grown))} ${grown > 0 ? 'more' : 'less'}.`}
        </p>
        {kind === 'text' || kind === 'table' ? (
          <TextDifference id={item.id} before={before.number} after={after.number} />
        ) : kind === 'image' || kind === 'pages' ? (
          <div className="side-by-side">
            {[before, after].map((v) => (
              <figure key={v.number}>
                <figcaption>Version {v.number}</figcaption>
                <Preview id={item.id} name={item.name} kind={kind} pages={null} version={v.number} />
              </figure>
            ))}
          </div>
        ) : (
          <p className="quiet">Files of this kind are compared by their size and checksum only.</p>
        )}
      </Modal.Body>
      <Modal.Footer>
        <Button variant="plain" onClick={close}>
          Close
        </Button>
        <Button
          onClick={() => {
            bringBack();
            close();
          }}
        >
          Bring version {before.number} back
        </Button>
      </Modal.Footer>
    </Modal>
  );
}

function TextDifference({ id, before, after }: { id: string; before: number; after: number }) {
  const { data: old } = useQuery(textQuery(id, before));
  const { data: now } = useQuery(textQuery(id, after));
  const [difference, setDifference] = useState<Difference | null>(null);
  useEffect(() => {
    if (!old || !now) return;
    const worker = new Worker(new URL('./difference.worker.ts', import.meta.url), { type: 'module' });
    worker.onmessage = (event: MessageEvent<Difference>) => setDifference(event.data);
    worker.postMessage({ before: old.text, after: now.text });
    return () => worker.terminate();
  }, [old, now]);
  if (!difference) return <SkeletonRows count={4} />;
  return (
    <>
      <p className="quiet mb-1">
        {difference.added} lines added, {difference.removed} removed
        {old?.truncated || now?.truncated ? ', in the beginning that is compared' : ''}.
      </p>
      <div className="difference" tabIndex={0} role="region" aria-label="Differences">
        {difference.lines.map((line, i) => (
          <div key={i} className={line.kind}>
            <span aria-hidden>{{ added: '+', removed: '-', same: ' ', gap: ' ' }[line.kind]}</span>
            {line.kind === 'added' && <span className="visually-hidden">added: </span>}
            {line.kind === 'removed' && <span className="visually-hidden">removed: </span>}
            {line.text}
          </div>
        ))}
      </div>
    </>
  );
}
