import type { Directory, DirectorySettings } from '@quay/contract';
import { countOf } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Button } from 'react-bootstrap';
import { useMe } from '../../../ui/session';
import { Empty, Failure, SkeletonRows } from '../../../ui/states';
import { When } from '../../../ui/words';
import { directoryQuery } from '../queries';
import { Connection } from './connection';
import './index.scss';
import { FindEntries } from './find';
import { RunView } from './run';
import { useDirectoryVerbs } from './verbs';

/** The office's directory: how it is asked, what it would change here, and who is in it. */
export function DirectoryView({ chosen }: { chosen: string | undefined }) {
  const { data, error, refetch } = useQuery(directoryQuery);
  const [connecting, setConnecting] = useState(false);
  const mayConnect = useMe().role === 'admin';
  if (error && !data) return <Failure error={error} again={() => void refetch()} />;
  if (!data) return <SkeletonRows />;
  if (connecting) return <Connection kept={data} close={() => setConnecting(false)} />;
  if (!data.settings)
    return (
      <Empty>
        <p>
          Staff and groups can come from the directory of the office (LDAP): who is in it signs in by it, and who leaves
          it is disabled here.
        </p>
        {mayConnect ? (
          <Button onClick={() => setConnecting(true)}>Connect the directory</Button>
        ) : (
          <p className="quiet mb-0">An admin connects it.</p>
        )}
      </Empty>
    );
  return (
    <div className="directory">
      <State state={data} connect={mayConnect ? () => setConnecting(true) : null} />
      <Under state={data} chosen={chosen} />
      <FindEntries settings={data.settings} mayFollow={mayConnect} />
      <Earlier state={data} />
    </div>
  );
}

function State({ state, connect }: { state: Directory; connect: (() => void) | null }) {
  const { look } = useDirectoryVerbs();
  const [last] = state.runs;
  const { servers = [], branches = [] } = state.settings ?? ({} as Partial<DirectorySettings>);
  const busy = look.isPending || last?.state === 'looking' || last?.state === 'doing';
  return (
    <div className="directory-state">
      <p className="mb-0">
        Connected to {servers.map((s) => s.host).join(' or ')}.{' '}
        {state.people + state.groups === 0
          ? 'Nobody here comes from it yet.'
          : `${countOf(state.people, 'person', 'people')} and ${countOf(state.groups, 'group')} come from it.`}{' '}
        {branches.length > 0
          ? `${countOf(branches.length, 'branch', 'branches')} followed: it is looked at every quarter of an hour.`
          : 'No branch is followed: who is new there gets no account by itself.'}{' '}
        {last && (
          <>
            Last looked at <When at={last.at} brief />.
          </>
        )}
      </p>
      <div className="verbs">
        <Button size="sm" disabled={busy} onClick={() => look.mutate({ chosen: [], taken: [] })}>
          Look now
        </Button>
        {connect && (
          <Button size="sm" variant="plain" onClick={connect}>
            Connection
          </Button>
        )}
      </div>
    </div>
  );
}

/** What is under way or waits; else the look that somebody chose. */
function Under({ state, chosen }: { state: Directory; chosen: string | undefined }) {
  const open = state.runs.find((r) => r.state === 'looking' || r.state === 'doing' || r.state === 'waiting');
  const shown = state.runs.find((r) => r.id === chosen) ?? open;
  return shown ? <RunView key={shown.id} run={shown} /> : null;
}

const STATE_WORDS = {
  looking: 'looking',
  waiting: 'waits for an answer',
  doing: 'being done',
  done: 'done',
  failed: 'failed',
  dropped: 'left',
} as const;

function Earlier({ state }: { state: Directory }) {
  if (state.runs.length === 0) return null;
  return (
    <section aria-labelledby="directory-earlier">
      <h2 className="small-head" id="directory-earlier">
        Looks at the directory
      </h2>
      <table className="rows">
        <thead>
          <tr>
            <th>When</th>
            <th>By</th>
            <th>What</th>
            <th>Came of it</th>
          </tr>
        </thead>
        <tbody>
          {state.runs.map((run) => (
            <tr key={run.id} className={run.state === 'failed' ? 'failed' : undefined}>
              <td className="first">
                <When at={run.at} brief />
              </td>
              <td className="quiet">{run.by ?? 'by itself'}</td>
              <td>{run.words || ' '}</td>
              <td className="quiet">{run.state === 'done' && run.total === 0 ? 'nothing' : STATE_WORDS[run.state]}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
