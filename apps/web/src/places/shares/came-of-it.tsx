import type { CameOfIt as Came, TakenBy } from '@quay/contract';
import { countOf, dayInWords, momentInWords, STATE_WORDS, type BarStep } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { max, scaleLinear, scaleTime } from 'd3';
import { Link } from 'react-router';
import { cameOfItQuery } from '../../ui/queries';
import { now, useZone } from '../../ui/session';
import { Failure } from '../../ui/states';
import { StateMark } from '../../ui/state-mark';
import './came-of-it.scss';

/** What came of a share: when people came, what was taken by whom, and other shares of the same items. */
export function CameOfIt({ shareId, visits }: { shareId: string; visits: number }) {
  const { data, error, refetch } = useQuery(cameOfItQuery(shareId));
  if (error) return <Failure error={error} again={() => void refetch()} />;
  if (!data) return null;
  return (
    <>
      {visits > 0 && <VisitChart came={data} />}
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

const SIZE = { width: 360, height: 92, bottom: 18, top: 12 };
const STEP_WORDS: Record<BarStep, string> = {
  hour: 'each hour',
  day: 'each day',
  week: 'each week',
  'four weeks': 'every four weeks',
};

/** Visits over time; of each bar, the full part took something. */
function VisitChart({ came: { step, edges, bars } }: { came: Came }) {
  const zone = useZone();
  const present = now();
  const moments = edges.map((edge) => Date.parse(edge));
  const [first = present, last = present] = [moments[0], moments.at(-1)];
  const most = max(bars, (b) => b.visits) ?? 1;
  const x = scaleTime([first, last], [0, SIZE.width]);
  const y = scaleLinear([0, most], [SIZE.height - SIZE.bottom, SIZE.top]);
  const nameOf = (at: number) => (step === 'hour' ? momentInWords(at, present, zone) : dayInWords(at, present, zone));
  const all = bars.reduce((sum, b) => sum + b.visits, 0);
  const took = bars.reduce((sum, b) => sum + b.took, 0);
  const highest = bars.find((b) => b.visits === most);
  const words = `${countOf(all, 'visit')} since ${dayInWords(first, present, zone)}, ${took} of them took something; most ${STEP_WORDS[step]}: ${most}${highest ? ` (${nameOf(moments[highest.bar] ?? first)})` : ''}.`;
  return (
    <figure className="visit-chart">
      <svg viewBox={`0 0 ${SIZE.width} ${SIZE.height}`} role="img" aria-label={words}>
        <line className="rule" x1={0} x2={SIZE.width} y1={y(0)} y2={y(0)} />
        {bars.map(({ bar, visits, took: taking }) => {
          const [from = first, to = last] = [moments[bar], moments[bar + 1]];
          const width = Math.max(1.5, x(to) - x(from) - 1);
          return (
            <g key={bar}>
              <title>{`${nameOf(from)}: ${countOf(visits, 'visit')}, ${taking} took something`}</title>
              <rect className="came" x={x(from)} width={width} y={y(visits)} height={y(0) - y(visits)} />
              <rect className="took" x={x(from)} width={width} y={y(taking)} height={y(0) - y(taking)} />
            </g>
          );
        })}
        <text x={0} y={SIZE.height - 4}>
          {nameOf(first)}
        </text>
        <text x={SIZE.width} y={SIZE.height - 4} textAnchor="end">
          {nameOf(Math.min(last, present))}
        </text>
      </svg>
      <figcaption className="quiet small">{words}</figcaption>
    </figure>
  );
}
