import type { DepositFileRow, DepositRow } from '@quay/contract';
import { acceptFault, countOf, DEPOSIT_WORDS, hasThumbnail, isDoubtful, previewKind } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { lazy, Suspense, useState } from 'react';
import { Button, Form } from 'react-bootstrap';
import { Link } from 'react-router';
import { tellFailure, useNotices } from '../../ui/notices';
import { Size, When } from '../../ui/words';
import { Picture } from '../stores/picture';
import { AskBackPart } from './ask-back';
import { depositQuery, useDecide } from './queries';
import './deposit.scss';

const DepositViewer = lazy(() => import('./deposit-viewer'));

interface DepositProps {
  deposit: DepositRow;
  into: string;
  /** A scanner looks at what is handed in. */
  isScanned: boolean;
  /** Contributors can answer: something can be handed in now. */
  mayAsk: boolean;
}

/** What somebody handed in, and what is decided about it. */
export function Deposit({ deposit: row, into, isScanned, mayAsk }: DepositProps) {
  const isMore = row.fileCount > row.files.length;
  const [isOpen, setIsOpen] = useState(false);
  const all = useQuery({ ...depositQuery(row.id), enabled: isOpen && isMore });
  const deposit = isOpen && all.data ? all.data : row;
  const [unticked, setUnticked] = useState<ReadonlySet<string>>(new Set());
  const [ticked, setTicked] = useState<ReadonlySet<string>>(new Set());
  const [looked, setLooked] = useState<string | null>(null);
  const open = deposit.files.filter((f) => f.decided === null);
  const shown = open.filter((f) => canBeLookedAt(f, isScanned));
  const isChosen = (f: DepositFileRow) => (isDoubtful(f) ? ticked.has(f.id) : !unticked.has(f.id));
  const choose = (f: DepositFileRow, on: boolean) => {
    if (isDoubtful(f)) setTicked(toggled(ticked, f.id, on));
    else setUnticked(toggled(unticked, f.id, !on));
  };
  return (
    <article className="deposit" aria-label={`${deposit.number}, ${deposit.who}`}>
      <header>
        <strong>{deposit.who}</strong>
        <span className="quiet small">
          <When at={deposit.at} /> · {countOf(deposit.fileCount, 'file')}, <Size bytes={deposit.bytes} /> ·{' '}
          <a href={deposit.receiptLink} target="_blank" rel="noreferrer">
            receipt {deposit.number}
          </a>
        </span>
      </header>
      <Said deposit={deposit} />
      <ul className="deposit-files">
        {deposit.files.map((file) => (
          <File
            key={file.id}
            depositId={deposit.id}
            file={file}
            isChosen={isChosen(file)}
            choose={(on) => choose(file, on)}
            look={shown.includes(file) ? () => setLooked(file.id) : null}
          />
        ))}
      </ul>
      {looked !== null && shown.some((f) => f.id === looked) && (
        <Suspense>
          <DepositViewer
            depositId={deposit.id}
            files={shown}
            id={looked}
            go={setLooked}
            close={() => setLooked(null)}
          />
        </Suspense>
      )}
      {isMore && !isOpen && (
        <Button size="sm" variant="plain" onClick={() => setIsOpen(true)}>
          Show all {row.fileCount.toLocaleString('en-GB')} files
        </Button>
      )}
      {isScanned && open.length > 0 && <Scanned files={open} />}
      {deposit.state === 'waiting' ? (
        <Decide
          deposit={deposit}
          open={open}
          chosen={open.filter(isChosen)}
          isAll={!isMore || isOpen}
          mayAccept={open.filter(isChosen).every((f) => acceptFault(f, isScanned) === null)}
          into={into}
        />
      ) : (
        <Decided deposit={deposit} />
      )}
      <AskBackPart deposit={deposit} mayAsk={mayAsk} />
    </article>
  );
}

function toggled(set: ReadonlySet<string>, id: string, on: boolean): ReadonlySet<string> {
  const next = new Set(set);
  if (on) next.add(id);
  else next.delete(id);
  return next;
}

/** What was asked and said, and that they were here before. */
function Said({ deposit: { answers, again, from, follows, provenAs } }: { deposit: DepositRow }) {
  return (
    <dl className="deposit-said">
      {answers.map(({ asked, said }) => (
        <div key={asked}>
          <dt>{asked}</dt>
          <dd>{said}</dd>
        </div>
      ))}
      {provenAs !== null && !answers.some((a) => a.said === provenAs) && (
        <div>
          <dt>Proven as</dt>
          <dd>{provenAs}</dd>
        </div>
      )}
      <div>
        <dt>From</dt>
        <dd>
          {from}
          {again && ', who handed something in before'}
          {follows !== null && `; it answers ${follows}`}
        </dd>
      </div>
    </dl>
  );
}

/** What is not as it should be. */
function verdictOf({ verdict, words, scan, finding }: DepositFileRow): string {
  const parts = [
    scan === 'found' && `the scanner found ${finding}`,
    scan === 'too-large' && 'too large for the scanner',
    verdict !== 'as-named' && words,
  ];
  return parts.filter(Boolean).join('; ');
}

/** What the scanner has come to, where there is one. */
function Scanned({ files }: { files: DepositFileRow[] }) {
  const left = files.filter((f) => f.scan === null).length;
  const found = files.filter((f) => f.scan === 'found').length;
  if (left > 0) return <p className="small mb-1">The scanner has not looked at {countOf(left, 'file')} yet.</p>;
  return (
    <p className="small quiet mb-1">
      {found === 0 ? 'No finding by the scanner.' : `The scanner found something in ${countOf(found, 'file')}.`}
    </p>
  );
}

