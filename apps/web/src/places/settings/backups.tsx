import type { BackupPlace, BackupPlan, Backups, Task } from '@quay/contract';
import { countOf, formatSize, keptWords, scheduleWords, type BackupFinding } from '@quay/core';
import { useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Button } from 'react-bootstrap';
import { api } from '../../ui/api';
import { useChanged } from '../../ui/changed';
import { tellFailure, useNotices } from '../../ui/notices';
import { backupsQuery } from '../../ui/queries';
import { Failure, SkeletonRows } from '../../ui/states';
import { TaskBar } from '../../ui/task-bar';
import { Size, When } from '../../ui/words';
import { BackupForm } from './backup-form';
import './backups.scss';
import { backupCopiesQuery } from './queries';

/** Where backups go, how they went, and what is wrong with them. */
export function BackupSettings() {
  const { data, error, refetch } = useQuery(backupsQuery);
  const [adding, setAdding] = useState(false);
  const show = useShow();
  if (error) return <Failure error={error} again={() => void refetch()} />;
  if (!data) return <SkeletonRows count={5} />;
  return (
    <div className="backups">
      <Findings findings={data.findings} />
      {data.places.map((place) => (
        <Place key={place.id} place={place} />
      ))}
      {adding ? (
        <section className="backup-place">
          <h2 className="small-head">A new place for backups</h2>
          <BackupForm
            kept={null}
            save={async (plan) =>
              show(await api<Backups>('POST', '/api/backups', plan), `Backing up to ${plan.folder}.`)
            }
            done={() => setAdding(false)}
          />
        </section>
      ) : (
        <div>
          <Button variant={data.places.length === 0 ? 'primary' : 'plain'} onClick={() => setAdding(true)}>
            {data.places.length === 0 ? 'Choose where backups go' : 'Add another place'}
          </Button>
        </div>
      )}
    </div>
  );
}

/** Shows what the server answered to a change, and says what was done. */
function useShow(): (backups: Backups, words: string, undo?: () => void) => Backups {
  const client = useQueryClient();
  const changed = useChanged();
  return (backups, words, undo) => {
    client.setQueryData(backupsQuery.queryKey, backups);
    changed('backups');
    useNotices.getState().show(words, undo && { undo });
    return backups;
  };
}

function Findings({ findings }: { findings: BackupFinding[] }) {
  if (findings.length === 0) return null;
  return (
    <ul className="finding-list">
      {findings.map((finding) => (
        <li key={finding.kind + finding.words} className="finding">
          <span className="flag" />
          <div>
            <div className="fw-semibold">{finding.words}</div>
            <div className="quiet">{finding.remedy}</div>
          </div>
        </li>
      ))}
    </ul>
  );
}

const planOf = ({ folder, every, atMinute, weekday, days, weeks, months, recipients, rehearse }: BackupPlan) => ({
  ...{ folder, every, atMinute, weekday, days, weeks, months, recipients, rehearse },
});

function Place({ place }: { place: BackupPlace }) {
  const [changing, setChanging] = useState(false);
  const show = useShow();
  const change = (plan: BackupPlan) => api<Backups>('PUT', `/api/backups/${place.id}`, plan);
  const undo = () => void change(planOf(place)).then((b) => show(b, 'It is as it was.'), tellFailure);
  return (
    <section className="backup-place" aria-label={`Backups to ${place.folder}`}>
      <h2 className="small-head mono">{place.folder}</h2>
      {changing ? (
        <BackupForm
          kept={place}
          save={async (plan) => show(await change(plan), 'The backups are changed.', undo)}
          done={() => setChanging(false)}
        />
      ) : (
        <>
          <PlaceFacts place={place} />
          {place.task ? <Running task={place.task} /> : <PlaceTools place={place} change={() => setChanging(true)} />}
          <Copies place={place} />
        </>
      )}
    </section>
  );
}

