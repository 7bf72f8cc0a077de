import type { Leave, Leaving, PersonSheet } from '@quay/contract';
import { countOf, leavesNobodyToRun, SYSTEM_ACTOR } from '@quay/core';
import { Injectable } from '@nestjs/common';
import { DataSource, type EntityManager } from 'typeorm';
import { lockAccess } from '../access/access-lock.js';
import { GrantsService } from '../access/grants.service.js';
import { GroupsService } from '../access/groups.service.js';
import { HomesService } from '../access/homes.service.js';
import { LedgerService, type NewEntry } from '../ledger/ledger.service.js';
import {
  accountRecords,
  dutiesOfAll,
  endSessionsOf,
  guestsOf,
  heldAccount,
  setDisabled,
  setSponsor,
  type AccountRecord,
} from '../people/people.queries.js';
import type { Who } from '../people/who.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { Housekeeping } from '../platform/housekeeping.js';
import { invalidField, notFound, Problem } from '../platform/problems/problem.js';
import type { ShareRecord } from '../shares/shares.queries.js';
import { SharesService } from '../shares/shares.service.js';
import { PurgeService } from '../stores/purge.service.js';
import {
  homeGoing,
  homeGone,
  homesDue,
  insertLeaving,
  leavingOf,
  leavingUndone,
  type LeavingDone,
  type LeavingRecord,
} from './leaving.queries.js';
import { requireAdmin } from '../people/duties.js';
import { lastToRun, PeopleService } from './people.service.js';

/** Shares that are listed; all of them are passed on. */
const LISTED = 100;
const DAY_MS = 86_400_000;

