import type {
  ActOnPeople,
  ChangePerson,
  HandOver,
  Invitation,
  NewPerson,
  People,
  PersonRow,
  PersonSheet,
} from '@quay/contract';
import { initialsOf, leavesNobodyToRun, READY_DUTIES, type Duty } from '@quay/core';
import { Injectable } from '@nestjs/common';
import { DataSource, type EntityManager } from 'typeorm';
import { lockAccess } from '../access/access-lock.js';
import { GroupsService } from '../access/groups.service.js';
import { ReachedService } from '../access/reached.service.js';
import { DirectorySignIn } from '../directory/sign-in.service.js';
import { LedgerService, type NewEntry } from '../ledger/ledger.service.js';
import { hasDuty, requireAdmin } from '../people/duties.js';
import { dutySets, heldDutySet } from '../people/duty-sets.queries.js';
import { FactorService } from '../people/factor.service.js';
import {
  accountRecords,
  addPerson,
  changeAccount,
  dutiesOfAll,
  endSessionsOf,
  heldAccount,
  isNameTaken,
  setDisabled,
  type AccountRecord,
} from '../people/people.queries.js';
import { SessionService } from '../people/session.service.js';
import type { Who } from '../people/who.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { grouped } from '../platform/grouped.js';
import { Office } from '../platform/office.js';
import { invalidField, notFound, Problem } from '../platform/problems/problem.js';
import { makeStore } from '../stores/make-store.js';
import { InvitationsService, type Begun } from './invitations.service.js';
import { leavingOf, leavingUndone } from './leaving.queries.js';
import { unusablePassword } from './unusable-password.js';

/** Entries of the ledger that a sheet shows. */
const ACTS_SHOWN = 20;

