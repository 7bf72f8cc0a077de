import type { IntakeList, IntakeRow } from '@quay/contract';
import { countOf, INTAKE_STATES, STATE_WORDS, type IntakeState } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { Link, useNavigate, useParams } from 'react-router';
import { useKeys } from '../../ui/keys';
import { intakesQuery } from '../../ui/queries';
import { useSearch } from '../../ui/search';
import { WithSheet } from '../../ui/sheet';
import { StateMark } from '../../ui/state-mark';
import { Empty, Failure, SkeletonRows } from '../../ui/states';
import { WindowBar } from '../../ui/window-bar';
import { HiddenHead, Size } from '../../ui/words';
import { AskForFiles } from './ask';
import { IntakeSheetPanel } from './sheet';
import './index.scss';

const NARROWED = [...INTAKE_STATES, 'waiting'] as const;
type Narrowed = (typeof NARROWED)[number];

/** Pages on which outsiders hand in files; a row opens what was handed in there. */
export function Intakes() {
  const { intakeId } = useParams();
  const navigate = useNavigate();
  const [params, change] = useSearch();
  const state = NARROWED.find((s) => s === params.get('state'));
  const query = params.toString() ? `?${params.toString()}` : '';
  const { data, error, refetch } = useQuery(intakesQuery);
  const shown = data?.intakes.filter((row) => isWanted(row, state));
  const at = shown?.findIndex((row) => row.id === intakeId) ?? -1;
  const go = (index: number) => {
    const row = shown?.[Math.max(0, Math.min(shown.length - 1, index))];
    if (row) void navigate(`/intakes/${row.id}${query}`);
  };
  const close = () => void navigate(`/intakes${state ? `?state=${state}` : ''}`);
  useKeys({
    n: () => void navigate('/intakes/new'),
    arrowdown: () => go(at + 1),
    arrowup: () => go(at - 1),
    escape: close,
  });
  if (error && !data) return <Failure error={error} again={() => void refetch()} />;
  return (
    <>
      <Title list={data} />
      <div className="filters">
        <Choice list={data} chosen={state} choose={(next) => change(() => ({ state: next }))} />
      </div>
      <WithSheet sheet={intakeId && <Chosen id={intakeId} close={close} />}>
        <Found rows={shown} isNarrowed={state !== undefined} chosen={intakeId} query={query} />
        {data && data.total > data.intakes.length && (
          <p className="quiet mt-2">
            The last {data.intakes.length} of {data.total.toLocaleString('en-GB')} are listed.
          </p>
        )}
      </WithSheet>
    </>
  );
}

const Chosen = ({ id, close }: { id: string; close: () => void }) =>
  id === 'new' ? <AskForFiles close={close} /> : <IntakeSheetPanel key={id} id={id} close={close} />;

const isWanted = (row: IntakeRow, wanted: Narrowed | undefined): boolean =>
  wanted === undefined || (wanted === 'waiting' ? row.waiting > 0 : row.state === wanted);

function Title({ list }: { list: IntakeList | undefined }) {
  const open = list?.intakes.filter((row) => row.state === 'open').length ?? 0;
  return (
    <div className="title-line">
      <h1>
        {!list ? 'Intakes' : list.total === 0 ? 'No intake yet.' : `${countOf(open, 'intake')} open.`}{' '}
        {list && list.waiting > 0 && (
          <span className="hand">
            {countOf(list.waiting, 'deposit')} {list.waiting === 1 ? 'waits' : 'wait'} for you.
          </span>
        )}
      </h1>
      <div className="tools">
        <Link className="btn btn-primary" to="/intakes/new">
          Ask for files
        </Link>
      </div>
    </div>
  );
}

interface ChoiceProps {
  list: IntakeList | undefined;
  chosen: Narrowed | undefined;
  choose: (state: Narrowed | undefined) => void;
}

function Choice({ list, chosen, choose }: ChoiceProps) {
  const count = (wanted: Narrowed | undefined) => list?.intakes.filter((row) => isWanted(row, wanted)).length ?? '';
  const words = (wanted: Narrowed): string => (wanted === 'waiting' ? 'something waits' : STATE_WORDS[wanted]);
  return (
    <>
      <button type="button" className="btn btn-choice" aria-pressed={!chosen} onClick={() => choose(undefined)}>
        all {count(undefined)}
      </button>
      {NARROWED.map((s) => (
        <button key={s} type="button" className="btn btn-choice" aria-pressed={chosen === s} onClick={() => choose(s)}>
          {words(s)} {count(s)}
        </button>
      ))}
    </>
  );
}

interface FoundProps {
  rows: IntakeRow[] | undefined;
  isNarrowed: boolean;
  chosen: string | undefined;
  query: string;
}

function Found({ rows, isNarrowed, chosen, query }: FoundProps) {
  if (!rows) return <SkeletonRows />;
  if (rows.length === 0 && isNarrowed) return <Empty>No intake is like that.</Empty>;
  if (rows.length === 0)
    return (
      <Empty
        action={
          <Link className="btn btn-primary" to="/intakes/new">
            Ask for files
          </Link>
        }
      >
        An intake is a page on which people outside hand files in, without seeing anything that is here.
      </Empty>
    );
  return (
    <table className="rows intakes-table">
      <thead>
        <tr>
          <HiddenHead>State</HiddenHead>
          <th>Title</th>
          <th>Window</th>
          <th className="number">Handed in</th>
          <th className="number wide-only">Size</th>
          <th>Into</th>
        </tr>
      </thead>
      <tbody>
        {rows.map((row) => (
          <Row key={row.id} row={row} to={`/intakes/${row.id}${query}`} chosen={row.id === chosen} />
        ))}
      </tbody>
    </table>
  );
}

function Row({ row, to, chosen }: { row: IntakeRow; to: string; chosen: boolean }) {
  const navigate = useNavigate();
  return (
    <tr data-clickable aria-selected={chosen} onClick={() => void navigate(to)}>
      <td>
        <StateMark state={row.state satisfies IntakeState} />
      </td>
      <td className="first">
        <Link
          to={to}
          className="link-body-emphasis text-decoration-none fw-semibold"
          onClick={(e) => e.stopPropagation()}
        >
          {row.title}
        </Link>
      </td>
      <td>
        <WindowBar share={row} />
      </td>
      <td className="number">
        {row.files === 0 ? 'nothing' : countOf(row.files, 'file')}
        {row.people && (
          <div className="quiet small">
            {row.people.handedIn} of {countOf(row.people.of, 'person', 'people')}
          </div>
        )}
      </td>
      <td className="number wide-only">{row.files > 0 && <Size bytes={row.bytes} />}</td>
      <td className="quiet">
        {row.folder?.name ?? ''}{' '}
        {row.waiting > 0 && (
          <strong className="waits">
            {row.waiting} {row.waiting === 1 ? 'waits' : 'wait'}
          </strong>
        )}
      </td>
    </tr>
  );
}
