import type { Damaged, StoreSummary, Task } from '@quay/contract';
import { countOf, formatSize } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Button, Modal } from 'react-bootstrap';
import { api } from '../../ui/api';
import { useChanged } from '../../ui/changed';
import { tellFailure } from '../../ui/notices';
import { Failure, SkeletonRows } from '../../ui/states';
import { TaskBar } from '../../ui/task-bar';
import { When } from '../../ui/words';
import { browseQuery, damagedQuery, tasksQuery } from './queries';
import './tasks.scss';

/**
 * The admin's long work: adopt a folder of the server's disk, export the store, read every file against its checksum.
 */
export function Tasks({ store }: { store: StoreSummary }) {
  const changed = useChanged();
  const { data: tasks = [] } = useQuery(tasksQuery);
  const { data: damaged } = useQuery(damagedQuery);
  const [all, setAll] = useState(false);
  const [adopting, setAdopting] = useState(false);
  const [report, setReport] = useState<Task | null>(null);
  const ask = (path: string, body?: unknown) =>
    void api('POST', path, body ?? {}).then(() => changed('tasks'), tellFailure);
  return (
    <>
      <h2 className="small-head mt-3">In order</h2>
      <div className="d-flex gap-2 flex-wrap mb-2">
        <Button variant="plain" size="sm" onClick={() => setAdopting(true)}>
          Adopt a folder of the server
        </Button>
        <Button variant="plain" size="sm" onClick={() => ask('/api/export', { storeId: store.id })}>
          Export this store
        </Button>
        <Button variant="plain" size="sm" onClick={() => ask('/api/scrub')}>
          Check every file
        </Button>
      </div>
      {damaged && damaged.total > 0 && <DamagedList damaged={damaged} />}
      {tasks.slice(0, all ? undefined : TASKS_SHOWN).map((t) => (
        <TaskRow key={t.id} task={t} stop={() => ask(`/api/tasks/${t.id}/stop`)} showReport={() => setReport(t)} />
      ))}
      {!all && tasks.length > TASKS_SHOWN && (
        <Button variant="plain" size="sm" onClick={() => setAll(true)}>
          Show {countOf(tasks.length - TASKS_SHOWN, 'earlier task')}
        </Button>
      )}
      {adopting && (
        <Adopt
          store={store}
          start={(path) => ask('/api/import', { path, folderId: store.rootId })}
          close={() => setAdopting(false)}
        />
      )}
      {report && <TaskReport task={report} close={() => setReport(null)} />}
    </>
  );
}

/** Those that are shown before somebody asks for more. */
const TASKS_SHOWN = 6;
const DAMAGED_SHOWN = 8;

function DamagedList({ damaged: { versions, total } }: { damaged: Damaged }) {
  return (
    <div className="failure" role="alert">
      <p className="mb-1">{total === 1 ? 'One version is' : `${total} versions are`} damaged or missing on the disk:</p>
      <ul className="mb-0">
        {versions.slice(0, DAMAGED_SHOWN).map((d) => (
          <li key={`${d.nodeId} ${d.version}`}>
            {d.name}, version {d.version}
          </li>
        ))}
        {total > DAMAGED_SHOWN && <li className="quiet">and {total - DAMAGED_SHOWN} more</li>}
      </ul>
    </div>
  );
}

function TaskRow({ task: t, stop, showReport }: { task: Task; stop: () => void; showReport: () => void }) {
  return (
    <div className="task-row">
      <span>
        <strong>{t.title}</strong>{' '}
        <span className="quiet">
          {t.askedBy ?? 'by itself'}, <When at={t.createdAt} brief />
        </span>
        <br />
        <span className={t.state === 'failed' ? 'field-fault' : 'quiet'}>{wordsOf(t)}</span>
        {t.state === 'running' && t.progress.total !== null && (
          <TaskBar title={t.title} done={t.progress.done} total={t.progress.total} />
        )}
      </span>
      {(t.state === 'running' || t.state === 'waiting') && (
        <Button variant="plain" size="sm" onClick={stop}>
          Stop
        </Button>
      )}
      {t.report && t.report.notes.length > 0 && (
        <Button variant="plain" size="sm" onClick={showReport}>
          Report
        </Button>
      )}
    </div>
  );
}

function TaskReport({ task, close }: { task: Task; close: () => void }) {
  return (
    <Modal show onHide={close} scrollable aria-labelledby="report-title">
      <Modal.Header closeButton>
        <Modal.Title as="h2" className="h5" id="report-title">
          {task.title}
        </Modal.Title>
      </Modal.Header>
      <Modal.Body>
        <p>{task.report?.words}</p>
        <ul>
          {task.report?.notes.map((n, i) => (
            <li key={i}>
              <code>{n.path}</code> {n.why}
            </li>
          ))}
        </ul>
      </Modal.Body>
    </Modal>
  );
}

function wordsOf(t: Task): string {
  switch (t.state) {
    case 'waiting':
      return 'waits for its turn';
    case 'running':
      return t.progress.words ? `${t.progress.words}, ${formatSize(t.progress.bytes)} ...` : 'begins ...';
    case 'stopped':
      return 'was stopped; what it had done stays';
    case 'done':
    case 'failed':
      return t.report?.words ?? t.state;
  }
}

/** Chooses a folder of the server's disk within the allowed roots. */
function Adopt({ store, start, close }: { store: StoreSummary; start: (path: string) => void; close: () => void }) {
  const [path, setPath] = useState<string | null>(null);
  const { data: folder, error } = useQuery(browseQuery(path));
  const choices = folder
    ? path === null
      ? folder.roots.map((r) => [r, r] as const)
      : folder.folders.map((f) => [`${folder.path}/${f}`, f] as const)
    : [];
  const isRoot = folder !== undefined && folder.roots.includes(folder.path);
  return (
    <Modal show onHide={close} scrollable aria-labelledby="adopt-title" restoreFocus>
      <Modal.Header closeButton>
        <Modal.Title as="h2" className="h5" id="adopt-title">
          Adopt a folder into {store.name}
        </Modal.Title>
      </Modal.Header>
      <Modal.Body className="chooser">
        <p className="quiet">
          Every file is copied and read back against its checksum; the folder itself stays as it is. Symbolic links are
          not followed.
        </p>
        {error && <Failure error={error} />}
        {!folder && !error && <SkeletonRows count={3} />}
        {folder && path === null && folder.roots.length === 0 && (
          <p>
            No folder is set up for adopting. Start the server with QUAY_IMPORT_ROOTS naming the folders that may be.
          </p>
        )}
        {path !== null && folder && (
          <button type="button" onClick={() => setPath(isRoot ? null : folder.path.replace(/\/[^/]+$/, ''))}>
            <i className="bi bi-arrow-90deg-up" aria-hidden /> {isRoot ? 'All allowed folders' : 'Up'}
          </button>
        )}
        {path !== null && folder && (
          <p className="mb-1">
            <code>{folder.path}</code> <span className="quiet">{folder.files} files here</span>
          </p>
        )}
        {choices.map(([to, words]) => (
          <button key={to} type="button" onClick={() => setPath(to)}>
            <i className="bi bi-folder" aria-hidden /> {words}
          </button>
        ))}
      </Modal.Body>
      <Modal.Footer>
        <Button variant="plain" onClick={close}>
          Cancel
        </Button>
        <Button
          disabled={path === null || !folder}
          onClick={() => {
            if (folder) start(folder.path);
            close();
          }}
        >
          Adopt this folder
        </Button>
      </Modal.Footer>
    </Modal>
  );
}
