import type {
  HandOver,
  ChangeDutySet,
  ChangePerson,
  DutySetRow,
  GroupRow,
  Invitation,
  MemberAsked,
  NewDutySet,
  NewPerson,
  People,
  PeopleAct,
  PersonRow,
  PersonSheet,
} from '@quay/contract';
import { countOf } from '@quay/core';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { api } from '../../ui/api';
import { useChanged } from '../../ui/changed';
import { tellFailure, useNotices } from '../../ui/notices';
import { personQuery } from './queries';

const ACT_WORDS: Record<PeopleAct, [one: string, many: string]> = {
  disable: ['can no longer sign in', 'can no longer sign in'],
  enable: ['can sign in again', 'can sign in again'],
  'sign-out': ['is signed out everywhere', 'are signed out everywhere'],
};
const UNDONE_BY: Partial<Record<PeopleAct, PeopleAct>> = { disable: 'enable', enable: 'disable' };

/** What can be done to accounts; each tells how it went, and offers to take it back where that can be. */
export function usePeopleVerbs() {
  const client = useQueryClient();
  const { show } = useNotices();
  const changed = useChanged();
  const send = (act: PeopleAct, people: Pick<PersonRow, 'id'>[]) =>
    api<People>('POST', '/api/people/acts', { act, personIds: people.map((p) => p.id) });
  const act = useMutation({
    mutationFn: ({ act: what, people }: { act: PeopleAct; people: Pick<PersonRow, 'id' | 'name'>[] }) =>
      send(what, people),
    onSuccess: (_, { act: what, people }) => {
      changed('people');
      const [one, many] = ACT_WORDS[what];
      const words =
        people.length === 1 ? `${people[0]?.name} ${one}.` : `${countOf(people.length, 'person', 'people')} ${many}.`;
      const back = UNDONE_BY[what];
      const undo = () => void send(back as PeopleAct, people).then(() => changed('people'), tellFailure);
      show(words, back ? { undo } : {});
    },
    onError: tellFailure,
  });
  const change = useMutation({
    mutationFn: ({ id, asked }: { id: string; asked: ChangePerson }) =>
      api<PersonSheet>('PATCH', `/api/people/${id}`, asked),
    onSuccess: (sheet) => {
      client.setQueryData(personQuery(sheet.id).queryKey, sheet);
      changed('people');
    },
  });
  const add = useMutation({
    mutationFn: (asked: NewPerson) => api<Invitation>('POST', '/api/people', asked),
    onSuccess: () => changed('people'),
  });
  const invite = useMutation({
    mutationFn: ({ id, by }: { id: string; by: HandOver }) =>
      api<Invitation>('POST', `/api/people/${id}/invitation`, { by }),
    onSuccess: () => changed('people'),
    onError: tellFailure,
  });
  const factorOff = useMutation({
    mutationFn: (id: string) => api<PersonSheet>('DELETE', `/api/people/${id}/factor`),
    onSuccess: (sheet) => {
      changed('people');
      show(`${sheet.name} signs in with the password alone now.`);
    },
    onError: tellFailure,
  });
  const detach = useMutation({
    mutationFn: ({ id }: Pick<PersonRow, 'id' | 'name'>) => api<void>('DELETE', `/api/directory/people/${id}`),
    onSuccess: (_, { name }) => {
      changed('people');
      show(`${name} signs in by a password of their own, once they have one: send them a link.`);
    },
    onError: tellFailure,
  });
  return { act, change, add, invite, factorOff, detach };
}

/** What can be done to groups, each with its way back. */
export function useGroupVerbs() {
  const { show } = useNotices();
  const changed = useChanged();
  const at = (group: Pick<GroupRow, 'id'>) => `/api/groups/${group.id}`;
  const put = (group: GroupRow, member: MemberAsked) => api<GroupRow[]>('POST', `${at(group)}/members`, member);
  const take = (group: GroupRow, { kind, id }: MemberAsked) =>
    api<GroupRow[]>('DELETE', `${at(group)}/members/${kind}/${id}`);
  const quietly = (work: Promise<unknown>) => void work.then(() => changed('people'), tellFailure);
  type Moved = { group: GroupRow; member: MemberAsked & { name: string } };
  const join = useMutation({
    mutationFn: ({ group, member: { kind, id } }: Moved) => put(group, { kind, id }),
    onSuccess: (_, { group, member }) => {
      changed('people');
      show(`${member.name} is in ${group.name} now.`, { undo: () => quietly(take(group, member)) });
    },
    onError: tellFailure,
  });
  const leave = useMutation({
    mutationFn: ({ group, member }: Moved) => take(group, member),
    onSuccess: (_, { group, member }) => {
      changed('people');
      const { kind, id } = member;
      show(`${member.name} is no longer in ${group.name}.`, { undo: () => quietly(put(group, { kind, id })) });
    },
    onError: tellFailure,
  });
  const make = useMutation({
    mutationFn: (name: string) => api<GroupRow[]>('POST', '/api/groups', { name }),
    onSuccess: () => changed('people'),
  });
  const rename = useMutation({
    mutationFn: ({ group, name }: { group: GroupRow; name: string }) => api<GroupRow[]>('PATCH', at(group), { name }),
    onSuccess: () => changed('people'),
  });
  const end = useMutation({
    mutationFn: (group: GroupRow) => api<GroupRow[]>('DELETE', at(group)),
    onSuccess: (_, group) => {
      changed('people');
      show(`${group.name} has ended, and gives nothing any more.`);
    },
    onError: tellFailure,
  });
  const manage = useMutation({
    mutationFn: ({ group, personIds }: { group: GroupRow; personIds: string[] }) =>
      api<GroupRow[]>('PUT', `${at(group)}/managers`, { personIds }),
    onSuccess: () => changed('people'),
    onError: tellFailure,
  });
  return { join, leave, make, rename, end, manage };
}

/** What can be done to sets of duties. A removed one is made again by undo, but nobody has it then. */
export function useDutySetVerbs() {
  const { show } = useNotices();
  const changed = useChanged();
  const at = ({ id }: DutySetRow) => `/api/duty-sets/${id}`;
  const send = (asked: NewDutySet) => api<DutySetRow[]>('POST', '/api/duty-sets', asked);
  const make = useMutation({ mutationFn: send, onSuccess: () => changed('people') });
  const alter = useMutation({
    mutationFn: ({ set, part }: { set: DutySetRow; part: ChangeDutySet }) => api<DutySetRow[]>('PATCH', at(set), part),
    onSuccess: (_, { set }) => {
      changed('people');
      show(`${set.name} is changed, for whoever has it.`);
    },
  });
  const remove = useMutation({
    mutationFn: (set: DutySetRow) => api<DutySetRow[]>('DELETE', at(set)),
    onSuccess: (_, { name, duties }) => {
      changed('people');
      const undo = () => void send({ name, duties }).then(() => changed('people'), tellFailure);
      show(`${name} is no set of duties any more.`, { undo });
    },
    onError: tellFailure,
  });
  return { make, alter, remove };
}
