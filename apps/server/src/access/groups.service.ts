import type { GroupRow, MemberAsked } from '@quay/contract';
import { circleThrough, SYSTEM_ACTOR } from '@quay/core';
import { Injectable } from '@nestjs/common';
import { DataSource, type EntityManager } from 'typeorm';
import { LedgerService, type NewEntry } from '../ledger/ledger.service.js';
import { requireDuty, hasDuty, requireStaff } from '../people/duties.js';
import type { Who } from '../people/who.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { invalidField, notFound, Problem } from '../platform/problems/problem.js';
import { lockAccess } from './access-lock.js';
import { grantSubject, peopleByIds } from './grants.queries.js';
import {
  endGroup,
  endGroupsOf,
  endMember,
  groupNames,
  groupsNow,
  heldGroup,
  insertGroup,
  insertMember,
  isGroupNamed,
  joinAgain,
  managesGroup,
  type MemberSource,
  memberBy,
  membershipsNow,
  renameGroup,
  setManagers,
} from './groups.queries.js';

/** Groups: made, filled, managed and ended. Nothing of them is ever overwritten. */
@Injectable()
export class GroupsService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly ledger: LedgerService,
    private readonly events: Events,
  ) {}

  /** For those who look after people all groups; for others those that they manage. */
  async list(who: Who, m: EntityManager = this.db.manager): Promise<GroupRow[]> {
    requireStaff(who);
    const groups = await groupsNow(m, this.clock.date());
    return hasDuty(who, 'run-people') ? groups : groups.filter((g) => g.managers.some((p) => p.id === who.personId));
  }

  async make(who: Who, name: string): Promise<GroupRow[]> {
    await this.change(who, async (tx) => {
      if (!(await insertGroup(tx, name, this.clock.date()))) throw nameTaken(name);
      return { kind: 'group.made', detail: { group: name } };
    });
    return this.list(who);
  }

  /** The groups of these names, made where they are not there; within a transaction that does more. */
  async namedIn(
    tx: EntityManager,
    who: Who,
    names: readonly string[],
  ): Promise<{ ids: Map<string, string>; entries: NewEntry[] }> {
    requireDuty(who, 'run-people');
    await lockAccess(tx, 'alone');
    const there = new Map((await groupsNow(tx, this.clock.date())).map((g) => [g.name, g.id]));
    const missing = names.filter((name) => !there.has(name));
    for (const name of missing) there.set(name, (await insertGroup(tx, name, this.clock.date())) as string);
    return { ids: there, entries: missing.map((group) => this.entry(who, 'group.made', { group })) };
  }

  async rename(who: Who, groupId: string, name: string): Promise<GroupRow[]> {
    await this.change(who, async (tx) => {
      const group = await requireGroup(tx, groupId);
      if (group.name === name) return null;
      if (await isGroupNamed(tx, name)) throw nameTaken(name);
      await renameGroup(tx, groupId, name);
      return { kind: 'group.renamed', detail: { group: name, was: group.name } };
    });
    return this.list(who);
  }

  async end(who: Who, groupId: string): Promise<GroupRow[]> {
    await this.change(who, async (tx) => {
      const group = await requireGroup(tx, groupId);
      await endGroup(tx, groupId, this.clock.date());
      return { kind: 'group.ended', detail: { group: group.name } };
    });
    return this.list(who);
  }

  async manage(who: Who, groupId: string, personIds: string[]): Promise<GroupRow[]> {
    await this.change(who, async (tx) => {
      const group = await requireGroup(tx, groupId);
      const at = this.clock.date();
      const names: string[] = [];
      for (const id of personIds) {
        const person = await grantSubject(tx, { kind: 'person', id }, at);
        if (!person) throw invalidField('personIds', 'group.nobody', 'Somebody of these has no account any more.');
        names.push(person.name);
      }
      await setManagers(tx, { groupId, personIds, at });
      return { kind: 'group.managers', detail: { group: group.name, managers: names.join(', ') || 'nobody' } };
    });
    return this.list(who);
  }

  async join(who: Who, groupId: string, member: MemberAsked): Promise<GroupRow[]> {
    await this.events.change(async (tx) => this.told(tx, await this.joinIn(tx, who, groupId, member)));
    return this.list(who);
  }

  async leave(who: Who, groupId: string, member: MemberAsked): Promise<GroupRow[]> {
    await this.events.change(async (tx) => this.told(tx, await this.leaveIn(tx, who, groupId, member)));
    return this.list(who);
  }

  /** Puts somebody, or a group, into a group. @throws Problem group.circle, which names the way round */
  async joinIn(tx: EntityManager, who: Who, groupId: string, member: MemberAsked): Promise<NewEntry | null> {
    await lockAccess(tx, 'alone');
    const group = await this.requireMine(tx, who, groupId);
    const at = this.clock.date();
    const subject = await grantSubject(tx, member, at);
    if (!subject) throw invalidField('id', 'group.nobody', 'There is no such person or group any more.');
    if (member.kind === 'group') {
      const way = circleThrough(groupId, member.id, await membershipsNow(tx));
      if (way) throw circle(way, await groupNames(tx));
    }
    if ((await memberBy(tx, groupId, member.id)) !== null) return null;
    await insertMember(tx, { groupId, member, by: who.personId, at });
    return this.entry(who, 'group.joined', { group: group.name, member: subject.name });
  }

  async leaveIn(tx: EntityManager, who: Who, groupId: string, member: MemberAsked): Promise<NewEntry | null> {
    await lockAccess(tx, 'alone');
    const group = await this.requireMine(tx, who, groupId);
    const at = this.clock.date();
    const names = await this.namesOf(tx, member);
    const source = await memberBy(tx, groupId, member.id);
    if (source === 'directory' || source === 'provider')
      throw new Problem(
        'conflict',
        `group.by-${source}`,
        `${names} is in ${group.name} by the ${source === 'directory' ? 'directory' : 'identity provider'}, and leaves it there.`,
      );
    const left = await endMember(tx, { groupId, memberId: member.id, by: who.personId, at });
    return left ? this.entry(who, 'group.left', { group: group.name, member: names }) : null;
  }

  /** A group that the directory has. Asked with the access lock held alone. @returns null: the name is taken */
  makeOfDirectoryIn(tx: EntityManager, name: string): Promise<string | null> {
    return insertGroup(tx, name, this.clock.date());
  }

  /** @returns false: the name is taken, or the group has ended */
  async renameOfDirectoryIn(tx: EntityManager, groupId: string, name: string): Promise<boolean> {
    if (!(await heldGroup(tx, groupId)) || (await isGroupNamed(tx, name))) return false;
    await renameGroup(tx, groupId, name);
    return true;
  }

  /** Puts somebody into a group, or takes them out, as one outside says who knows; whom somebody else put in stays. */
  async memberBySourceIn(
    tx: EntityManager,
    groupId: string,
    member: MemberAsked,
    { isIn, source }: { isIn: boolean; source: Exclude<MemberSource, 'hand'> },
  ): Promise<boolean> {
    const [by, at] = [await memberBy(tx, groupId, member.id), this.clock.date()];
    if (!isIn) return by === source && endMember(tx, { groupId, memberId: member.id, by: null, at });
    if (by !== null || !(await heldGroup(tx, groupId))) return false;
    // Somebody may have put a group into another meanwhile.
    if (member.kind === 'group' && circleThrough(groupId, member.id, await membershipsNow(tx))) return false;
    await insertMember(tx, { groupId, member, by: null, at, source });
    return true;
  }

  /** What is written down of that. */
  async sourceEntry(tx: EntityManager, groupId: string, member: MemberAsked, isIn: boolean): Promise<NewEntry> {
    const group = (await groupNames(tx)).get(groupId) ?? '';
    const detail = { group, member: await this.namesOf(tx, member) };
    const actor = { ...SYSTEM_ACTOR, name: 'The identity provider' };
    return { kind: isIn ? 'group.joined' : 'group.left', actor, detail };
  }

  /** Ends all that somebody is in, who leaves. Asked with the access lock held alone. */
  endAllIn(tx: EntityManager, of: { personId: string; by: string; at: Date }) {
    return endGroupsOf(tx, of);
  }

  /** Takes that back. */
  joinAllIn(tx: EntityManager, of: Parameters<typeof joinAgain>[1]): Promise<void> {
    return joinAgain(tx, of);
  }

  private async namesOf(tx: EntityManager, { kind, id }: MemberAsked): Promise<string> {
    if (kind === 'group') return (await groupNames(tx)).get(id) ?? '';
    const [person] = await peopleByIds(tx, [id]);
    return person?.name ?? '';
  }

  /** A group that somebody may fill: they look after people, or manage it. @throws Problem not-found, forbidden */
  private async requireMine(tx: EntityManager, who: Who, groupId: string): Promise<{ id: string; name: string }> {
    requireStaff(who);
    if (!hasDuty(who, 'run-people') && !(await managesGroup(tx, groupId, who.personId))) requireDuty(who, 'run-people');
    return requireGroup(tx, groupId);
  }

  private async change(who: Who, work: (tx: EntityManager) => Promise<Pick<NewEntry, 'kind' | 'detail'> | null>) {
    requireDuty(who, 'run-people');
    await this.events.change(async (tx) => {
      await lockAccess(tx, 'alone');
      const done = await work(tx);
      await this.told(tx, done && this.entry(who, done.kind, done.detail));
    });
  }

  private entry(who: Who, kind: string, detail: NewEntry['detail']): NewEntry {
    return { kind, actor: { kind: 'person', id: who.personId, name: who.name }, detail };
  }

  private async told(tx: EntityManager, entry: NewEntry | null): Promise<void> {
    if (!entry) return;
    await this.events.tell(tx, { topic: 'access', id: 'changed' });
    await this.ledger.append(tx, entry);
  }
}

async function requireGroup(tx: EntityManager, groupId: string): Promise<{ id: string; name: string }> {
  const group = await heldGroup(tx, groupId);
  if (!group) throw notFound('This group');
  return group;
}

const nameTaken = (name: string): Problem =>
  invalidField('name', 'group.name-taken', `There is a group called ${name} already.`);

function circle(way: readonly string[], names: ReadonlyMap<string, string>): Problem {
  const said = way.map((id) => names.get(id) ?? 'a group').join(' is in ');
  return new Problem('conflict', 'group.circle', `That would go round in a circle: ${said}.`);
}
