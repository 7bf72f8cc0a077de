import { Injectable } from '@nestjs/common';
import { initialsOf, leavesNobodyToRun, SYSTEM_ACTOR, type DirectoryChange } from '@quay/core';
import type { MemberAsked } from '@quay/contract';
import type { EntityManager } from 'typeorm';
import { leavingOf } from '../accounts/leaving.queries.js';
import { unusablePassword } from '../accounts/unusable-password.js';
import { GroupsService } from '../access/groups.service.js';
import type { NewEntry } from '../ledger/ledger.service.js';
import {
  addPerson,
  changeAccount,
  dutiesOfAll,
  endSessionsOf,
  heldAccount,
  isNameTaken,
  setDisabled,
  setPassword,
  type AccountRecord,
} from '../people/people.queries.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { Office } from '../platform/office.js';
import { makeStore } from '../stores/make-store.js';
import { entryGone, linkEntry, moveEntry, nameEntry, standsFor } from './directory.queries.js';

/** What every change of a run needs, made once. */
export interface Ready {
  homes: boolean;
  passwordHash: string;
}
type Of<K extends DirectoryChange['kind']> = Extract<DirectoryChange, { kind: K }>;

/**
 * Makes one change of a run, with the access lock held alone. What somebody has changed here meanwhile, so that it cannot
 * be made, is left, and the next run sees it.
 */
@Injectable()
export class ApplyService {
  constructor(
    private readonly clock: Clock,
    private readonly events: Events,
    private readonly office: Office,
    private readonly groups: GroupsService,
  ) {}

  async ready(): Promise<Ready> {
    const { homes } = await this.office.settings();
    return { homes, passwordHash: await unusablePassword() };
  }

  /** @returns what the ledger is told */
  async change(tx: EntityManager, change: DirectoryChange, ready: Ready): Promise<NewEntry[]> {
    switch (change.kind) {
      case 'person-new':
        return this.personNew(tx, change, ready);
      case 'person-taken':
        return this.personTaken(tx, change, ready);
      case 'person-changed':
        return this.personChanged(tx, change);
      case 'person-moved':
        await moveEntry(tx, change.entryId, change.dn);
        return [];
      case 'person-left':
      case 'person-back':
        return this.usable(tx, change);
      case 'joined':
      case 'parted':
        return this.member(tx, change);
      default:
        return this.group(tx, change);
    }
  }

  private async personNew(tx: EntityManager, change: Of<'person-new'>, ready: Ready): Promise<NewEntry[]> {
    const { entryId, dn, name, email, signInName, names } = change;
    if ((await standsFor(tx, entryId)) || (await isNameTaken(tx, signInName, null))) return [];
    const [at, { homes, passwordHash }] = [this.clock.date(), ready];
    const initials = initialsOf(name);
    const personId = await addPerson(tx, { name, signInName, email, initials, role: 'staff', passwordHash }, at);
    if (homes) await makeStore(tx, { kind: 'home', name, ownerId: personId }, at);
    await linkEntry(tx, { entryId, dn, names, at, personId });
    return [entry('person.added', { name, role: 'staff' })];
  }

  private async personTaken(tx: EntityManager, change: Of<'person-taken'>, ready: Ready): Promise<NewEntry[]> {
    const { entryId, dn, names, personId } = change;
    const person = await heldAccount(tx, personId);
    if (!person || person.role === 'admin' || (await standsFor(tx, entryId))) return [];
    await linkEntry(tx, { entryId, dn, names, at: this.clock.date(), personId });
    // Nobody knows their password here any more, and whoever is signed in by it says again who they are.
    await setPassword(tx, personId, ready.passwordHash);
    await this.endSessions(tx, personId);
    await this.fields(tx, person, change);
    return [entry('directory.taken', { name: person.name })];
  }

