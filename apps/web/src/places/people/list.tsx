import type { PeopleAct, PersonRow } from '@quay/contract';
import { countOf, readCellSign } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Button, Form } from 'react-bootstrap';
import { Link, useNavigate } from 'react-router';
import { useKeys } from '../../ui/keys';
import { useSearch } from '../../ui/search';
import { Empty, Failure, SkeletonRows } from '../../ui/states';
import { HiddenHead, When } from '../../ui/words';
import { PersonPanel } from './person';
import { peopleQuery } from '../../ui/queries';
import { tableQuery } from './queries';
import { usePeopleVerbs } from './verbs';

type Of = 'staff' | 'guests';

/** Filters, as words with counts. */
const FILTERS: { key: string; words: string; matches: (p: PersonRow) => boolean }[] = [
  { key: 'there', words: 'with an account', matches: (p) => p.state !== 'disabled' },
  { key: 'invited', words: 'invited', matches: (p) => p.state === 'invited' },
  { key: 'no-factor', words: 'without a second factor', matches: (p) => p.state === 'usable' && !p.factor },
  { key: 'never', words: 'never here', matches: (p) => p.state !== 'disabled' && p.lastSeenAt === null },
  { key: 'directory', words: 'of the directory', matches: (p) => p.state !== 'disabled' && p.directory },
  { key: 'disabled', words: 'disabled', matches: (p) => p.state === 'disabled' },
];

/** Staff or guests: found, filtered, several changed at once; a row opens the sheet. */
export function PeopleView({ of, chosen }: { of: Of; chosen: string | undefined }) {
  const { data, error, refetch } = useQuery(peopleQuery);
  const [params, change] = useSearch();
  const navigate = useNavigate();
  const [ticked, setTicked] = useState<readonly string[]>([]);
  const filter = FILTERS.find((f) => f.key === params.get('which')) ?? (FILTERS[0] as (typeof FILTERS)[number]);
  const all = (data?.people ?? []).filter((p) => (p.role === 'guest') === (of === 'guests'));
  const text = (params.get('find') ?? '').toLowerCase();
  const people = all.filter((p) => filter.matches(p) && wordsOf(p).includes(text));
  const query = params.toString() ? `?${params.toString()}` : '';
  const at = people.findIndex((p) => p.id === chosen);
  const go = (index: number) => {
    const person = people[Math.max(0, Math.min(people.length - 1, index))];
    if (person) void navigate(`/people/${of}/${person.id}${query}`);
  };
  const close = () => void navigate(`/people/${of}${query}`);
  useKeys({
    arrowdown: () => go(at + 1),
    arrowup: () => go(at - 1),
    escape: close,
  });
  if (error && !data) return <Failure error={error} again={() => void refetch()} />;
  return (
    <>
      <div className="filters">
        {FILTERS.map(({ key, words, matches }) => (
          <button
            key={key}
            type="button"
            className="btn btn-choice"
            aria-pressed={filter.key === key}
            onClick={() => change({ which: key === 'there' ? null : key })}
          >
            {words} {data ? all.filter(matches).length : ''}
          </button>
        ))}
      </div>
      <Bulk people={people.filter((p) => ticked.includes(p.id))} done={() => setTicked([])} />
      <div className={chosen ? 'people-layout with-sheet' : 'people-layout'}>
        <div>
          {!data && <SkeletonRows />}
          {data && people.length === 0 && <Nobody of={of} narrowed={all.length > 0} />}
          {people.length > 0 && <Rows {...{ of, people, chosen, query, ticked, setTicked }} />}
        </div>
        {chosen && <PersonPanel key={chosen} id={chosen} close={close} />}
      </div>
    </>
  );
}

const wordsOf = (p: PersonRow): string =>
  [p.name, p.signInName, p.email, ...p.groups.map((g) => g.name)].join(' ').toLowerCase();

function Nobody({ of, narrowed }: { of: Of; narrowed: boolean }) {
  if (narrowed) return <Empty>Nobody matches that.</Empty>;
  return of === 'guests' ? (
    <Empty
      action={
        <Link className="btn btn-primary" to="/stores">
          Go to the stores
        </Link>
      }
    >
      Guests are people from outside with an account of their own. Open a folder, and invite one under “Who reaches it”.
    </Empty>
  ) : (
    <Empty>Nobody is there yet.</Empty>
  );
}

interface RowsProps {
  of: Of;
  people: PersonRow[];
  chosen: string | undefined;
  query: string;
  ticked: readonly string[];
  setTicked: (ids: readonly string[]) => void;
}

