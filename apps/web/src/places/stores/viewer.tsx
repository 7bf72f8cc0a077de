import type { NodeItem } from '@quay/contract';
import { previewKind, type PreviewKind } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { useEffect, useRef, useState, type ReactNode } from 'react';
import { readDelimited } from '../../delimited';
import { useKeys } from '../../ui/keys';
import { Failure, SkeletonRows } from '../../ui/states';
import { Size } from '../../ui/words';
import { download } from './drag';
import { Picture } from './picture';
import { infoQuery, textQuery } from './queries';
import './viewer.scss';

/**
 * One file over the whole window; the arrow keys move through the folder. Nothing of the file runs here: it is shown as
 * pictures and text that the server made.
 */
export function Viewer({
  id,
  items,
  go,
  close,
}: {
  id: string;
  items: NodeItem[];
  go: (id: string) => void;
  close: () => void;
}) {
  const { data: info, error } = useQuery(infoQuery(id));
  const at = items.findIndex((i) => i.id === id);
  const step = (by: number) => {
    const next = items[at + by];
    if (next) go(next.id);
  };
  const name = info?.name ?? items[at]?.name ?? '';
  return (
    <ViewerFrame
      name={name}
      sizeBytes={info?.sizeBytes ?? null}
      place={{ at, of: items.length }}
      step={step}
      download={() => info && download([info])}
      close={close}
    >
      {error ? (
        <Failure error={error} />
      ) : name ? (
        <Preview key={id} id={id} name={name} kind={previewKind(name)} pages={info?.preview?.pages ?? null} />
      ) : (
        <SkeletonRows />
      )}
    </ViewerFrame>
  );
}

/** The window over everything in which one file after the other is looked at. */
export function ViewerFrame({
  name,
  sizeBytes,
  place: { at, of },
  step,
  download: take,
  close,
  children,
}: {
  name: string;
  sizeBytes: number | null;
  /** Which of how many it is, from 0; below 0: it is none of them. */
  place: { at: number; of: number };
  step: (by: number) => void;
  download: () => void;
  close: () => void;
  children: ReactNode;
}) {
  const box = useRef<HTMLDivElement>(null);
  useKeys({ escape: close, space: close, arrowright: () => step(1), arrowleft: () => step(-1) }, true);
  useEffect(() => {
    const before = document.activeElement as HTMLElement | null;
    box.current?.focus();
    return () => before?.focus();
  }, []);
  const isOneOfMany = at >= 0 && of > 1;
  return (
    <div ref={box} className="viewer" role="dialog" aria-modal="true" aria-label={name || 'File'} tabIndex={-1}>
      <header>
        <h2>{name}</h2>
        {sizeBytes !== null && (
          <span className="quiet">
            <Size bytes={sizeBytes} />
          </span>
        )}
        {isOneOfMany && (
          <span className="quiet ms-auto">
            {at + 1} of {of}
          </span>
        )}
        <button
          type="button"
          className={`btn btn-plain btn-sm${isOneOfMany ? '' : ' ms-auto'}`}
          aria-label="Previous file"
          disabled={at <= 0}
          onClick={() => step(-1)}
        >
          <i className="bi bi-arrow-left" aria-hidden />
        </button>
        <button
          type="button"
          className="btn btn-plain btn-sm"
          aria-label="Next file"
          disabled={at < 0 || at >= of - 1}
          onClick={() => step(1)}
        >
          <i className="bi bi-arrow-right" aria-hidden />
        </button>
        <button type="button" className="btn btn-plain btn-sm" onClick={take}>
          Download
        </button>
        <button type="button" className="btn btn-plain btn-sm" aria-label="Close" onClick={close}>
          <i className="bi bi-x-lg" aria-hidden />
        </button>
      </header>
      <div className="viewer-body">{children}</div>
    </div>
  );
}

/** What can be seen of a file, or of one of its versions. */
export function Preview({
  id,
  name,
  kind,
  pages,
  version,
  at = `/api/files/${id}`,
}: {
  id: string;
  name: string;
  kind: PreviewKind;
  pages: number | null;
  version?: number;
  /** What it is asked for below, where that is not its own path. */
  at?: string;
}) {
  const query = version ? `?version=${version}` : '';
  const bytes = `${at}/content?show=1${version ? `&version=${version}` : ''}`;
  switch (kind) {
    case 'image':
      return <Picture className="whole" src={`${at}/large${query}`} alt={name} otherwise={<Waiting />} />;
    case 'pages':
      return <Pages at={at} name={name} query={query} pages={pages} />;
    case 'text':
      return <Text id={id} version={version} at={at} />;
    case 'table':
      return <Table id={id} version={version} name={name} at={at} />;
    case 'audio':
      return <audio controls src={bytes} aria-label={name} />;
    case 'video':
      return <video controls src={bytes} aria-label={name} />;
    case 'none':
      return <p className="quiet m-auto">There is no way to show this kind of file here. Download it to open it.</p>;
  }
}

function Waiting() {
  return (
    <p className="quiet m-auto" role="status">
      Making a picture of it ...
    </p>
  );
}

function Pages({ at, name, query, pages }: { at: string; name: string; query: string; pages: number | null }) {
  const [page, setPage] = useState(1);
  const many = pages !== null && pages > 1;
  useKeys(
    {
      pagedown: () => setPage((p) => Math.min(pages ?? p, p + 1)),
      pageup: () => setPage((p) => Math.max(1, p - 1)),
    },
    true,
  );
  return (
    <div className="pages">
      <Picture
        className="whole"
        src={`${at}/pages/${page}${query}`}
        alt={`${name}, page ${page}`}
        otherwise={<Waiting />}
      />
      {many && (
        <div className="page-steps">
          <button
            type="button"
            className="btn btn-plain btn-sm"
            disabled={page === 1}
            onClick={() => setPage(page - 1)}
          >
            Previous page
          </button>
          <span>
            Page {page} of {pages}
          </span>
          <button
            type="button"
            className="btn btn-plain btn-sm"
            disabled={page === pages}
            onClick={() => setPage(page + 1)}
          >
            Next page
          </button>
        </div>
      )}
    </div>
  );
}

function Text({ id, version, at }: { id: string; version?: number; at: string }) {
  const { data, error } = useQuery(textQuery(id, version, at));
  if (error) return <p className="quiet m-auto">{error.message}</p>;
  if (!data) return <SkeletonRows />;
  return (
    <div className="text-view" tabIndex={0} role="region" aria-label="Text">
      {data.truncated && <p className="quiet">The beginning is shown; download the file for all of it.</p>}
      <pre>{data.text}</pre>
    </div>
  );
}

function Table({ id, version, name, at }: { id: string; version?: number; name: string; at: string }) {
  const { data, error } = useQuery(textQuery(id, version, at));
  if (error) return <p className="quiet m-auto">{error.message}</p>;
  if (!data) return <SkeletonRows />;
  const { head, body, isNumber, isWhole } = readDelimited(data.text, name);
  return (
    <div className="table-view" tabIndex={0} role="region" aria-label="Table">
      {(data.truncated || !isWhole) && (
        <p className="quiet">The beginning is shown; download the file for all of it.</p>
      )}
      <table className="rows">
        <thead>
          <tr>
            {head.map((cell, i) => (
              <th key={i} className={isNumber[i] ? 'number' : undefined}>
                {cell}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {body.map((row, i) => (
            <tr key={i}>
              {row.map((cell, j) => (
                <td key={j} className={isNumber[j] ? 'number' : undefined}>
                  {cell}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