  private async personChanged(tx: EntityManager, change: Of<'person-changed'>): Promise<NewEntry[]> {
    const person = await heldAccount(tx, change.personId);
    if (!person || !(await this.fields(tx, person, change))) return [];
    await moveEntry(tx, change.entryId, change.dn);
    await nameEntry(tx, change.entryId, change.names);
    return [entry('person.changed', { name: person.name, what: 'by the directory' })];
  }

  /** @returns false: somebody else signs in by that name */
  private async fields(tx: EntityManager, person: AccountRecord, to: Of<'person-changed' | 'person-taken'>) {
    const { name, email, signInName } = to;
    if (await isNameTaken(tx, signInName, person.id)) return false;
    const { role, duties, dutySetId, sponsorId, endsAt, quietDays } = person;
    const kept = { role, duties, dutySetId, sponsorId, endsAt, quietDays };
    await changeAccount(tx, person.id, { ...kept, name, initials: initialsOf(name), email, signInName });
    return true;
  }

  private async usable(tx: EntityManager, change: Of<'person-left' | 'person-back'>): Promise<NewEntry[]> {
    const back = change.kind === 'person-back';
    const { entryId, personId, name } = change;
    const person = await heldAccount(tx, personId);
    if (!person) return [];
    const now = this.clock.date();
    // Somebody enabled them here meanwhile: it is theirs to disable again.
    if (back && person.disabledAt === null) await entryGone(tx, entryId, null);
    if ((person.disabledAt === null) === back) return [];
    if (back && (await leavingOf(tx, personId))) return [];
    const after = { personId, usable: back, duties: person.duties };
    if (leavesNobodyToRun(await dutiesOfAll(tx), after)) return [];
    await setDisabled(tx, personId, back ? null : now);
    await entryGone(tx, entryId, back ? null : now);
    if (!back) await this.endSessions(tx, personId);
    return [entry(back ? 'person.enabled' : 'person.disabled', { name })];
  }

  private async endSessions(tx: EntityManager, personId: string): Promise<void> {
    await endSessionsOf(tx, personId);
    await this.events.tell(tx, { topic: 'session', id: personId });
  }

  private async member(tx: EntityManager, change: Of<'joined' | 'parted'>): Promise<NewEntry[]> {
    const [group, member] = [await standsFor(tx, change.group), await standsFor(tx, change.member)];
    if (group?.kind !== 'group' || !member) return [];
    const asked: MemberAsked = { kind: member.kind, id: member.id };
    const joins = change.kind === 'joined';
    const how = { isIn: joins, source: 'directory' as const };
    if (!(await this.groups.memberBySourceIn(tx, group.id, asked, how))) return [];
    return [entry(joins ? 'group.joined' : 'group.left', { group: change.groupName, member: change.memberName })];
  }

  private async group(
    tx: EntityManager,
    change: Of<'group-new' | 'group-taken' | 'group-renamed' | 'group-left' | 'group-back'>,
  ): Promise<NewEntry[]> {
    const { entryId, name } = change;
    const at = this.clock.date();
    if (change.kind === 'group-left' || change.kind === 'group-back') {
      await entryGone(tx, entryId, change.kind === 'group-left' ? at : null);
      return [];
    }
    if (change.kind === 'group-renamed') {
      if (!(await this.groups.renameOfDirectoryIn(tx, change.groupId, name))) return [];
      await moveEntry(tx, entryId, change.dn);
      return [entry('group.renamed', { group: name, was: change.was })];
    }
    if (await standsFor(tx, entryId)) return [];
    const groupId = change.kind === 'group-taken' ? change.groupId : await this.groups.makeOfDirectoryIn(tx, name);
    if (groupId === null) return [];
    await linkEntry(tx, { entryId, dn: change.dn, names: [], at, groupId });
    return change.kind === 'group-new' ? [entry('group.made', { group: name })] : [];
  }
}

const entry = (kind: string, detail: NewEntry['detail']): NewEntry => ({
  kind,
  actor: { ...SYSTEM_ACTOR, name: 'The directory' },
  detail,
});