interface FileProps {
  depositId: string;
  file: DepositFileRow;
  isChosen: boolean;
  choose: (on: boolean) => void;
  /** Null: there is no way to show it here, or not yet. */
  look: (() => void) | null;
}

function File({ depositId, file, isChosen, choose, look }: FileProps) {
  const { id, path, sizeBytes, decided, node } = file;
  return (
    <li className={isDoubtful(file) && decided === null ? 'unwelcome' : undefined}>
      {decided === null && (
        <Form.Check aria-label={`Choose ${path}`} checked={isChosen} onChange={(e) => choose(e.target.checked)} />
      )}
      {look && <Look depositId={depositId} file={file} look={look} />}
      <span className="path">
        {node ? (
          <Link to={`/stores/${node.folderId}`}>
            <bdi>{path}</bdi>
          </Link>
        ) : decided === null ? (
          <a href={`/api/deposits/${depositId}/files/${id}/content`} download>
            <bdi>{path}</bdi>
          </a>
        ) : (
          <bdi>{path}</bdi>
        )}
        {decided === null && <span className="verdict">{verdictOf(file)}</span>}
      </span>
      <span className="quiet small text-nowrap">{decided ?? <Size bytes={sizeBytes} />}</span>
    </li>
  );
}

/** Whether there is a way to show a file, and the scanner has nothing against it. */
function canBeLookedAt(file: DepositFileRow, isScanned: boolean): boolean {
  const kind = previewKind(file.path);
  return (hasThumbnail(kind) || kind === 'text' || kind === 'table') && acceptFault(file, isScanned) === null;
}

function Look({ depositId, file: { id, path }, look }: { depositId: string; file: DepositFileRow; look: () => void }) {
  const icon = <i className="bi bi-eye" aria-hidden />;
  return (
    <button type="button" className="look" aria-label={`Look at ${path}`} onClick={look}>
      {hasThumbnail(previewKind(path)) ? (
        <Picture src={`/api/deposits/${depositId}/files/${id}/thumb`} alt="" otherwise={icon} />
      ) : (
        icon
      )}
    </button>
  );
}

interface DecideProps {
  deposit: DepositRow;
  open: DepositFileRow[];
  chosen: DepositFileRow[];
  /** All of its files are shown, so that they can be decided about. */
  isAll: boolean;
  /** The scanner has nothing against it. */
  mayAccept: boolean;
  into: string;
}

function Decide({ deposit, open, chosen, isAll, mayAccept, into }: DecideProps) {
  const { accept, refuse } = useDecide(deposit.id);
  const tell = useNotices((s) => s.show);
  const [isRefusing, setIsRefusing] = useState(false);
  const [reason, setReason] = useState('');
  const fileIds = chosen.map((f) => f.id);
  const isBusy = accept.isPending || refuse.isPending;
  const accepted = () =>
    accept.mutate(fileIds, {
      onSuccess: ({ accepted: count, left }) =>
        tell(
          left.length === 0
            ? `${countOf(count, 'file')} went into ${into}.`
            : `${countOf(count, 'file')} went into ${into}; not ${left[0]?.path}: ${left[0]?.words}`,
        ),
      onError: tellFailure,
    });
  const refused = () =>
    refuse.mutate({ fileIds, reason }, { onSuccess: () => setIsRefusing(false), onError: tellFailure });
  const some = chosen.length < open.length ? ` ${chosen.length}` : '';
  if (isRefusing)
    return (
      <form
        className="mt-2"
        onSubmit={(e) => {
          e.preventDefault();
          refused();
        }}
      >
        <Form.Group controlId={`why-${deposit.id}`}>
          <Form.Label className="small">
            Why {countOf(chosen.length, 'file')} {chosen.length === 1 ? 'is' : 'are'} refused. Their bytes go
            {deposit.answers.some((a) => a.asked === 'Mail') ? ', and this is told by mail.' : '.'}
          </Form.Label>
          <Form.Control
            size="sm"
            autoFocus
            maxLength={1000}
            value={reason}
            onChange={(e) => setReason(e.target.value)}
          />
        </Form.Group>
        <div className="verbs mt-2">
          <Button size="sm" type="submit" variant="danger" disabled={isBusy || reason.trim() === ''}>
            Refuse {countOf(chosen.length, 'file')}
          </Button>
          <Button size="sm" variant="plain" onClick={() => setIsRefusing(false)}>
            Cancel
          </Button>
        </div>
      </form>
    );
  return (
    <div className="verbs mt-2">
      <Button size="sm" disabled={isBusy || chosen.length === 0 || !isAll || !mayAccept} onClick={accepted}>
        Accept{some} into {into}
      </Button>
      <Button
        size="sm"
        variant="outline-danger"
        disabled={isBusy || chosen.length === 0 || !isAll}
        onClick={() => setIsRefusing(true)}
      >
        Refuse{some}
      </Button>
      {!isAll && <span className="quiet small">Show all files first.</span>}
    </div>
  );
}

function Decided({ deposit: { state, decidedAt, decidedBy, reason } }: { deposit: DepositRow }) {
  return (
    <p className="small quiet mb-0 mt-1">
      {DEPOSIT_WORDS[state]}
      {decidedBy ? ` by ${decidedBy}` : ' by the rule of this intake'}
      {decidedAt && (
        <>
          , <When at={decidedAt} />
        </>
      )}
      {reason !== '' && `: ${reason}`}
    </p>
  );
}
