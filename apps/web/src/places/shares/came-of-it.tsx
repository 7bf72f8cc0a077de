import type { CameOfIt as Came, TakenBy } from '@quay/contract';
import { countOf, STATE_WORDS } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { cameOfItQuery } from '../../ui/queries';
import { Failure } from '../../ui/states';
import { StateMark } from '../../ui/state-mark';
import { TimeBars } from '../../ui/time-bars';
import './came-of-it.scss';

/** What came of a share: when people came, what was taken by whom, and other shares of the same items. */
export function CameOfIt({ shareId, visits }: { shareId: string; visits: number }) {
  const { data, error, refetch } = useQuery(cameOfItQuery(shareId));
  if (error) return <Failure error={error} again={() => void refetch()} />;
  if (!data) return null;
  return (
    <>
      {visits > 0 && <TimeBars {...overTime(data)} of="visit" full="took something" />}
      {(data.files.length > 0 || data.everything.visits > 0) && <Taken came={data} />}
      {data.related.length > 0 && (
        <section>
          <h3>Other shares of these items</h3>
          <ul className="related-list">
            {data.related.map(({ id, title, state }) => (
              <li key={id} className="small d-flex gap-2">
                <Link to={`/shares/${id}`} className="link-body-emphasis">
                  {title}
                </Link>
                <span className="quiet ms-auto text-nowrap">
                  <StateMark state={state} labelled={false} /> {STATE_WORDS[state]}
                </span>
              </li>
            ))}
          </ul>
        </section>
      )}
    </>
  );
}

function Taken({ came: { files, filesTotal, everything } }: { came: Came }) {
  return (
    <section>
      <h3>Taken</h3>
      <ul className="taken-list">
        {everything.visits > 0 && (
          <li className="small">
            Everything as one, by {countOf(everything.visits, 'visit')}
            <By by={everything.by} visits={everything.visits} />
          </li>
        )}
        {files.map(({ id, name, visits, by }) => (
          <li key={id} className="small">
            {name}, by {countOf(visits, 'visit')}
            <By by={by} visits={visits} />
          </li>
        ))}
      </ul>
      {filesTotal > files.length && (
        <p className="quiet small mb-0">And {countOf(filesTotal - files.length, 'file')} more.</p>
      )}
    </section>
  );
}

/** Some of those who took something. */
function By({ by, visits }: { by: readonly TakenBy[]; visits: number }) {
  const more = visits > by.length ? ' and others' : '';
  return <span className="quiet d-block">{by.map(({ who }) => who).join(', ') + more}</span>;
}

/** Visits over time; of each bar, the full part took something. */
const overTime = ({ step, edges, bars }: Came) => ({
  ...{ step, edges },
  bars: bars.map(({ bar, visits: all, took: full }) => ({ bar, all, full })),
});
