import { newDutySetSchema, type DutySetRow, type NewDutySet, type People, type PersonRow } from '@quay/contract';
import {
  countOf,
  DUTIES,
  DUTY_WORDS,
  dutyShiftWords,
  isReadySet,
  READY_DUTIES,
  type Duty,
  type Role,
} from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Button, Form } from 'react-bootstrap';
import { Link, useNavigate } from 'react-router';
import { Field, FormFault, keepFocus, useKeptForm } from '../../ui/form';
import { useKeys } from '../../ui/keys';
import { tellFailure } from '../../ui/notices';
import { useMe } from '../../ui/session';
import { Failure, SkeletonRows } from '../../ui/states';
import './duties.scss';
import { peopleQuery } from '../../ui/queries';
import { useDutySetVerbs } from './verbs';

const READY_WORDS: Record<Role, string> = { admin: 'Admins', staff: 'Staff', guest: 'Guests' };

/** What people may do beside files: sets with a name, what each kind of account begins with, and who has which. */
export function DutiesView({ chosen }: { chosen: string | undefined }) {
  const { data, error, refetch } = useQuery(peopleQuery);
  const navigate = useNavigate();
  const close = () => void navigate('/people/duties');
  useKeys({ escape: close });
  if (error && !data) return <Failure error={error} again={() => void refetch()} />;
  const set = data?.dutySets.find((s) => s.id === chosen);
  return (
    <div className={set ? 'people-layout with-sheet' : 'people-layout'}>
      <div>
        <NewSet />
        {data ? <Sets people={data} chosen={chosen} /> : <SkeletonRows />}
      </div>
      {set && data && (
        <aside className="people-sheet" aria-labelledby="duty-set-title">
          <div className="sheet-head">
            <h2 id="duty-set-title">{set.name}</h2>
            <Button variant="plain" size="sm" onClick={close}>
              Close
            </Button>
          </div>
          <SetPanel key={set.id} set={set} holders={holdersOf(data, set.id)} close={close} />
        </aside>
      )}
    </div>
  );
}

const usable = (people: People): PersonRow[] => people.people.filter((p) => p.state !== 'disabled');
const holdersOf = (people: People, setId: string): PersonRow[] => usable(people).filter((p) => p.dutySet?.id === setId);
const namesOf = (people: readonly PersonRow[]): string => people.map((p) => p.name).join(', ') || 'nobody';
const dutyWords = (duties: readonly Duty[]): string => duties.map((d) => DUTY_WORDS[d]).join(', ') || 'nothing';

function NewSet() {
  const { make } = useDutySetVerbs();
  const me = useMe();
  const navigate = useNavigate();
  const { form, submit } = useKeptForm<NewDutySet>(newDutySetSchema, { name: '', duties: [] }, async ({ name }) => {
    const sets = await make.mutateAsync({ name, duties: [] });
    const made = sets.find((s) => s.name === name);
    if (made) await navigate(`/people/duties/${made.id}`);
  });
  if (me.role !== 'admin') return null;
  return (
    <Form noValidate onSubmit={submit} className="new-group">
      <Field
        {...{ form, name: 'name', id: 'new-duty-set', label: 'New set of duties', hiddenLabel: true }}
        {...{ size: 'sm', maxLength: 80, placeholder: 'Name of a new set of duties' }}
      />
      <Button type="submit" size="sm" variant="plain" onMouseDown={keepFocus}>
        Make the set
      </Button>
      <FormFault form={form} />
    </Form>
  );
}