function Rows({ of, people, chosen, query, ticked, setTicked }: RowsProps) {
  const all = people.every((p) => ticked.includes(p.id));
  return (
    <table className="rows">
      <thead>
        <tr>
          <th>
            <Form.Check
              aria-label="Tick everybody"
              checked={all}
              onChange={() => setTicked(all ? [] : people.map((p) => p.id))}
            />
          </th>
          <th>Name</th>
          <th>{of === 'guests' ? 'Mail' : 'Signs in as'}</th>
          {!chosen && <th>{of === 'guests' ? 'Guest of' : 'Groups'}</th>}
          {!chosen && of === 'guests' && <th>Reaches</th>}
          {!chosen && of === 'guests' && <th>Ends</th>}
          <th>Last here</th>
          {!chosen && of === 'staff' && <HiddenHead>Second factor</HiddenHead>}
        </tr>
      </thead>
      <tbody>
        {people.map((person) => (
          <PersonLine
            key={person.id}
            {...{ of, person, isChosen: person.id === chosen, brief: chosen !== undefined }}
            to={`/people/${of}/${person.id}${query}`}
            isTicked={ticked.includes(person.id)}
            tick={() =>
              setTicked(ticked.includes(person.id) ? ticked.filter((id) => id !== person.id) : [...ticked, person.id])
            }
          />
        ))}
      </tbody>
    </table>
  );
}

interface LineProps {
  of: Of;
  person: PersonRow;
  to: string;
  isChosen: boolean;
  /** Beside an open sheet there is room for little. */
  brief: boolean;
  isTicked: boolean;
  tick: () => void;
}

function PersonLine({ of, person, to, isChosen, brief, isTicked, tick }: LineProps) {
  const navigate = useNavigate();
  const { name, state, role, lastSeenAt, endsAt } = person;
  return (
    <tr data-clickable aria-selected={isChosen} onClick={() => void navigate(to)}>
      <td onClick={(e) => e.stopPropagation()}>
        <Form.Check aria-label={`Tick ${name}`} checked={isTicked} onChange={tick} />
      </td>
      <td className="first">
        <Link
          to={to}
          className="link-body-emphasis text-decoration-none fw-semibold"
          onClick={(e) => e.stopPropagation()}
        >
          {name}
        </Link>{' '}
        {role === 'admin' && <span className="quiet">admin</span>}
        {state !== 'usable' && <span className="quiet">{state}</span>}
      </td>
      <td className="quiet">{of === 'guests' ? person.email : person.signInName}</td>
      {!brief && (
        <td className="quiet">
          {of === 'guests' ? (person.sponsor?.name ?? 'nobody') : person.groups.map((g) => g.name).join(', ')}
        </td>
      )}
      {!brief && of === 'guests' && <ReachedBy personId={person.id} />}
      {!brief && of === 'guests' && (
        <td>{endsAt ? <When at={endsAt} brief /> : <span className="quiet">{quietWords(person.quietDays)}</span>}</td>
      )}
      <td>{lastSeenAt ? <When at={lastSeenAt} brief /> : <span className="quiet">never</span>}</td>
      {!brief && of === 'staff' && (
        <td>{person.factor && <i className="bi bi-shield-check" role="img" aria-label="has a second factor" />}</td>
      )}
    </tr>
  );
}

/** Folders that a line names. */
const NAMED = 3;

/** Where somebody was granted something, as far as whoever looks may know of it. */
function ReachedBy({ personId }: { personId: string }) {
  const { data } = useQuery(tableQuery(null));
  const cells = data?.rows.find((row) => row.id === personId)?.cells ?? '';
  const reached = (data?.folders ?? []).flatMap(({ id, name }, i) => {
    const { level, here } = readCellSign(cells.charAt(i));
    return level && here ? [{ id, words: `${name} (${level})` }] : [];
  });
  const more = reached.length - NAMED;
  return (
    <td>
      {reached
        .slice(0, NAMED)
        .map((r) => r.words)
        .join(', ') || (data ? 'nothing' : '')}
      {more > 0 && <span className="quiet"> and {more} more</span>}
    </td>
  );
}

const quietWords = (days: number | null): string =>
  days === null ? 'not by itself' : `after ${countOf(days, 'day')} without a visit`;

const BULK: [act: PeopleAct, words: string][] = [
  ['sign-out', 'Sign out everywhere'],
  ['disable', 'Disable'],
  ['enable', 'Enable'],
];

function Bulk({ people, done }: { people: PersonRow[]; done: () => void }) {
  const verbs = usePeopleVerbs();
  if (people.length === 0) return null;
  return (
    <div className="filters" role="group" aria-label="With those that are ticked">
      <strong>{countOf(people.length, 'person', 'people')}</strong>
      {BULK.map(([act, words]) => (
        <Button
          key={act}
          variant="plain"
          size="sm"
          disabled={verbs.act.isPending}
          onClick={() => verbs.act.mutate({ act, people }, { onSuccess: done })}
        >
          {words}
        </Button>
      ))}
    </div>
  );
}
