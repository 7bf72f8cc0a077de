import type { ChangePerson, PersonSheet } from '@quay/contract';
import { countOf, dutyShiftWords, isReadySet, LEVEL_WORDS, READY_DUTIES } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Button, Form } from 'react-bootstrap';
import { Link } from 'react-router';
import { tellFailure, useNotices } from '../../ui/notices';
import { useMe } from '../../ui/session';
import { StateMark } from '../../ui/state-mark';
import { Failure, SkeletonRows } from '../../ui/states';
import { When } from '../../ui/words';
import { DutiesDraft } from './duties';
import { EditPerson } from './edit-person';
import { InvitationNote } from '../../ui/access/invitation-note';
import { LeavingDialog, LeftNote } from './leaving';
import { peopleQuery } from '../../ui/queries';
import { useSearch } from '../../ui/search';
import { MomentField } from './moment-bar';
import { broughtQuery, personQuery, sharesByQuery, thenQuery } from './queries';

import { useGroupVerbs, usePeopleVerbs } from './verbs';

/**
 * Everything about one account, and what can be done with it; or what they were and reached at a moment, which the
 * address holds.
 */
export function PersonPanel({ id, close }: { id: string; close: () => void }) {
  const { data: person, error, refetch } = useQuery(personQuery(id));
  const [params, change] = useSearch();
  const at = params.get('at');
  return (
    <aside className="people-sheet" aria-labelledby="person-title">
      <div className="sheet-head">
        <h2 id="person-title">{person?.name ?? 'Somebody'}</h2>
        <Button variant="plain" size="sm" onClick={close}>
          Close
        </Button>
      </div>
      {error && <Failure error={error} again={() => void refetch()} />}
      {!person && !error && <SkeletonRows count={6} />}
      {person && (
        <>
          <div className="sheet-moment">
            <span className="label">At</span>
            <button
              type="button"
              className="btn btn-choice btn-sm"
              aria-pressed={at === null}
              onClick={() => change({ at: null })}
            >
              now
            </button>
            <MomentField key={at ?? 'now'} at={at} choose={(moment) => change({ at: moment })} />
          </div>
          {at === null ? <Now person={person} /> : <Then person={person} at={at} />}
        </>
      )}
    </aside>
  );
}

function Now({ person }: { person: PersonSheet }) {
  const [editing, setEditing] = useState(false);
  return (
    <>
      {editing ? (
        <EditPerson person={person} done={() => setEditing(false)} />
      ) : (
        <Facts person={person} edit={() => setEditing(true)} />
      )}
      <Groups person={person} />
      <Reaches id={person.id} reaches={person.reaches} hidden={person.hidden} />
      {person.role !== 'guest' && <Duties key={`${person.dutySet?.id} ${person.duties.join()}`} person={person} />}
      {person.role !== 'guest' && <SharesOf person={person} />}
      <Brought person={person} />
      <Sessions person={person} />
      <Acts person={person} />
    </>
  );
}

