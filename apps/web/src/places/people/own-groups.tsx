import { useQuery } from '@tanstack/react-query';
import { grantableQuery } from '../../ui/access/queries';
import { Empty, Failure, SkeletonRows } from '../../ui/states';
import { Members, type Choice } from './groups';
import { ownGroupsQuery } from './queries';

/** The groups that somebody manages who does not look after people. */
export function OwnGroups() {
  const { data, error, refetch } = useQuery(ownGroupsQuery);
  const { data: grantable } = useQuery(grantableQuery);
  if (error) return <Failure error={error} again={() => void refetch()} />;
  if (!data) return <SkeletonRows />;
  const choices: Choice[] = [
    ...(grantable?.groups ?? []).map((g): Choice => ({ kind: 'group', id: g.id, name: g.name })),
    ...(grantable?.people ?? []).map((p): Choice => ({ kind: 'person', id: p.id, name: p.name })),
  ];
  return (
    <>
      <div className="title-line">
        <h1>{data.length === 0 ? 'People' : 'The groups that you manage'}</h1>
      </div>
      {data.length === 0 && <Empty>You manage no group. Whoever looks after people says who manages one.</Empty>}
      {data.map((group) => (
        <article key={group.id} className="people-sheet own-group" aria-label={group.name}>
          <h2>{group.name}</h2>
          <Members group={group} choices={choices.filter((c) => c.id !== group.id)} />
        </article>
      ))}
    </>
  );
}
