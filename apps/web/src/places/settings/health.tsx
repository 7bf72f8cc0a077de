import { countOf, type HealthLine } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { Button } from 'react-bootstrap';
import { Failure, SkeletonRows } from '../../ui/states';
import { StageShape } from '../../ui/stage-shape';
import { When } from '../../ui/words';
import './health.scss';
import { healthQuery } from './queries';

const WORST_FIRST = ['fail', 'warn', 'unknown', 'ok'] as const;

/** Everything that makes a server fail one day, as it is now: what is wrong first, with what to do about it. */
export function HealthSettings() {
  const { data, error, isFetching, refetch } = useQuery(healthQuery);
  if (error) return <Failure error={error} again={() => void refetch()} />;
  if (!data) return <SkeletonRows count={8} />;
  const wrong = data.lines.filter((l) => l.mark === 'fail' || l.mark === 'warn').length;
  const lines = [...data.lines].sort((a, b) => WORST_FIRST.indexOf(a.mark) - WORST_FIRST.indexOf(b.mark));
  return (
    <div className="health">
      <div className="d-flex flex-wrap align-items-center gap-2">
        <span className="me-auto" role="status">
          {wrong === 0 ? 'All is well' : countOf(wrong, 'thing needs a look', 'things need a look')},{' '}
          <When at={data.at} />
        </span>
        <Button variant="plain" size="sm" disabled={isFetching} onClick={() => void refetch()}>
          {isFetching ? 'Looking' : 'Look again'}
        </Button>
      </div>
      <ul>
        {lines.map((line) => (
          <Line key={line.id + line.words} line={line} />
        ))}
      </ul>
      <p className="quiet mb-0">
        The same on the machine: <code>./quay doctor</code>. For machines that watch: <code>/healthz</code>,{' '}
        <code>/readyz</code> and <code>/metrics</code>.
      </p>
    </div>
  );
}

const MARK = { ok: 'ok', warn: 'warn', fail: 'fail', unknown: 'skipped' } as const;

const SAID = { ok: 'Well', warn: 'Needs a look', fail: 'Fails', unknown: 'Not known' } as const;

function Line({ line }: { line: HealthLine }) {
  return (
    <li>
      <StageShape mark={MARK[line.mark]} />
      <div>
        <div>
          <span className="visually-hidden">{SAID[line.mark]}: </span>
          {line.words}
        </div>
        {line.remedy && <div className="quiet">{line.remedy}</div>}
      </div>
    </li>
  );
}