function Facts({ person, edit }: { person: PersonSheet; edit: () => void }) {
  const verbs = usePeopleVerbs();
  const me = useMe();
  const [leaving, setLeaving] = useState(false);
  const isOver = person.state === 'disabled';
  return (
    <>
      <dl className="facts">
        <dt>Account</dt>
        <dd>
          {person.role}, {person.state === 'usable' ? 'since' : `${person.state}, made`}{' '}
          <When at={person.since} brief />
        </dd>
        <dt>Signs in as</dt>
        <dd>
          {person.signInName}
          {person.directory && <span className="quiet">, by the directory</span>}
        </dd>
        <dt>Mail</dt>
        <dd>{person.email}</dd>
        <dt>Last here</dt>
        <dd>{person.lastSeenAt ? <When at={person.lastSeenAt} /> : 'never'}</dd>
        <dt>Second factor</dt>
        <dd>{person.factor ? 'yes' : 'none'}</dd>
        {person.role === 'guest' && <GuestFacts person={person} />}
      </dl>
      <div className="verbs">
        <Button variant="plain" size="sm" onClick={edit}>
          Change
        </Button>
        {person.directory && me.role === 'admin' && (
          <Button variant="plain" size="sm" onClick={() => verbs.detach.mutate(person)}>
            Sign in apart from the directory
          </Button>
        )}
        {!isOver && !person.directory && <WaysIn person={person} invite={verbs.invite} />}
        {person.factor && (
          <Button variant="plain" size="sm" onClick={() => verbs.factorOff.mutate(person.id)}>
            Their device was lost
          </Button>
        )}
        {person.id !== me.id && !isOver && (
          <Link className="btn btn-plain btn-sm" to={`/people/as/${person.id}`}>
            As they see it
          </Link>
        )}
        {person.id !== me.id && (
          <Button
            variant="plain"
            size="sm"
            onClick={() => verbs.act.mutate({ act: isOver ? 'enable' : 'disable', people: [person] })}
          >
            {isOver ? 'Enable' : 'Disable'}
          </Button>
        )}
        {person.id !== me.id && !isOver && (
          <Button variant="outline-danger" size="sm" onClick={() => setLeaving(true)}>
            Leaves
          </Button>
        )}
      </div>
      {isOver && <LeftNote person={person} />}
      {leaving && <LeavingDialog person={person} close={() => setLeaving(false)} />}
      {verbs.invite.data && <InvitationNote of={verbs.invite.data} />}
    </>
  );
}

function GuestFacts({ person: { sponsor, endsAt, quietDays } }: { person: PersonSheet }) {
  return (
    <>
      <dt>Guest of</dt>
      <dd>{sponsor?.name ?? 'nobody'}</dd>
      <dt>Ends</dt>
      <dd>
        {endsAt ? <When at={endsAt} brief /> : quietDays ? '' : 'not by itself'}
        {quietDays !== null && `${endsAt ? ', or ' : ''}after ${countOf(quietDays, 'day')} without a visit`}
      </dd>
    </>
  );
}

/** Other ways in for somebody who lost theirs, or never used it. */
function WaysIn({ person, invite }: { person: PersonSheet; invite: ReturnType<typeof usePeopleVerbs>['invite'] }) {
  const me = useMe();
  return (
    <>
      <Button
        variant="plain"
        size="sm"
        disabled={invite.isPending}
        onClick={() => invite.mutate({ id: person.id, by: 'mail' })}
      >
        {person.state === 'invited' ? 'Send the link again' : 'Link for a new password'}
      </Button>
      {(me.role === 'admin' || person.state === 'invited') && (
        <Button
          variant="plain"
          size="sm"
          disabled={invite.isPending}
          onClick={() => invite.mutate({ id: person.id, by: 'password' })}
        >
          A password to tell them
        </Button>
      )}
    </>
  );
}

function Groups({ person }: { person: PersonSheet }) {
  const { data } = useQuery(peopleQuery);
  const verbs = useGroupVerbs();
  const member = { kind: 'person' as const, id: person.id, name: person.name };
  const mine = new Set(person.groups.map((g) => g.id));
  const groups = data?.groups ?? [];
  const free = groups.filter((g) => !mine.has(g.id));
  const find = (id: string) => groups.find((g) => g.id === id);
  return (
    <section>
      <h3>Groups</h3>
      <ul>
        {person.groups.map(({ id, name }) => {
          const group = find(id);
          return (
            <li key={id} className="d-flex align-items-center gap-2">
              {name}
              {group && (
                <button type="button" className="link small" onClick={() => verbs.leave.mutate({ group, member })}>
                  Take out<span className="visually-hidden"> of {name}</span>
                </button>
              )}
            </li>
          );
        })}
        {person.through.map(({ group, through }) => (
          <li key={`${group.id} ${through.map((t) => t.id).join()}`} className="quiet">
            {group.name}, through {through.map((t) => t.name).join(' and ')}
          </li>
        ))}
      </ul>
      {person.groups.length === 0 && <p className="quiet mb-1">In no group.</p>}
      {free.length > 0 && (
        <Form.Select
          size="sm"
          aria-label="Put into a group"
          value=""
          onChange={(e) => {
            const group = find(e.target.value);
            if (group) verbs.join.mutate({ group, member });
          }}
        >
          <option value="">Put into a group</option>
          {free.map((g) => (
            <option key={g.id} value={g.id}>
              {g.name}
            </option>
          ))}
        </Form.Select>
      )}
    </section>
  );
}