/** Accounts, for those who look after people. */
@Injectable()
export class PeopleService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly events: Events,
    private readonly ledger: LedgerService,
    private readonly office: Office,
    private readonly groups: GroupsService,
    private readonly reached: ReachedService,
    private readonly sessions: SessionService,
    private readonly factor: FactorService,
    private readonly invitations: InvitationsService,
    private readonly directory: DirectorySignIn,
  ) {}

  async list(who: Who): Promise<People> {
    const [records, sets, linked, groups, kept] = await Promise.all([
      accountRecords(this.db.manager, null),
      dutySets(this.db.manager),
      this.directory.linked('person'),
      this.groups.list(who),
      this.reached.kept(who),
    ]);
    const groupsOf = groupsByMember(groups);
    return { people: records.map((record) => rowOf(record, groupsOf, linked)), dutySets: sets, groups, kept };
  }

  async sheet(who: Who, personId: string): Promise<PersonSheet> {
    const [record] = await accountRecords(this.db.manager, [personId]);
    if (!record) throw notFound('This person');
    const [linked, groups, sessions, reached, acts] = await Promise.all([
      this.directory.linked('person'),
      this.groups.list(who),
      this.sessions.list({ personId }, null),
      this.reached.of(who, personId),
      // The ledger names what lies in homes, too: it is for those who see all of it.
      hasDuty(who, 'see-ledger') ? this.ledger.page({ limit: ACTS_SHOWN, actorId: personId }) : { entries: [] },
    ]);
    return {
      ...rowOf(record, groupsByMember(groups), linked),
      since: record.createdAt.toISOString(),
      sessions: sessions.map(({ here: _, ...session }) => session),
      ...reached,
      acts: acts.entries,
    };
  }

  /** Gives somebody an account, which they begin with by a link. @throws Problem person.name-taken */
  async add(who: Who, asked: NewPerson): Promise<Invitation> {
    if (asked.role === 'admin') requireAdmin(who);
    const { homes } = await this.office.settings();
    const passwordHash = await unusablePassword();
    return this.invitations.give(who, asked.by, (tx) => this.addIn(tx, who, asked, { homes, passwordHash }));
  }

  /** The same within a transaction that does more. */
  async addIn(
    tx: EntityManager,
    who: Who,
    asked: Omit<NewPerson, 'by'>,
    { homes, passwordHash }: { homes: boolean; passwordHash: string },
  ): Promise<Begun> {
    await lockAccess(tx, 'alone');
    await requireFreeName(tx, asked.signInName, null);
    const at = this.clock.date();
    const { name, signInName, email, role } = asked;
    const initials = initialsOf(name);
    const id = await addPerson(tx, { name, signInName, email, initials, role, passwordHash, invitedAt: at }, at);
    if (homes) await makeStore(tx, { kind: 'home', name, ownerId: id }, at);
    const joined: NewEntry[] = [];
    for (const groupId of asked.groupIds) {
      const entry = await this.groups.joinIn(tx, who, groupId, { kind: 'person', id });
      if (entry) joined.push(entry);
    }
    await this.events.tell(tx, { topic: 'access', id: 'changed' });
    return { personId: id, entries: [this.entry(who, 'person.added', { name, role }), ...joined], sets: true };
  }

  /** Another link, or a password, for somebody who lost theirs. Links before it are void. */
  async invite(who: Who, personId: string, by: HandOver): Promise<Invitation> {
    return this.invitations.give(who, by, async (tx) => {
      const person = await this.requireHeld(tx, personId);
      if (person.disabledAt) throw disabled(person.name);
      await this.requireHere(person);
      if (person.role === 'admin') requireAdmin(who);
      const kind = by === 'password' ? 'person.password-given' : 'person.password-link';
      return { personId, entries: [this.entry(who, kind, { name: person.name })], sets: true };
    });
  }

  async change(who: Who, personId: string, asked: ChangePerson): Promise<PersonSheet> {
    await this.events.change(async (tx) => {
      await lockAccess(tx, 'alone');
      const person = await this.requireHeld(tx, personId);
      const entries = await this.changeIn(tx, who, person, asked);
      await this.tell(tx, personId, entries);
    });
    return this.sheet(who, personId);
  }

  private async changeIn(tx: EntityManager, who: Who, person: AccountRecord, asked: ChangePerson): Promise<NewEntry[]> {
    const role = asked.role ?? person.role;
    const isOther = role !== person.role;
    const { duties, dutySetId } = await this.dutiesAfter(tx, person, asked, role);
    const isOtherDuties = asked.duties !== undefined || asked.dutySetId !== undefined;
    // Who looks after people gives nobody more than they have themselves.
    if (isOther || isOtherDuties || person.role === 'admin') requireAdmin(who);
    // Whoever reads their mail could be them.
    if ((asked.email ?? asked.signInName) !== undefined) requireTheirs(who, person);
    if (isOther && (role === 'guest' || person.role === 'guest')) this.requireOtherKind(person, role);
    if ((asked.name ?? asked.email ?? asked.signInName) !== undefined) await this.requireHere(person);
    if (asked.signInName !== undefined) await requireFreeName(tx, asked.signInName, person.id);
    const after = { personId: person.id, usable: person.disabledAt === null, duties };
    if (leavesNobodyToRun(await dutiesOfAll(tx), after)) throw lastToRun(person.name);
    const isGuest = role === 'guest';
    if (
      !isGuest &&
      [asked.sponsorId, asked.endsAt, asked.quietDays].some((value) => value !== undefined && value !== null)
    )
      throw invalidField('endsAt', 'person.no-guest', 'Only accounts of guests end by themselves.');
    const sponsorId = isGuest ? await this.sponsorOf(tx, asked.sponsorId ?? person.sponsorId) : null;
    const name = asked.name ?? person.name;
    await changeAccount(tx, person.id, {
      ...{ name, initials: initialsOf(name), role, duties, dutySetId, sponsorId },
      signInName: asked.signInName ?? person.signInName,
      email: asked.email ?? person.email,
      endsAt: !isGuest ? null : asked.endsAt === undefined ? person.endsAt : this.endOf(asked.endsAt),
      quietDays: !isGuest ? null : asked.quietDays === undefined ? person.quietDays : asked.quietDays,
    });
    const said = Object.keys(asked).filter((key) => !['role', 'duties', 'dutySetId'].includes(key));
    return [
      ...(isOther || isOtherDuties ? [this.entry(who, 'person.role', { name, role, duties: duties.join(', ') })] : []),
      ...(said.length > 0 ? [this.entry(who, 'person.changed', { name, what: said.join(', ') })] : []),
    ];
  }

  /** What somebody may do beside files from a change on, and by which set. */
  private async dutiesAfter(
    tx: EntityManager,
    person: AccountRecord,
    { duties, dutySetId }: ChangePerson,
    role: PersonRow['role'],
  ): Promise<{ duties: readonly Duty[]; dutySetId: string | null }> {
    if (duties) return { duties, dutySetId: null };
    if (dutySetId === null || (dutySetId === undefined && role !== person.role))
      return { duties: READY_DUTIES[role], dutySetId: null };
    if (dutySetId === undefined) return { duties: person.duties, dutySetId: person.dutySetId };
    const set = await heldDutySet(tx, dutySetId);
    if (!set) throw invalidField('dutySetId', 'duty-set.gone', 'This set of duties is not there any more.');
    return { duties: set.duties, dutySetId };
  }

  /** What the directory says of somebody is changed there. */
  private async requireHere(person: AccountRecord): Promise<void> {
    if (await this.directory.signsIn(person.id))
      throw new Problem(
        'conflict',
        'person.of-directory',
        `${person.name} is of the directory, which says what they are called and knows their password.`,
      );
  }

  /** Guests become staff, and keep what they were given; staff do not become guests, because homes and shares are theirs. */
  private requireOtherKind(person: AccountRecord, role: PersonRow['role']): void {
    if (role === 'guest')
      throw new Problem(
        'conflict',
        'person.no-way-back',
        `${person.name} is of the office, and cannot become a guest.`,
      );
  }

  private async sponsorOf(tx: EntityManager, id: string | null): Promise<string | null> {
    if (id === null) return null;
    const [sponsor] = await accountRecords(tx, [id]);
    if (!sponsor || sponsor.disabledAt || sponsor.role === 'guest')
      throw invalidField('sponsorId', 'guest.sponsor', 'Whoever answers for a guest has an account of the office.');
    return id;
  }

  private endOf(text: string | null): Date | null {
    const at = text === null ? null : new Date(text);
    if (at && at <= this.clock.date())
      throw invalidField('endsAt', 'person.ends-before', 'That day has passed. To end an account now, disable it.');
    return at;
  }

  /** Does the same to several accounts, all or none. */
  async act(who: Who, { act, personIds }: ActOnPeople): Promise<People> {
    await this.events.change(async (tx) => {
      await lockAccess(tx, 'alone');
      const entries: NewEntry[] = [];
      for (const id of personIds) {
        const person = await this.requireHeld(tx, id);
        if (person.role === 'admin') requireAdmin(who);
        const entry =
          act === 'sign-out'
            ? await this.signOut(tx, who, person)
            : await this.setUsable(tx, who, person, act === 'enable');
        if (entry) entries.push(entry);
      }
      await this.tell(tx, null, entries);
      for (const id of personIds) await this.events.tell(tx, { topic: 'session', id });
    });
    return this.list(who);
  }

  private async setUsable(tx: EntityManager, who: Who, person: AccountRecord, usable: boolean) {
    if ((person.disabledAt === null) === usable) return null;
    if (!usable && person.id === who.personId)
      throw new Problem('conflict', 'person.self', 'Nobody disables their own account: somebody else does.');
    const after = { personId: person.id, usable, duties: person.duties };
    if (leavesNobodyToRun(await dutiesOfAll(tx), after)) throw lastToRun(person.name);
    const now = this.clock.date();
    if (usable && person.endsAt && person.endsAt <= now)
      throw new Problem(
        'conflict',
        'person.over',
        `The account of ${person.name} has ended. Give it another end first.`,
      );
    if (usable) await this.requireNotLeft(tx, person, now);
    await setDisabled(tx, person.id, usable ? null : now);
    if (!usable) await endSessionsOf(tx, person.id);
    return this.entry(who, usable ? 'person.enabled' : 'person.disabled', { name: person.name });
  }

  /** Whoever was seen off comes back with what they had, or their home would go all the same. */
  private async requireNotLeft(tx: EntityManager, person: AccountRecord, now: Date): Promise<void> {
    const left = await leavingOf(tx, person.id);
    if (left && left.homePurgedAt === null)
      throw new Problem('conflict', 'person.has-left', `${person.name} has left. Take that back in their sheet.`);
    if (left) await leavingUndone(tx, left.id, now);
  }

  private async signOut(tx: EntityManager, who: Who, person: AccountRecord): Promise<NewEntry | null> {
    const count = await endSessionsOf(tx, person.id);
    return count === 0 ? null : this.entry(who, 'person.sessions-ended', { name: person.name, count });
  }

  /** Switches off a second factor that somebody lost. Their password still holds. */
  async factorOff(who: Who, personId: string): Promise<PersonSheet> {
    await this.events.change(async (tx) => {
      const person = await this.requireHeld(tx, personId);
      requireTheirs(who, person);
      const by = { kind: 'person' as const, id: who.personId, name: who.name };
      if (!(await this.factor.switchOff(tx, person, by)))
        throw new Problem('conflict', 'factor.none', `${person.name} has no second factor.`);
    });
    return this.sheet(who, personId);
  }

  private async requireHeld(tx: EntityManager, id: string): Promise<AccountRecord> {
    const person = await heldAccount(tx, id);
    if (!person) throw notFound('This person');
    return person;
  }

  private async tell(tx: EntityManager, personId: string | null, entries: NewEntry[]): Promise<void> {
    await this.events.tell(tx, { topic: 'access', id: 'changed' });
    if (personId) await this.events.tell(tx, { topic: 'session', id: personId });
    await this.ledger.append(tx, ...entries);
  }

  private entry(who: Who, kind: string, detail: NewEntry['detail']): NewEntry {
    return { kind, actor: { kind: 'person', id: who.personId, name: who.name }, detail };
  }
}

