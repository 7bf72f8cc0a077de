import { groupNameSchema, type GroupMember, type GroupRow, type People } from '@quay/contract';
import { countOf } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Button, Form } from 'react-bootstrap';
import { Link, useNavigate } from 'react-router';
import { Field, FormFault, keepFocus, useKeptForm } from '../../ui/form';
import { useKeys } from '../../ui/keys';
import { Empty, Failure, SkeletonRows } from '../../ui/states';
import { When } from '../../ui/words';
import { peopleQuery } from '../../ui/queries';
import './groups.scss';
import { useGroupVerbs } from './verbs';

/** Groups, and who is in each; one is looked at beside the list. */
export function GroupsView({ chosen }: { chosen: string | undefined }) {
  const { data, error, refetch } = useQuery(peopleQuery);
  const navigate = useNavigate();
  useKeys({ escape: () => void navigate('/people/groups') });
  if (error && !data) return <Failure error={error} again={() => void refetch()} />;
  const group = data?.groups.find((g) => g.id === chosen);
  return (
    <div className={group ? 'people-layout with-sheet' : 'people-layout'}>
      <div>
        <NewGroup />
        {!data && <SkeletonRows />}
        {data && data.groups.length === 0 && (
          <Empty>Groups are granted things instead of one person after the other. Make the first one.</Empty>
        )}
        {data && data.groups.length > 0 && <GroupRows groups={data.groups} chosen={chosen} />}
      </div>
      {group && data && (
        <aside className="people-sheet" aria-labelledby="group-title">
          <div className="sheet-head">
            <h2 id="group-title">{group.name}</h2>
            <Button variant="plain" size="sm" onClick={() => void navigate('/people/groups')}>
              Close
            </Button>
          </div>
          <GroupPanel key={group.id} group={group} all={data} />
        </aside>
      )}
    </div>
  );
}

function NewGroup() {
  const { make } = useGroupVerbs();
  const { form, submit } = useKeptForm<{ name: string }>(groupNameSchema, { name: '' }, ({ name }) =>
    make.mutateAsync(name),
  );
  return (
    <Form noValidate onSubmit={submit} className="new-group">
      <Field
        {...{ form, name: 'name', id: 'new-group', label: 'New group', hiddenLabel: true, size: 'sm', maxLength: 80 }}
        placeholder="Name of a new group"
      />
      <Button type="submit" size="sm" variant="plain" onMouseDown={keepFocus}>
        Make the group
      </Button>
      <FormFault form={form} />
    </Form>
  );
}