interface ReachesProps extends Pick<PersonSheet, 'id' | 'reaches' | 'hidden'> {
  /** A moment of the past; left out: now. */
  at?: string;
}

function Reaches({ id, reaches, hidden, at }: ReachesProps) {
  return (
    <section>
      <h3>{at ? 'What they reached' : 'What they reach'}</h3>
      {reaches.length === 0 && <p className="quiet mb-1">Nothing that belongs to the office.</p>}
      <ul>
        {reaches.map((folder) => (
          <li key={folder.folderId}>
            <Link to={`/people?cell=${id}+${folder.folderId}${at ? `&at=${encodeURIComponent(at)}` : ''}`}>
              {folder.path.join(' / ')}
            </Link>
            : {folder.level ? LEVEL_WORDS[folder.level] : 'only says who reaches it'}
            {folder.until && (
              <>
                {' '}
                until <When at={folder.until} brief />
              </>
            )}
            {folder.why.map((why) => (
              <span key={why} className="d-block quiet small">
                {why}
              </span>
            ))}
          </li>
        ))}
      </ul>
      {hidden > 0 && <p className="quiet mb-0">And {countOf(hidden, 'folder')} that you have no part in.</p>}
    </section>
  );
}

const ROLE_WORDS = { admin: 'an admin', staff: 'staff', guest: 'a guest' };

/** What they were and reached at a moment, to look at only. */
function Then({ person, at }: { person: PersonSheet; at: string }) {
  const { data, error, refetch } = useQuery(thenQuery(person.id, at));
  if (error) return <Failure error={error} again={() => void refetch()} />;
  if (!data) return <SkeletonRows count={4} />;
  return (
    <>
      <p className="mb-0">
        <When at={data.at} />: {data.role ? ROLE_WORDS[data.role] : 'no account that could be used'}.
      </p>
      <section>
        <h3>Groups</h3>
        <p className="mb-0">
          {[...data.groups.map((g) => g.name), ...data.through.map(throughWords)].join('; ') || 'In no group.'}
        </p>
      </section>
      <Reaches id={person.id} reaches={data.reaches} hidden={data.hidden} at={at} />
    </>
  );
}

const throughWords = ({ group, through }: PersonSheet['through'][number]): string =>
  `${group.name}, through ${through.map((t) => t.name).join(' and ')}`;

/** Their newest shares, as far as whoever looks sees them. */
function SharesOf({ person }: { person: PersonSheet }) {
  const { data } = useQuery(sharesByQuery(person.id));
  if (!data) return null;
  const all = Object.values(data.counts ?? {}).reduce((sum, n) => sum + n, 0);
  return (
    <section>
      <h3>Their shares</h3>
      {all === 0 && <p className="quiet mb-0">None that you see.</p>}
      <ul>
        {data.shares.map((share) => (
          <li key={share.id} className="d-flex align-items-center gap-2">
            <StateMark state={share.state} />
            <Link className="link-body-emphasis" to={`/shares/${share.id}`}>
              {share.title}
            </Link>
          </li>
        ))}
      </ul>
      {all > data.shares.length && (
        <Link className="small" to={`/shares?find=${encodeURIComponent(person.name)}`}>
          All {all}, {data.counts?.open} open
        </Link>
      )}
    </section>
  );
}

