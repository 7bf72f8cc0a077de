import type { ChangeDutySet, DutySetRow, NewDutySet } from '@quay/contract';
import { DUTIES, leavesNobodyToRun, type Duty } from '@quay/core';
import { Injectable } from '@nestjs/common';
import { DataSource, type EntityManager } from 'typeorm';
import { lockAccess } from '../access/access-lock.js';
import { LedgerService, type NewEntry } from '../ledger/ledger.service.js';
import { requireAdmin } from '../people/duties.js';
import {
  dutySets,
  heldDutySet,
  holdersOf,
  insertDutySet,
  isDutySetNamed,
  removeDutySet,
  setDutiesOfHolders,
  updateDutySet,
} from '../people/duty-sets.queries.js';
import { dutiesOfAll } from '../people/people.queries.js';
import type { Who } from '../people/who.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { invalidField, notFound, Problem } from '../platform/problems/problem.js';

/** Duties with a name. Whoever has a set has exactly its duties, from the moment on in which it changes. */
@Injectable()
export class DutySetsService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly events: Events,
    private readonly ledger: LedgerService,
  ) {}

  list(): Promise<DutySetRow[]> {
    return dutySets(this.db.manager);
  }

  /** @throws Problem person.admins-only, duty-set.name-taken */
  async make(who: Who, asked: NewDutySet): Promise<DutySetRow[]> {
    return this.change(who, async (tx) => {
      await requireFreeName(tx, asked.name, null);
      await insertDutySet(tx, { name: asked.name, duties: inOrder(asked.duties) }, this.clock.date());
      return [this.entry(who, 'duty-set.made', { set: asked.name, duties: asked.duties.join(', ') })];
    });
  }

  /** @throws Problem person.admins-only, duty-set.name-taken, duty-set.last-admin */
  async alter(who: Who, id: string, asked: ChangeDutySet): Promise<DutySetRow[]> {
    return this.change(who, async (tx) => {
      const before = await this.requireHeld(tx, id);
      const after = { id, name: asked.name ?? before.name, duties: inOrder(asked.duties ?? before.duties) };
      if (after.name !== before.name) await requireFreeName(tx, after.name, id);
      await updateDutySet(tx, after);
      const entries: NewEntry[] = [];
      if (after.name !== before.name)
        entries.push(this.entry(who, 'duty-set.renamed', { set: after.name, was: before.name }));
      if (after.duties.join() !== before.duties.join()) entries.push(await this.give(tx, who, after));
      return entries;
    });
  }

  /** Who had it keeps its duties, as their own. */
  async remove(who: Who, id: string): Promise<DutySetRow[]> {
    return this.change(who, async (tx) => {
      const { name } = await this.requireHeld(tx, id);
      await removeDutySet(tx, id);
      return [this.entry(who, 'duty-set.removed', { set: name })];
    });
  }

  /** Everybody who has the set has its duties, unless nobody would be left who runs the server. */
  private async give(tx: EntityManager, who: Who, { id, name, duties }: DutySetRow): Promise<NewEntry> {
    const holders = await holdersOf(tx, id);
    if (leavesNobodyToRun(await dutiesOfAll(tx), ...holders.map((holder) => ({ ...holder, duties }))))
      throw new Problem('conflict', 'duty-set.last-admin', 'Then nobody would be left who can run the server.');
    await setDutiesOfHolders(tx, id, duties);
    for (const { personId } of holders) await this.events.tell(tx, { topic: 'session', id: personId });
    return this.entry(who, 'duty-set.changed', { set: name, count: holders.length, duties: duties.join(', ') });
  }

  private async requireHeld(tx: EntityManager, id: string): Promise<DutySetRow> {
    const set = await heldDutySet(tx, id);
    if (!set) throw notFound('This set of duties');
    return set;
  }

  private async change(who: Who, act: (tx: EntityManager) => Promise<NewEntry[]>): Promise<DutySetRow[]> {
    requireAdmin(who);
    await this.events.change(async (tx) => {
      await lockAccess(tx, 'alone');
      const entries = await act(tx);
      await this.events.tell(tx, { topic: 'access', id: 'changed' });
      if (entries.length > 0) await this.ledger.append(tx, ...entries);
    });
    return this.list();
  }

  private entry(who: Who, kind: string, detail: NewEntry['detail']): NewEntry {
    return { kind, actor: { kind: 'person', id: who.personId, name: who.name }, detail };
  }
}

const inOrder = (duties: readonly Duty[]): Duty[] => DUTIES.filter((duty) => duties.includes(duty));

async function requireFreeName(tx: EntityManager, name: string, butFor: string | null): Promise<void> {
  if (await isDutySetNamed(tx, name, butFor))
    throw invalidField('name', 'duty-set.name-taken', `There is a set of duties called ${name} already.`);
}