function PlaceFacts({ place }: { place: BackupPlace }) {
  const keys = place.recipients.length;
  return (
    <dl className="facts">
      <dt>Newest</dt>
      <dd>
        {place.goodAt ? (
          <>
            <When at={place.goodAt} />: {countOf(place.files, 'file')}, <Size bytes={place.bytes} />
          </>
        ) : (
          'none yet'
        )}
        {place.fault && <span className="field-fault d-block">The last attempt failed: {place.fault}</span>}
      </dd>
      <dt>Next</dt>
      <dd>
        <When at={place.nextAt} /> <span className="quiet">({scheduleWords(place)})</span>
      </dd>
      <dt>Kept</dt>
      <dd>{keptWords(place)}</dd>
      <dt>Encrypted</dt>
      <dd>{keys === 0 ? 'no: whoever holds the disk reads everything' : `yes, to ${countOf(keys, 'key')}`}</dd>
      <dt>Rehearsed</dt>
      <dd>
        {place.rehearsedAt ? (
          <>
            <When at={place.rehearsedAt} />:{' '}
            <span className={place.rehearsalWorked ? '' : 'field-fault'}>{place.rehearsalWords}</span>
          </>
        ) : (
          'not yet'
        )}
      </dd>
    </dl>
  );
}

function Running({ task }: { task: Task }) {
  const { words, done, total, bytes } = task.progress;
  const far = total ? ` (${done} of ${total}${bytes > 0 ? `, ${formatSize(bytes)}` : ''})` : '';
  return (
    <div role="status">
      <div className="quiet">{task.state === 'waiting' ? `${task.title}: waits for its turn` : `${words}${far}`}</div>
      {total !== null && <TaskBar title={task.title} done={done} total={total} />}
    </div>
  );
}

function PlaceTools({ place, change }: { place: BackupPlace; change: () => void }) {
  const show = useShow();
  const ask = (path: string, words: string) =>
    void api<Backups>('POST', `/api/backups/${place.id}/${path}`).then((b) => show(b, words), tellFailure);
  const again = () =>
    void api<Backups>('POST', '/api/backups', planOf(place)).then((b) => show(b, 'It is there again.'), tellFailure);
  const remove = () =>
    void api<Backups>('DELETE', `/api/backups/${place.id}`).then(
      (b) => show(b, `No more backups go to ${place.folder}. Those that lie there stay.`, again),
      tellFailure,
    );
  return (
    <div className="d-flex flex-wrap gap-2">
      <Button variant="plain" size="sm" onClick={() => ask('now', `Backing up to ${place.folder}.`)}>
        Back up now
      </Button>
      {place.goodAt && (
        <Button variant="plain" size="sm" onClick={() => ask('rehearse', 'Bringing the newest one back, for trial.')}>
          Rehearse now
        </Button>
      )}
      <Button variant="plain" size="sm" onClick={change}>
        Change
      </Button>
      <Button variant="plain" size="sm" onClick={remove}>
        End these backups
      </Button>
    </div>
  );
}

function Copies({ place }: { place: BackupPlace }) {
  const { data } = useQuery({ ...backupCopiesQuery(place.id), enabled: place.goodAt !== null });
  if (!data) return null;
  if (data.fault) return <p className="field-fault mb-0">{data.fault}</p>;
  return (
    <details>
      <summary>
        {countOf(data.copies.length, 'backup')} there, {formatSize(data.freeBytes ?? 0)} free
      </summary>
      <table className="rows my-2">
        <thead>
          <tr>
            <th>Of</th>
            <th className="number">Files</th>
            <th className="number">Size</th>
            <th>Encrypted</th>
          </tr>
        </thead>
        <tbody>
          {data.copies.map((copy) => (
            <tr key={copy.stamp}>
              <td className="first">
                <When at={copy.at} />
              </td>
              <td className="number">{copy.files.toLocaleString('en-GB')}</td>
              <td className="number">
                <Size bytes={copy.bytes} />
              </td>
              <td>{copy.encrypted ? 'yes' : 'no'}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="quiet mb-0">
        To bring one back, on the machine: <code>./quay restore {place.folder}</code>. A store, a folder or a file of
        it: add <code>--only &quot;Projects/…&quot;</code>.
      </p>
    </details>
  );
}