/** The files that they changed last, as far as whoever looks sees them. */
function Brought({ person }: { person: PersonSheet }) {
  const { data } = useQuery(broughtQuery(person.id));
  if (!data) return null;
  return (
    <section>
      <h3>What they brought last</h3>
      {data.items.length === 0 && <p className="quiet mb-0">Nothing that you see.</p>}
      <ul>
        {data.items.slice(0, BROUGHT_SHOWN).map((item) => (
          <li key={item.id}>
            <Link className="link-body-emphasis" to={`/stores/${item.path.at(-1)?.id ?? ''}?show=${item.id}`}>
              {item.name}
            </Link>{' '}
            <span className="quiet small">
              {item.path.map((p) => p.name).join(' / ')}, <When at={item.changedAt} brief />
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}

/** What they may do beside files: by a set, as their kind of account begins, or of their own. Only an admin changes it. */
function Duties({ person }: { person: PersonSheet }) {
  const me = useMe();
  const { data } = useQuery(peopleQuery);
  const { change } = usePeopleVerbs();
  const isAdmin = me.role === 'admin';
  const sets = data?.dutySets ?? [];
  const is = person.dutySet?.id ?? (isReadySet(person.role, person.duties) ? READY : OWN);
  const [chosen, setChosen] = useState(is);
  const begins = READY_DUTIES[person.role];
  const duties = chosen === READY ? begins : (sets.find((s) => s.id === chosen)?.duties ?? person.duties);
  const { show } = useNotices();
  const save = (asked: ChangePerson) =>
    change.mutateAsync({ id: person.id, asked }).then(() => {
      const before = person.dutySet ? { dutySetId: person.dutySet.id } : { duties: person.duties };
      const undo = () => void change.mutateAsync({ id: person.id, asked: before }).catch(tellFailure);
      show('Their duties are changed.', { undo });
    });
  return (
    <section>
      <h3>Duties</h3>
      <Form.Select
        size="sm"
        className="mb-2"
        aria-label="By which set"
        value={chosen}
        disabled={!isAdmin}
        onChange={(e) => setChosen(e.target.value)}
      >
        <option value={READY}>As {person.role === 'admin' ? 'admins' : person.role} begin</option>
        {sets.map((s) => (
          <option key={s.id} value={s.id}>
            {s.name}
          </option>
        ))}
        <option value={OWN}>Of their own</option>
      </Form.Select>
      <DutiesDraft
        key={`${chosen} ${duties.join()}`}
        before={duties}
        isOther={chosen !== is}
        readOnly={!isAdmin || chosen !== OWN}
        effect={(after) => dutyShiftWords(person.name, person.duties, after) || 'They may do the same as now.'}
        save={(after) => save(chosen === OWN ? { duties: after } : { dutySetId: chosen === READY ? null : chosen })}
        leave={() => setChosen(is)}
      />
    </section>
  );
}

/** Of what they brought. */
const BROUGHT_SHOWN = 6;

/** No set: what the kind of account begins with, or duties of their own. */
const [READY, OWN] = ['ready', 'own'];

function Sessions({ person }: { person: PersonSheet }) {
  const { act } = usePeopleVerbs();
  return (
    <section>
      <h3>Signed in</h3>
      {person.sessions.length === 0 && <p className="quiet mb-0">Nowhere.</p>}
      <ul>
        {person.sessions.map((s) => (
          <li key={s.id}>
            {s.browser} <span className="quiet">from {s.from}, last used</span> <When at={s.lastSeen} brief />
          </li>
        ))}
      </ul>
      {person.sessions.length > 0 && (
        <Button
          variant="plain"
          size="sm"
          className="mt-1"
          disabled={act.isPending}
          onClick={() => act.mutate({ act: 'sign-out', people: [person] })}
        >
          Sign out everywhere
        </Button>
      )}
    </section>
  );
}

function Acts({ person: { acts } }: { person: PersonSheet }) {
  if (acts.length === 0) return null;
  return (
    <section>
      <h3>Last acts</h3>
      <ul>
        {acts.slice(0, 8).map((act) => (
          <li key={act.seq}>
            {act.words} <span className="quiet">·</span> <When at={act.at} brief />
          </li>
        ))}
      </ul>
    </section>
  );
}
