import { countOf, formatSize } from '@quay/core';
import { useEffect } from 'react';
import { Button, Modal, Overlay, Popover } from 'react-bootstrap';
import { useRef } from 'react';
import { useTransfers, type Transfer } from './store';

/** The running transfers: a button in the bar with its panel, and the question about names that are taken. */
export function TransfersButton() {
  const { list, shown, show, clear } = useTransfers();
  const target = useRef<HTMLButtonElement>(null);
  const running = list.filter((t) => t.state === 'sending' || t.state === 'waiting').length;
  useEffect(() => {
    const warn = (event: BeforeUnloadEvent) => running > 0 && event.preventDefault();
    window.addEventListener('beforeunload', warn);
    return () => window.removeEventListener('beforeunload', warn);
  }, [running]);
  return (
    <>
      <button ref={target} type="button" className="btn btn-sm border-0 position-relative" aria-label={running ? `Transfers: ${running} running` : 'Transfers'} aria-expanded={shown} onClick={() => show(!shown)}>
        <i className="bi bi-arrow-down-up" aria-hidden />
        {running > 0 && <span className="badge text-bg-primary ms-1">{running}</span>}
      </button>
      <Overlay target={target} show={shown} placement="bottom-end" rootClose={running === 0} onHide={() => show(false)}>
        <Popover id="transfers" className="mw-100" role="dialog" aria-label="Transfers">
          <div className="transfers">
            <div className="d-flex align-items-center gap-2 mb-1">
              <h2 className="small-head mb-0">Transfers</h2>
              <span className="quiet small">{summary(list)}</span>
              <Button variant="plain" size="sm" className="ms-auto" onClick={clear}>
                Clear
              </Button>
            </div>
            {list.length === 0 && <p className="quiet mb-1">Nothing is on its way. Drag files into a folder.</p>}
            {[...list].sort((a, b) => ORDER.indexOf(a.state) - ORDER.indexOf(b.state)).slice(0, 60).map((t) => (
              <Row key={t.id} transfer={t} />
            ))}
          </div>
        </Popover>
      </Overlay>
      <NamesTaken />
    </>
  );
}

const ORDER: Transfer['state'][] = ['sending', 'failed', 'waiting', 'done'];

function summary(list: Transfer[]): string {
  const total = list.reduce((sum, t) => sum + t.file.size, 0);
  const sent = list.reduce((sum, t) => sum + (t.state === 'done' ? t.file.size : t.sentBytes), 0);
  const done = list.filter((t) => t.state === 'done').length;
  const seconds = (Date.now() - useTransfers.getState().startedAt) / 1000;
  const rate = sent / Math.max(0.5, seconds);
  if (list.length === 0) return '';
  if (done === list.length) return `${countOf(done, 'file')} done, ${formatSize(total)}`;
  return `${done} of ${list.length}, ${formatSize(Math.round(rate))}/s, ${Math.max(1, Math.round((total - sent) / Math.max(rate, 1)))} s left`;
}

function Row({ transfer }: { transfer: Transfer }) {
  const { retry } = useTransfers();
  const part = transfer.file.size ? (100 * transfer.sentBytes) / transfer.file.size : transfer.state === 'done' ? 100 : 0;
  return (
    <div className="transfer">
      <div className="d-flex gap-2 align-items-baseline">
        <span className="text-truncate">{[...transfer.below, transfer.name].join('/')}</span>
        <span className="quiet small ms-auto text-nowrap">{transfer.state === 'done' ? `done, ${formatSize(transfer.file.size)}` : transfer.state === 'failed' ? 'not sent' : formatSize(transfer.file.size)}</span>
      </div>
      {transfer.state === 'sending' && (
        <div className="progress" role="progressbar" aria-label={transfer.name} aria-valuenow={Math.round(part)} aria-valuemin={0} aria-valuemax={100}>
          <div className="progress-bar" ref={(bar) => void (bar && (bar.style.width = `${part}%`))} />
        </div>
      )}
      {transfer.problem && (
        <div className="d-flex gap-2 align-items-start">
          <span className="field-fault">{transfer.problem}</span>
          {!transfer.code?.startsWith('name.') && (
            <Button size="sm" variant="plain" onClick={() => retry(transfer.id)}>
              Try again
            </Button>
          )}
        </div>
      )}
    </div>
  );
}

/** Asked once for all files of a batch whose names are taken. */
function NamesTaken() {
  const { asking, decide, list } = useTransfers();
  const settled = !list.some((t) => t.state === 'sending' || t.state === 'waiting');
  return (
    <Modal show={asking.length > 0 && settled} onHide={() => decide('skip')} backdrop="static" aria-labelledby="taken-title">
      <Modal.Header>
        <Modal.Title as="h2" className="h5" id="taken-title">
          {asking.length === 1 ? 'One name is taken' : `${asking.length} names are taken`}
        </Modal.Title>
      </Modal.Header>
      <Modal.Body>
        <ul className="mb-0">
          {asking.slice(0, 6).map((t) => (
            <li key={t.id}>{[...t.below, t.name].join('/')}</li>
          ))}
          {asking.length > 6 && <li className="quiet">and {asking.length - 6} more</li>}
        </ul>
      </Modal.Body>
      <Modal.Footer>
        <Button variant="plain" onClick={() => decide('skip')}>
          Skip
        </Button>
        <Button variant="plain" onClick={() => decide('keep-both')}>
          Keep both
        </Button>
        <Button autoFocus onClick={() => decide('version')}>
          Keep as new version
        </Button>
      </Modal.Footer>
    </Modal>
  );
}