function Sets({ people, chosen }: { people: People; chosen: string | undefined }) {
  const navigate = useNavigate();
  const apart = usable(people).filter((p) => p.dutySet === null);
  const own = apart.filter((p) => !isReadySet(p.role, p.duties));
  return (
    <table className="rows duty-sets">
      <thead>
        <tr>
          <th>Set</th>
          <th>May, beside files</th>
          <th>Who has it</th>
        </tr>
      </thead>
      <tbody>
        {people.dutySets.map((set) => (
          <tr
            key={set.id}
            data-clickable
            aria-selected={set.id === chosen}
            onClick={() => void navigate(`/people/duties/${set.id}`)}
          >
            <td className="first">
              <Link
                to={`/people/duties/${set.id}`}
                className="link-body-emphasis text-decoration-none fw-semibold"
                onClick={(e) => e.stopPropagation()}
              >
                {set.name}
              </Link>
            </td>
            <td>{dutyWords(set.duties)}</td>
            <td className="quiet">{namesOf(holdersOf(people, set.id))}</td>
          </tr>
        ))}
        {(['admin', 'staff', 'guest'] as const).map((role) => (
          <tr key={role}>
            <td className="first">
              {READY_WORDS[role]} <span className="quiet">as they begin</span>
            </td>
            <td>{dutyWords(READY_DUTIES[role])}</td>
            <td className="quiet">{namesOf(apart.filter((p) => p.role === role && isReadySet(role, p.duties)))}</td>
          </tr>
        ))}
        {own.map((p) => (
          <tr key={p.id}>
            <td className="first">
              <Link to={`/people/${p.role === 'guest' ? 'guests' : 'staff'}/${p.id}`}>{p.name}</Link>{' '}
              <span className="quiet">of their own</span>
            </td>
            <td>{dutyWords(p.duties)}</td>
            <td className="quiet">{p.name}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

interface SetPanelProps {
  set: DutySetRow;
  holders: PersonRow[];
  close: () => void;
}

function SetPanel({ set, holders, close }: SetPanelProps) {
  const me = useMe();
  const verbs = useDutySetVerbs();
  const who = holders.length === 1 ? (holders[0]?.name ?? '') : countOf(holders.length, 'person', 'people');
  return (
    <>
      <DutiesDraft
        key={set.duties.join()}
        before={set.duties}
        readOnly={me.role !== 'admin'}
        effect={(duties) =>
          holders.length === 0 ? 'Nobody has this set yet.' : dutyShiftWords(who, set.duties, duties)
        }
        save={(duties) => verbs.alter.mutateAsync({ set, part: { duties } })}
      />
      <section>
        <h3>Who has it</h3>
        <p className="quiet mb-0">
          {holders.length === 0 ? 'Nobody. It is given in the sheet of a person, under Duties.' : namesOf(holders)}
        </p>
      </section>
      {me.role === 'admin' && <SetName set={set} holders={holders.length} close={close} />}
    </>
  );
}

function SetName({ set, holders, close }: { set: DutySetRow; holders: number; close: () => void }) {
  const verbs = useDutySetVerbs();
  const { form, submit } = useKeptForm<NewDutySet>(newDutySetSchema, set, ({ name }) =>
    verbs.alter.mutateAsync({ set, part: { name } }),
  );
  return (
    <section>
      <Form noValidate onSubmit={submit} className="new-group">
        <Field {...{ form, name: 'name', id: 'duty-set-name', label: 'Name of the set', size: 'sm' }} />
        <Button type="submit" size="sm" variant="plain" onMouseDown={keepFocus}>
          Rename
        </Button>
        <FormFault form={form} />
      </Form>
      <Button variant="outline-danger" size="sm" onClick={() => verbs.remove.mutate(set, { onSuccess: close })}>
        Remove this set
      </Button>
      {holders > 0 && <p className="quiet mb-0 mt-1">Whoever has it keeps its duties, as their own.</p>}
    </section>
  );
}

interface DutiesDraftProps {
  before: readonly Duty[];
  readOnly: boolean;
  /** They are to be saved as they are here, because they come from elsewhere. */
  isOther?: boolean;
  /** What saving these would do, in a sentence; empty: nothing. */
  effect: (duties: Duty[]) => string;
  save: (duties: Duty[]) => Promise<unknown>;
  leave?: () => void;
}

/** Duties that are changed in peace: what it does is said before it is saved. */
export function DutiesDraft({ before, readOnly, isOther, effect, save, leave }: DutiesDraftProps) {
  const [duties, setDuties] = useState<Duty[]>([...before]);
  const [saving, setSaving] = useState(false);
  const hasChange = isOther || duties.join() !== before.join();
  const keep = async () => {
    setSaving(true);
    await save(duties).catch(tellFailure);
    setSaving(false);
  };
  const giveUp = () => {
    setDuties([...before]);
    leave?.();
  };
  return (
    <div className="duties-draft">
      {DUTIES.map((duty) => (
        <Form.Check
          key={duty}
          id={`duty-${duty}`}
          label={DUTY_WORDS[duty]}
          checked={duties.includes(duty)}
          disabled={readOnly || saving}
          onChange={(e) => setDuties(DUTIES.filter((d) => (d === duty ? e.target.checked : duties.includes(d))))}
        />
      ))}
      {hasChange && (
        <div className="access-preview" role="status">
          {effect(duties)}
          <div className="verbs">
            <Button size="sm" disabled={saving} onClick={() => void keep()}>
              Save
            </Button>
            <Button variant="plain" size="sm" disabled={saving} onClick={giveUp}>
              Leave it
            </Button>
          </div>
        </div>
      )}
    </div>
  );
}