function GroupRows({ groups, chosen }: { groups: GroupRow[]; chosen: string | undefined }) {
  const navigate = useNavigate();
  return (
    <table className="rows">
      <thead>
        <tr>
          <th>Group</th>
          <th className="number">People</th>
          <th>In it</th>
          <th>Managed by</th>
        </tr>
      </thead>
      <tbody>
        {groups.map((g) => (
          <tr
            key={g.id}
            data-clickable
            aria-selected={g.id === chosen}
            onClick={() => void navigate(`/people/groups/${g.id}`)}
          >
            <td className="first">
              <Link
                to={`/people/groups/${g.id}`}
                className="link-body-emphasis text-decoration-none fw-semibold"
                onClick={(e) => e.stopPropagation()}
              >
                {g.name}
              </Link>
            </td>
            <td className="number">{g.people}</td>
            <td className="quiet">{g.members.map((m) => m.name).join(', ') || 'nobody yet'}</td>
            <td className="quiet">{g.managers.map((m) => m.name).join(', ')}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function GroupPanel({ group, all }: { group: GroupRow; all: People }) {
  const verbs = useGroupVerbs();
  const staff = all.people.filter((p) => p.role !== 'guest' && p.state !== 'disabled');
  return (
    <>
      <Members group={group} choices={choicesOf(group, all)} />
      <section>
        <h3>Managed by</h3>
        <p className="quiet mb-1">They put people into it and take them out, and see no other group.</p>
        <ul>
          {group.managers.map((m) => (
            <li key={m.id}>
              {m.name}{' '}
              <button
                type="button"
                className="link small"
                onClick={() =>
                  verbs.manage.mutate({
                    group,
                    personIds: group.managers.flatMap((o) => (o.id === m.id ? [] : [o.id])),
                  })
                }
              >
                Not any more<span className="visually-hidden">: {m.name}</span>
              </button>
            </li>
          ))}
        </ul>
        <Form.Select
          size="sm"
          aria-label="Another manager"
          value=""
          onChange={(e) =>
            verbs.manage.mutate({ group, personIds: [...group.managers.map((m) => m.id), e.target.value] })
          }
        >
          <option value="">Another manager</option>
          {staff
            .filter((p) => !group.managers.some((m) => m.id === p.id))
            .map((p) => (
              <option key={p.id} value={p.id}>
                {p.name}
              </option>
            ))}
        </Form.Select>
      </section>
      <Name group={group} />
    </>
  );
}

/** Who can be put into a group: people with an account, and other groups. */
function choicesOf(group: GroupRow, all: People): Choice[] {
  return [
    ...all.groups.filter((g) => g.id !== group.id).map((g): Choice => ({ kind: 'group', id: g.id, name: g.name })),
    ...all.people
      .filter((p) => p.state !== 'disabled')
      .map((p): Choice => ({ kind: 'person', id: p.id, name: p.role === 'guest' ? `${p.name}, guest` : p.name })),
  ];
}

export type Choice = Omit<GroupMember, 'since' | 'by'>;

export function Members({ group, choices }: { group: GroupRow; choices: Choice[] }) {
  const verbs = useGroupVerbs();
  const free = choices.filter((c) => !group.members.some((m) => m.id === c.id));
  const put = (id: string) => {
    const member = free.find((c) => c.id === id);
    if (member) verbs.join.mutate({ group, member });
  };
  return (
    <section>
      <h3>{countOf(group.people, 'person', 'people')}</h3>
      <ul>
        {group.members.map((m) => (
          <li key={m.id}>
            {m.name}
            {m.kind === 'group' && <span className="quiet"> group</span>}{' '}
            <span className="quiet small">
              since <When at={m.since} brief />
            </span>{' '}
            {m.by === 'directory' ? (
              <span className="quiet small">by the directory</span>
            ) : (
              <button type="button" className="link small" onClick={() => verbs.leave.mutate({ group, member: m })}>
                Take out<span className="visually-hidden"> {m.name}</span>
              </button>
            )}
          </li>
        ))}
      </ul>
      <Form.Select size="sm" aria-label={`Put into ${group.name}`} value="" onChange={(e) => put(e.target.value)}>
        <option value="">Put somebody in</option>
        {free.map((c) => (
          <option key={c.id} value={c.id}>
            {c.kind === 'group' ? `${c.name} (group)` : c.name}
          </option>
        ))}
      </Form.Select>
    </section>
  );
}

function Name({ group }: { group: GroupRow }) {
  const verbs = useGroupVerbs();
  const navigate = useNavigate();
  const [asking, setAsking] = useState(false);
  const { form, submit } = useKeptForm<{ name: string }>(groupNameSchema, { name: group.name }, ({ name }) =>
    verbs.rename.mutateAsync({ group, name }),
  );
  const end = () =>
    verbs.end.mutate(group, {
      onSuccess: () => void navigate('/people/groups'),
    });
  return (
    <section>
      <Form noValidate onSubmit={submit} className="new-group">
        <Field {...{ form, name: 'name', id: 'group-name', label: 'Name of the group', size: 'sm' }} />
        <Button type="submit" size="sm" variant="plain" onMouseDown={keepFocus}>
          Rename
        </Button>
        <FormFault form={form} />
      </Form>
      {asking ? (
        <p className="mb-0">
          What was granted to {group.name} is no longer anybody&rsquo;s by it, and that cannot be taken back.{' '}
          <Button variant="danger" size="sm" onClick={end}>
            End the group
          </Button>{' '}
          <Button variant="plain" size="sm" onClick={() => setAsking(false)}>
            Leave it
          </Button>
        </p>
      ) : (
        <Button variant="outline-danger" size="sm" onClick={() => setAsking(true)}>
          End this group
        </Button>
      )}
    </section>
  );
}
