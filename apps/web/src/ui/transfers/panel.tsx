import { countOf, formatSize } from '@quay/core';
import { useEffect, useMemo, useRef } from 'react';
import { Button, Modal, Overlay, Popover } from 'react-bootstrap';
import { useAskBeforeLeaving } from '../leaving';
import { collect } from '../../collect';
import { durationWords, rateOf } from './plan';
import { isActive, type Transfer } from './machine';
import {
  clearTransfers,
  decideNames,
  pauseTransfers,
  recallTransfers,
  rejoinFiles,
  reopenFiles,
  resumeTransfers,
  showTransfers,
  useTransfers,
} from './store';
import './panel.scss';

/** What is shown as being on its way: what waits for a decision is asked about instead. */
function useShown(): Transfer[] {
  const { list } = useTransfers();
  return useMemo(() => list.filter((t) => t.state !== 'asking'), [list]);
}

/** The running transfers: a button in the bar with its panel, and the question about names that are taken. */
export function TransfersButton() {
  const { shown } = useTransfers();
  const list = useShown();
  const target = useRef<HTMLButtonElement>(null);
  const running = list.filter(isActive).length;
  const waiting = list.filter((t) => t.state === 'needs-file').length;
  useEffect(() => void recallTransfers(), []);
  useAskBeforeLeaving(running > 0);
  return (
    <>
      <button
        ref={target}
        type="button"
        className="btn btn-sm border-0 position-relative text-nowrap"
        aria-label={
          running
            ? `Transfers: ${running} running`
            : waiting
              ? `Transfers: ${waiting} wait for their files`
              : 'Transfers'
        }
        aria-expanded={shown}
        onClick={() => showTransfers(!shown)}
      >
        <i className="bi bi-arrow-down-up" aria-hidden />
        {running + waiting > 0 && (
          <span className={`badge ms-1 ${waiting ? 'text-bg-warning' : 'text-bg-primary'}`}>{running || waiting}</span>
        )}
      </button>
      <Overlay
        target={target}
        show={shown}
        placement="bottom-end"
        rootClose={running === 0}
        onHide={() => showTransfers(false)}
      >
        <Popover id="transfers" className="mw-100" role="dialog" aria-label="Transfers">
          <Panel list={list} />
        </Popover>
      </Overlay>
      <NamesTaken />
    </>
  );
}

const ORDER: Transfer['state'][] = [
  ...(['failed', 'needs-file', 'sending', 'again', 'paused', 'checking', 'waiting', 'done'] as const),
];
const ROWS_SHOWN = 60;

function Panel({ list }: { list: Transfer[] }) {
  const { samples } = useTransfers();
  const going = list.some((t) => ['checking', 'sending', 'waiting', 'again'].includes(t.state));
  const held = list.some((t) => t.state === 'paused' && t.file);
  const ended = list.some((t) => t.state === 'done' || t.state === 'failed');
  const sorted = [...list].sort((a, b) => ORDER.indexOf(a.state) - ORDER.indexOf(b.state));
  return (
    <div className="transfers">
      <div className="d-flex align-items-center gap-2 mb-1">
        <h2 className="small-head mb-0">Transfers</h2>
        {going && (
          <Button variant="plain" size="sm" className="ms-auto" onClick={() => pauseTransfers()}>
            Pause all
          </Button>
        )}
        {!going && held && (
          <Button variant="plain" size="sm" className="ms-auto" onClick={() => resumeTransfers()}>
            Go on with all
          </Button>
        )}
        {ended && (
          <Button variant="plain" size="sm" className={going || held ? '' : 'ms-auto'} onClick={() => clearTransfers()}>
            Clear
          </Button>
        )}
      </div>
      <p className="quiet small mb-1">
        {list.length === 0 ? 'Nothing is on its way. Drag files into a folder.' : summary(list, rateOf(samples))}
      </p>
      <FilesNeeded list={list} />
      {sorted.slice(0, ROWS_SHOWN).map((t) => (
        <Row key={t.id} transfer={t} />
      ))}
      {sorted.length > ROWS_SHOWN && (
        <p className="quiet small mt-1 mb-0">and {countOf(sorted.length - ROWS_SHOWN, 'more', 'more')}</p>
      )}
    </div>
  );
}

function summary(list: Transfer[], rate: number): string {
  const total = list.reduce((sum, t) => sum + t.sizeBytes, 0);
  const sent = list.reduce((sum, t) => sum + t.sentBytes, 0);
  const done = list.filter((t) => t.state === 'done').length;
  const failed = list.filter((t) => t.state === 'failed').length;
  if (done + failed === list.length)
    return `${countOf(done, 'file')} done, ${formatSize(sent)}${failed ? `; ${failed} not sent` : ''}`;
  const left = list.filter(isActive).reduce((sum, t) => sum + t.sizeBytes - t.sentBytes, 0);
  const pace = rate > 0 && left > 0 ? `, ${formatSize(Math.round(rate))}/s, ${durationWords(left / rate)} left` : '';
  return `${done} of ${countOf(list.length, 'file')}, ${formatSize(sent)} of ${formatSize(total)}${pace}`;
}

