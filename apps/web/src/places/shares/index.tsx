import type { ShareRow } from '@quay/contract';
import { countOf, SHARE_STATES, STATE_WORDS, type ShareState } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { useRef, useState } from 'react';
import { Form } from 'react-bootstrap';
import { Link, useNavigate, useParams, useSearchParams } from 'react-router';
import { useKeys } from '../../ui/keys';
import { sharesQuery } from '../../ui/queries';
import { ReachLamp } from '../../ui/reach-lamp';
import { Empty, Failure, SkeletonRows } from '../../ui/states';
import { StateMark } from '../../ui/state-mark';
import { WindowBar } from '../../ui/window-bar';
import { Size, When } from '../../ui/words';
import { ShareSheetPanel } from './sheet';

/** All outgoing publications; a row opens its sheet at the right. */
export function Shares() {
  const { shareId } = useParams();
  const navigate = useNavigate();
  const [params, setParams] = useSearchParams();
  const [find, setFind] = useState('');
  const field = useRef<HTMLInputElement>(null);
  const { data: shares, error, refetch } = useQuery(sharesQuery);
  const state = params.get('state') as ShareState | null;
  const shown = (shares ?? []).filter(
    (s) => (!state || s.state === state) && `${s.title} ${s.createdBy}`.toLowerCase().includes(find.toLowerCase()),
  );
  const at = shown.findIndex((s) => s.id === shareId);
  const query = params.toString() ? `?${params.toString()}` : '';
  const go = (index: number) => {
    const share = shown[Math.max(0, Math.min(shown.length - 1, index))];
    if (share) void navigate(`/shares/${share.id}${query}`);
  };
  useKeys({
    '/': () => field.current?.focus(),
    n: () => void navigate('/stores'),
    arrowdown: () => go(at + 1),
    arrowup: () => go(at - 1),
    escape: () => void navigate(`/shares${query}`),
  });
  if (error) return <Failure error={error} again={() => void refetch()} />;
  return (
    <>
      <Title shares={shares} />
      <div className="filters">
        <button type="button" className="btn btn-choice" aria-pressed={!state} onClick={() => setParams({})}>
          all {shares?.length ?? ''}
        </button>
        {SHARE_STATES.map((s) => (
          <button
            key={s}
            type="button"
            className="btn btn-choice"
            aria-pressed={state === s}
            onClick={() => setParams({ state: s })}
          >
            {STATE_WORDS[s]} {shares?.filter((x) => x.state === s).length ?? ''}
          </button>
        ))}
        <Form.Control
          ref={field}
          type="search"
          aria-label="Find a share"
          placeholder="Title or person"
          value={find}
          onChange={(e) => setFind(e.target.value)}
        />
      </div>
      <div className={shareId ? 'shares-layout with-sheet' : 'shares-layout'}>
        <div>
          {!shares ? (
            <SkeletonRows />
          ) : shares.length === 0 ? (
            <Empty
              action={
                <Link className="btn btn-primary" to="/stores">
                  Go to the stores
                </Link>
              }
            >
              Shares are what you publish to people outside. Select items in a store and put them on the slip.
            </Empty>
          ) : shown.length === 0 ? (
            <Empty>No share matches that.</Empty>
          ) : (
            <ShareTable shares={shown} chosen={shareId} narrow={Boolean(shareId)} query={query} />
          )}
        </div>
        {shareId && <ShareSheetPanel key={shareId} id={shareId} close={() => void navigate(`/shares${query}`)} />}
      </div>
    </>
  );
}

function Title({ shares }: { shares: ShareRow[] | undefined }) {
  const count = (state: ShareState) => shares?.filter((s) => s.state === state).length ?? 0;
  return (
    <div className="title-line">
      <h1>
        {shares ? `${countOf(count('open'), 'share')} open, ${count('scheduled')} scheduled.` : 'Shares'}{' '}
        {count('broken') > 0 && <span className="hand">{count('broken')} broken.</span>}
      </h1>
      <div className="tools">
        <Link className="btn btn-primary" to="/stores">
          New share
        </Link>
      </div>
    </div>
  );
}

function ShareTable({
  shares,
  chosen,
  narrow,
  query,
}: {
  shares: ShareRow[];
  chosen: string | undefined;
  narrow: boolean;
  query: string;
}) {
  const navigate = useNavigate();
  return (
    <table className="rows">
      <thead>
        <tr>
          <th>
            <span className="visually-hidden">State</span>
          </th>
          <th>Title</th>
          <th>Window</th>
          <th className="number">Visits</th>
          {!narrow && (
            <>
              <th>Guards</th>
              <th>Reach</th>
              <th className="number">Items</th>
              <th className="number">Size</th>
              <th>Last visit</th>
              <th>By</th>
            </>
          )}
        </tr>
      </thead>
      <tbody>
        {shares.map((s) => (
          <tr
            key={s.id}
            data-clickable
            aria-selected={s.id === chosen}
            onClick={() => void navigate(`/shares/${s.id}${query}`)}
          >
            <td>
              <StateMark state={s.state} />
            </td>
            <td className="first">
              <Link
                to={`/shares/${s.id}${query}`}
                className="link-body-emphasis text-decoration-none fw-semibold"
                onClick={(e) => e.stopPropagation()}
              >
                {s.title}
              </Link>
            </td>
            <td>
              <WindowBar share={s} />
            </td>
            <td className="number">
              {s.visitsUsed}
              {s.visitLimit !== null && <span className="quiet"> of {s.visitLimit}</span>}
            </td>
            {!narrow && (
              <>
                <td className="quiet">{s.hasPassword ? 'password' : 'link only'}</td>
                <td>
                  <ReachLamp mark={s.reach} portability={s.portability} brief />
                </td>
                <td className="number wide-only">{s.itemCount}</td>
                <td className="number">
                  <Size bytes={s.totalBytes} />
                </td>
                <td>{s.lastVisitAt ? <When at={s.lastVisitAt} /> : <span className="quiet">none yet</span>}</td>
                <td className="quiet">{s.createdBy}</td>
              </>
            )}
          </tr>
        ))}
      </tbody>
    </table>
  );
}