/** Seeing somebody off: in one act, looked at before, taken back until their home is gone. */
@Injectable()
export class LeavingService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly events: Events,
    private readonly ledger: LedgerService,
    private readonly groups: GroupsService,
    private readonly grants: GrantsService,
    private readonly homes: HomesService,
    private readonly shares: SharesService,
    private readonly purger: PurgeService,
    private readonly people: PeopleService,
    housekeeping: Housekeeping,
  ) {
    housekeeping.add('homes of those who left', () => this.homesGo());
  }

  /** What somebody leaves behind. */
  async look(who: Who, personId: string): Promise<Leaving> {
    const m = this.db.manager;
    const now = this.clock.date();
    const everybody = await accountRecords(m, null);
    const person = everybody.find((p) => p.id === personId);
    if (!person) throw notFound('This person');
    const home = await this.homes.homeOf(m, personId);
    const [groups, sheet, left] = await Promise.all([
      this.groups.list(who),
      this.people.sheet(who, personId),
      leavingOf(m, personId),
    ]);
    const shares = await this.shares.standingOf(personId);
    const named = (p: { id: string; name: string }) => ({ id: p.id, name: p.name });
    return {
      sessions: sheet.sessions.length,
      groups: sheet.groups,
      manages: groups.filter((g) => g.managers.some((o) => o.id === personId)).map(named),
      grants: (await this.grants.ownOf(m, personId, now)).map((g) => ({ folder: g.folder, level: g.level })),
      guests: (await guestsOf(m, personId)).map(named),
      shares: shares.slice(0, LISTED).map((share) => shareLeft(share, personId)),
      moreShares: Math.max(0, shares.length - LISTED),
      home: home && { usedBytes: home.usedBytes },
      takers: everybody.filter((p) => canTakeOver(p, personId)).map(named),
      left: left && {
        at: left.leftAt.toISOString(),
        by: everybody.find((p) => p.id === left.leftBy)?.name ?? '',
        homeUntil: left.homeUntil?.toISOString() ?? null,
        canReturn: left.homePurgedAt === null,
      },
    };
  }

  async leave(who: Who, personId: string, asked: Leave): Promise<PersonSheet> {
    await this.events.change(async (tx) => {
      await lockAccess(tx, 'alone');
      const person = await this.requireThere(tx, who, personId);
      const names = await this.takersNamed(tx, personId, asked);
      const now = this.clock.date();
      const at = { personId, by: who.personId, at: now };
      const home = await this.homes.homeOf(tx, personId);
      const passed = passedOn(await this.shares.standingOf(personId, tx), asked);
      // The home first: what goes out from it is published by whoever has it.
      const entries: NewEntry[] = [];
      if (home && asked.homeTo) entries.push(await this.homes.giveIn(tx, who, home, asked.homeTo));
      entries.push(...(await this.shares.passOnIn(tx, who, passed, names)));
      const { groupIds, managedIds } = await this.groups.endAllIn(tx, at);
      const grants = await this.grants.endAllIn(tx, at);
      const guestIds = (await guestsOf(tx, personId)).map((g) => g.id);
      await setSponsor(tx, guestIds, asked.guestsTo);
      await setDisabled(tx, personId, now);
      const sessions = await endSessionsOf(tx, personId);
      const kept = home && !asked.homeTo && asked.homeDays !== null;
      const done: LeavingDone = {
        ...{ groupIds, managedIds, grants, guestIds },
        shares: passed.map(({ id, toPersonId }) => ({ id, toPersonId })),
        home: home && asked.homeTo ? { storeId: home.storeId, toPersonId: asked.homeTo } : null,
      };
      const homeUntil = kept ? new Date(now.getTime() + (asked.homeDays as number) * DAY_MS) : null;
      await insertLeaving(tx, { ...at, done, homeUntil });
      await this.events.tell(tx, { topic: 'access', id: 'changed' }, { topic: 'session', id: personId });
      const left = { kind: 'person.left', detail: { name: person.name, what: whatWasDone(done, sessions) } };
      await this.ledger.append(tx, ...entries, {
        ...left,
        actor: { kind: 'person', id: who.personId, name: who.name },
      });
    });
    return this.people.sheet(who, personId);
  }

  /** Takes back that somebody was seen off, as far as nobody has changed it again. */
  async comeBack(who: Who, personId: string): Promise<PersonSheet> {
    await this.events.change(async (tx) => {
      await lockAccess(tx, 'alone');
      const person = await heldAccount(tx, personId);
      const left = await leavingOf(tx, personId);
      if (!person || !left) throw notFound('This person');
      if (person.role === 'admin') requireAdmin(who);
      if (left.homePurgedAt)
        throw new Problem('gone', 'person.home-gone', `The home of ${person.name} is gone: there is no way back.`);
      const at = this.clock.date();
      await setDisabled(tx, personId, null);
      await this.groups.joinAllIn(tx, { personId, ...left.done, by: who.personId, at });
      await this.grants.grantAllIn(tx, { personId, grants: left.done.grants, by: who.personId, at });
      await setSponsor(tx, left.done.guestIds, personId);
      const { home } = left.done;
      if (home) await this.homes.giveBackIn(tx, home, personId);
      await this.shares.giveBackIn(tx, personId, left.done.shares);
      await leavingUndone(tx, left.id, at);
      await this.events.tell(tx, { topic: 'access', id: 'changed' }, { topic: 'session', id: personId });
      await this.ledger.append(tx, {
        kind: 'person.returned',
        actor: { kind: 'person', id: who.personId, name: who.name },
        detail: { name: person.name },
      });
    });
    return this.people.sheet(who, personId);
  }

  /** Removes the homes whose time is over. What is held in one stays, and is tried again in an hour. */
  async homesGo(): Promise<void> {
    for (const left of await homesDue(this.db.manager, this.clock.date())) await this.homeGoes(left);
  }

  private async homeGoes(left: LeavingRecord): Promise<void> {
    const home = await this.homes.homeOf(this.db.manager, left.personId);
    if (!home) return;
    // Before anything goes, so that nobody is brought back to half a home.
    const begun = await this.events.change(async (tx) => {
      await lockAccess(tx, 'alone');
      // Never of somebody who is there.
      if ((await heldAccount(tx, left.personId))?.disabledAt === null) return false;
      return homeGoing(tx, left.id, this.clock.date());
    });
    if (!begun) return;
    const { files, left: isHeld } = await this.purger.empty(home.storeId);
    if (isHeld) return;
    await this.events.change(async (tx) => {
      await homeGone(tx, left.id);
      await this.ledger.append(tx, {
        kind: 'person.home-gone',
        actor: SYSTEM_ACTOR,
        detail: { name: home.name, files },
      });
    });
  }

  private async requireThere(tx: EntityManager, who: Who, personId: string): Promise<AccountRecord> {
    const person = await heldAccount(tx, personId);
    if (!person) throw notFound('This person');
    if (person.role === 'admin') requireAdmin(who);
    if (person.disabledAt) throw new Problem('conflict', 'person.left', `${person.name} has left already.`);
    if (personId === who.personId)
      throw new Problem('conflict', 'person.self', 'Nobody sees themselves off: somebody else does.');
    const after = { personId, usable: false, duties: person.duties };
    if (leavesNobodyToRun(await dutiesOfAll(tx), after)) throw lastToRun(person.name);
    return person;
  }

  /** Who takes over, by name. @throws Problem leaving.taker */
  private async takersNamed(tx: EntityManager, personId: string, asked: Leave): Promise<Map<string, string>> {
    const ids = [asked.sharesTo, asked.guestsTo, asked.homeTo, ...asked.shares.map((s) => s.toPersonId)];
    const wanted = [...new Set(ids.filter((id): id is string => id !== null))];
    const found = (await accountRecords(tx, wanted)).filter((p) => canTakeOver(p, personId));
    if (found.length < wanted.length)
      throw invalidField('sharesTo', 'leaving.taker', 'Whoever takes something over has an account of the office.');
    return new Map(found.map((p) => [p.id, p.name]));
  }
}

const canTakeOver = (p: AccountRecord, butFor: string): boolean =>
  p.id !== butFor && p.role !== 'guest' && p.disabledAt === null;

/** What goes out from a home is its owner's matter: of that it is only said that it is there. */
function shareLeft(share: ShareRecord, personId: string): Leaving['shares'][number] {
  const fromHome = share.homeOwners.includes(personId);
  const title = fromHome ? 'A share from their home' : share.title;
  return { id: share.id, title, closesAt: share.closesAt?.toISOString() ?? null, fromHome };
}

/** Each share goes to whom it was said to go to, or to whom all others go. What is in a home goes with that. */
function passedOn(standing: readonly ShareRecord[], { sharesTo, shares, homeTo }: Leave) {
  const said = new Map(shares.map((s) => [s.shareId, s.toPersonId]));
  return standing.map(({ id, title, homeOwners }) => {
    const to = said.has(id) ? (said.get(id) ?? null) : sharesTo;
    return { id, title, toPersonId: homeOwners.length > 0 && to !== homeTo ? null : to };
  });
}

function whatWasDone({ groupIds, grants, shares, home }: LeavingDone, sessions: number): string {
  const given = shares.filter((s) => s.toPersonId !== null).length;
  return [
    countOf(sessions, 'session'),
    countOf(groupIds.length, 'group'),
    countOf(grants.length, 'grant'),
    `${countOf(given, 'share')} passed on, ${shares.length - given} withdrawn`,
    home ? 'the home handed over' : 'the home kept',
  ].join(', ');
}