/** By what somebody of the office signs in is theirs, and an admin's. */
function requireTheirs(who: Who, person: AccountRecord): void {
  if (person.role !== 'guest' && person.invitedAt === null) requireAdmin(who);
}

async function requireFreeName(tx: EntityManager, signInName: string, butFor: string | null): Promise<void> {
  if (await isNameTaken(tx, signInName, butFor))
    throw invalidField('signInName', 'person.name-taken', `Somebody signs in as ${signInName} already.`);
}

const disabled = (name: string): Problem =>
  new Problem('conflict', 'person.disabled', `The account of ${name} is disabled. Enable it first.`);

export const lastToRun = (name: string): Problem =>
  new Problem('conflict', 'person.last-admin', `${name} is the last one who can run the server.`);

/** The groups that people are in themselves, by their ids. */
function groupsByMember(groups: People['groups']): Map<string, PersonRow['groups']> {
  const members = groups.flatMap(({ id, name, members: inIt }) =>
    inIt.map((m) => ({ memberId: m.id, group: { id, name } })),
  );
  return new Map([...grouped(members, (m) => m.memberId)].map(([id, found]) => [id, found.map((f) => f.group)]));
}

function rowOf(
  record: AccountRecord,
  groupsOf: ReadonlyMap<string, PersonRow['groups']>,
  linked: ReadonlySet<string>,
): PersonRow {
  const { id, name, signInName, email, role, duties, factor, quietDays } = record;
  return {
    ...{ id, name, signInName, email, role, duties, factor, quietDays },
    state: record.disabledAt ? 'disabled' : record.invitedAt ? 'invited' : 'usable',
    dutySet: record.dutySetId ? { id: record.dutySetId, name: record.dutySetName ?? '' } : null,
    directory: linked.has(id),
    groups: groupsOf.get(id) ?? [],
    lastSeenAt: record.seenAt?.toISOString() ?? null,
    sponsor: record.sponsorId ? { id: record.sponsorId, name: record.sponsorName ?? '' } : null,
    endsAt: record.endsAt?.toISOString() ?? null,
  };
}
