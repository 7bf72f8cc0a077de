import type { DirectoryRun, DirectoryRunKept, DirectoryRunSheet } from '@quay/contract';
import { countOf } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Button } from 'react-bootstrap';
import { useMe } from '../../../ui/session';
import { SkeletonRows } from '../../../ui/states';
import { directoryRunQuery } from '../queries';
import { useDirectoryVerbs } from './verbs';

/** Lines that are shown before more is asked for. */
const FIRST = 12;

/** One look at the directory: what it would change, and whether it is done. */
export function RunView({ run }: { run: DirectoryRun }) {
  const { data } = useQuery(directoryRunQuery(run.id));
  if (run.state === 'looking')
    return (
      <section className="directory-run" role="status">
        <p className="mb-2">Reading the directory. This goes on when you leave the page.</p>
        <SkeletonRows count={2} />
      </section>
    );
  if (run.state === 'doing') return <Doing run={run} />;
  if (!data) return <SkeletonRows count={3} />;
  return (
    <section className="directory-run" aria-labelledby="directory-run">
      <h2 id="directory-run">{run.state === 'waiting' ? `It would change: ${data.words}` : data.words}</h2>
      {run.asks && (
        <p className="directory-asks">
          More than a tenth of those who sign in by the directory would be disabled. See whether it is whole, and the
          base the right one.
        </p>
      )}
      <Changes sheet={data} />
      <Kept sheet={data} />
      {run.state === 'waiting' && <Answer sheet={data} />}
    </section>
  );
}

function Doing({ run }: { run: DirectoryRun }) {
  return (
    <section className="directory-run" role="status">
      <p className="mb-2">
        {run.done} of {countOf(run.total, 'change')} made: {run.words}.
      </p>
      <progress max={Math.max(1, run.total)} value={run.done} aria-label="Changes made" />
    </section>
  );
}

function Changes({ sheet }: { sheet: DirectoryRunSheet }) {
  const [all, setAll] = useState(false);
  const shown = all ? sheet.changes : sheet.changes.slice(0, FIRST);
  const left = sheet.total - shown.length;
  if (sheet.changes.length === 0) return null;
  return (
    <>
      <ul className="directory-lines">
        {shown.map((change, n) => (
          <li key={n} data-kind={change.kind}>
            {change.words}
          </li>
        ))}
      </ul>
      {left > 0 &&
        (all ? (
          <p className="quiet">and {left} more of the same kinds.</p>
        ) : (
          <button type="button" className="link" onClick={() => setAll(true)}>
            Show {left} more
          </button>
        ))}
    </>
  );
}

/** What stays as it is. Only an admin says that an entry is somebody of here: they sign in by the directory then. */
function Kept({ sheet }: { sheet: DirectoryRunSheet }) {
  const { look } = useDirectoryVerbs();
  const same = (kept: DirectoryRunKept) =>
    look.mutate({ chosen: [], taken: [{ entryId: kept.entryId ?? '', id: kept.couldBe?.id ?? '' }] });
  const decidable = useMe().role === 'admin' && (sheet.state === 'waiting' || sheet.state === 'done');
  if (sheet.kept.length === 0) return null;
  return (
    <details className="directory-kept" open={sheet.kept.some((k) => k.couldBe) && sheet.kept.length <= FIRST}>
      <summary>{countOf(sheet.kept.length, 'entry stays', 'entries stay')} as they are</summary>
      <ul>
        {sheet.kept.map((kept) => (
          <li key={kept.dn + kept.words}>
            <span>
              {kept.words} <span className="quiet">{kept.dn}</span>
            </span>
            {decidable && kept.couldBe && kept.entryId && (
              <Button size="sm" variant="plain" disabled={look.isPending} onClick={() => same(kept)}>
                They are the same<span className="visually-hidden">: {kept.couldBe.name}</span>
              </Button>
            )}
          </li>
        ))}
      </ul>
    </details>
  );
}

function Answer({ sheet }: { sheet: DirectoryRunSheet }) {
  const { agree, drop } = useDirectoryVerbs();
  const busy = agree.isPending || drop.isPending;
  return (
    <div className="verbs">
      <Button size="sm" disabled={busy} onClick={() => agree.mutate(sheet.id)}>
        Make {countOf(sheet.total, 'change')}
      </Button>
      <Button size="sm" variant="plain" disabled={busy} onClick={() => drop.mutate(sheet.id)}>
        Leave all as it is
      </Button>
    </div>
  );
}
