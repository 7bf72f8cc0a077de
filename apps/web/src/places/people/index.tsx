import type { People } from '@quay/contract';
import { countOf, peopleWords } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { useRef, useState } from 'react';
import { Button, Form } from 'react-bootstrap';
import { Navigate, NavLink, useNavigate, useParams } from 'react-router';
import { useKeys } from '../../ui/keys';
import { useSearch } from '../../ui/search';
import { now, useMe } from '../../ui/session';
import { useTyped } from '../../ui/typed';
import { AddPerson } from './add-person';
import { DirectoryView } from './directory';
import { DutiesView } from './duties';
import { GroupsView } from './groups';
import { ImportPeopleDialog } from './import-people';
import { PeopleView } from './list';
import { OwnGroups } from './own-groups';
import { peopleQuery } from '../../ui/queries';
import { ReachView } from './reach-view';
import { SeenAsView } from './seen-as';
import './index.scss';

const VIEWS = ['reach', 'staff', 'guests', 'groups', 'duties', 'directory'] as const;
type View = (typeof VIEWS)[number];

/** Who is there, what they reach, and who answers for them. Whoever only manages groups sees those. */
export function PeoplePlace() {
  const me = useMe();
  const { view, id, folderId, shareId } = useParams();
  if (!me.duties.includes('run-people')) return <OwnGroups />;
  return view === 'as' && id ? <SeenAsView personId={id} folderId={folderId} shareId={shareId} /> : <Everybody />;
}

function Everybody() {
  const { view = 'reach', id } = useParams();
  const { data } = useQuery(peopleQuery);
  const [adding, setAdding] = useState<'one' | 'list' | null>(null);
  const shown = VIEWS.find((v) => v === view);
  if (!shown) return <Navigate to="/people" replace />;
  return (
    <>
      <div className="title-line">
        <Title people={data} />
        <div className="tools">
          <Button variant="plain" onClick={() => setAdding('list')}>
            From a list
          </Button>
          <Button onClick={() => setAdding('one')}>Add a person</Button>
        </div>
      </div>
      <div className="people-head">
        <Views people={data} />
        {(shown === 'reach' || shown === 'staff' || shown === 'guests') && <Find key={shown} what={shown} />}
      </div>
      {shown === 'reach' && <ReachView />}
      {(shown === 'staff' || shown === 'guests') && <PeopleView key={shown} of={shown} chosen={id} />}
      {shown === 'groups' && <GroupsView chosen={id} />}
      {shown === 'duties' && <DutiesView chosen={id} />}
      {shown === 'directory' && <DirectoryView chosen={id} />}
      {adding === 'one' && <AddPerson close={() => setAdding(null)} />}
      {adding === 'list' && <ImportPeopleDialog close={() => setAdding(null)} />}
    </>
  );
}

function Title({ people }: { people: People | undefined }) {
  const navigate = useNavigate();
  if (!people) return <h1>People</h1>;
  const [kept] = people.kept;
  return (
    <h1>
      {peopleWords(
        people.people.map(({ endsAt, ...p }) => ({ ...p, endsAt: endsAt === null ? null : Date.parse(endsAt) })),
        now(),
      )}{' '}
      {kept && (
        <button
          type="button"
          className="hand link"
          onClick={() => void navigate(`/people?cell=${kept.person.id}+${kept.folder.id}`)}
        >
          {people.kept.length === 1
            ? `${kept.person.name} left ${kept.group.name} and still reaches ${kept.folder.name}.`
            : `${countOf(people.kept.length, 'grant')} kept by people who left the group.`}
        </button>
      )}
    </h1>
  );
}

function Views({ people }: { people: People | undefined }) {
  const count = (view: View): number | '' => {
    if (!people || view === 'reach' || view === 'directory') return '';
    if (view === 'groups') return people.groups.length;
    if (view === 'duties') return people.dutySets.length || '';
    return people.people.filter((p) => p.state !== 'disabled' && (p.role === 'guest') === (view === 'guests')).length;
  };
  const names: Record<View, string> = {
    ...{ reach: 'Who reaches what', staff: 'Staff', guests: 'Guests', groups: 'Groups', duties: 'Duties' },
    directory: 'Directory',
  };
  return (
    <nav className="people-views" aria-label="Views of people">
      {VIEWS.map((view) => (
        <NavLink key={view} to={view === 'reach' ? '/people' : `/people/${view}`} end={view === 'reach'}>
          {names[view]} <span className="number">{count(view)}</span>
        </NavLink>
      ))}
    </nav>
  );
}

const FIND_WORDS: Record<Extract<View, 'reach' | 'staff' | 'guests'>, string> = {
  reach: 'Person, group or folder',
  staff: 'Name, mail or group',
  guests: 'Name or mail',
};

/** What is looked for stands in the address. */
function Find({ what }: { what: keyof typeof FIND_WORDS }) {
  const [params, change] = useSearch();
  const field = useRef<HTMLInputElement>(null);
  const [find, setFind] = useTyped(params.get('find') ?? '', (text) =>
    change({ find: text.trim() }, { replace: true }),
  );
  useKeys({ '/': () => field.current?.focus() });
  return (
    <Form.Control
      ref={field}
      type="search"
      size="sm"
      aria-label={`Find: ${FIND_WORDS[what].toLowerCase()}`}
      placeholder={FIND_WORDS[what]}
      maxLength={200}
      value={find}
      onChange={(e) => setFind(e.target.value)}
    />
  );
}