/** After a reload: files that the browser can open again by itself, and those it must ask for. */
function FilesNeeded({ list }: { list: Transfer[] }) {
  const chooser = useRef<HTMLInputElement>(null);
  const needed = list.filter((t) => t.state === 'needs-file');
  if (needed.length === 0) return null;
  return (
    <div className="files-needed">
      <p className="mb-1">
        {needed.length === 1
          ? `${needed[0]?.name} was not sent to the end.`
          : `${needed.length} files were not sent to the end.`}{' '}
        What has arrived is kept.
      </p>
      {needed.some((t) => t.handle) && (
        <Button size="sm" onClick={() => void reopenFiles()}>
          Go on
        </Button>
      )}
      <Button size="sm" variant="plain" onClick={() => chooser.current?.click()}>
        Choose {needed.length === 1 ? 'it' : 'them'} again
      </Button>
      <input
        ref={chooser}
        id="files-again"
        type="file"
        multiple
        hidden
        aria-label="Choose the files again"
        onChange={(e) => void collect(e.nativeEvent).then(rejoinFiles)}
      />
    </div>
  );
}

function Row({ transfer: t }: { transfer: Transfer }) {
  const part = t.sizeBytes ? (100 * t.sentBytes) / t.sizeBytes : t.state === 'done' ? 100 : 0;
  return (
    <div className="transfer">
      <div className="d-flex gap-2 align-items-center">
        <span className="text-truncate">{[...t.below, t.name].join('/')}</span>
        <span className="quiet small ms-auto text-nowrap">{wordsOf(t)}</span>
        {['sending', 'waiting', 'again'].includes(t.state) && (
          <Small icon="bi-pause-fill" words={`Pause ${t.name}`} act={() => pauseTransfers(t.id)} />
        )}
        {((t.state === 'paused' && t.file) ||
          (t.state === 'failed' && !t.fault?.code.startsWith('name.') && t.file)) && (
          <Small icon="bi-play-fill" words={`Go on with ${t.name}`} act={() => resumeTransfers(t.id)} />
        )}
        {t.state !== 'done' && <Small icon="bi-x-lg" words={`Take ${t.name} out`} act={() => clearTransfers(t.id)} />}
      </div>
      {!['done', 'waiting', 'checking', 'failed'].includes(t.state) && (
        <div
          className="progress"
          role="progressbar"
          aria-label={t.name}
          aria-valuenow={Math.round(part)}
          aria-valuemin={0}
          aria-valuemax={100}
        >
          <div className="progress-bar" ref={(bar) => void (bar && (bar.style.width = `${part}%`))} />
        </div>
      )}
      {t.fault && t.state === 'failed' && <span className="field-fault">{t.fault.words}</span>}
    </div>
  );
}

function Small({ icon, words, act }: { icon: string; words: string; act: () => void }) {
  return (
    <button type="button" className="btn btn-sm p-0 border-0" aria-label={words} title={words} onClick={act}>
      <i className={`bi ${icon}`} aria-hidden />
    </button>
  );
}

function wordsOf(t: Transfer): string {
  switch (t.state) {
    case 'done':
      return `done, ${formatSize(t.sizeBytes)}`;
    case 'failed':
      return 'not sent';
    case 'again':
      return 'trying again';
    case 'paused':
      return 'paused';
    default:
      return t.sentBytes > 0 ? `${formatSize(t.sentBytes)} of ${formatSize(t.sizeBytes)}` : formatSize(t.sizeBytes);
  }
}

/** Asked once for all files of a batch whose names are taken. */
function NamesTaken() {
  const { list } = useTransfers();
  const asking = list.filter((t) => t.state === 'asking');
  const settled = !list.some((t) => ['checking', 'sending', 'waiting'].includes(t.state));
  return (
    <Modal
      show={asking.length > 0 && settled}
      onHide={() => decideNames('skip')}
      backdrop="static"
      aria-labelledby="taken-title"
    >
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
        <Button variant="plain" onClick={() => decideNames('skip')}>
          Skip{asking.length > 1 && ' all'}
        </Button>
        <Button variant="plain" onClick={() => decideNames('keep-both')}>
          Keep both{asking.length > 1 && ', for all'}
        </Button>
        <Button autoFocus onClick={() => decideNames('version')}>
          Keep as new version{asking.length > 1 && 's'}
        </Button>
      </Modal.Footer>
    </Modal>
  );
}
