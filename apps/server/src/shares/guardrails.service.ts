import { Injectable } from '@nestjs/common';
import { guardrailFaults, guardrailWords, SYSTEM_ACTOR, type Guardrails, type RailFault } from '@quay/core';
import type { GuardrailsAsked, GuardrailsFor, GuardrailsKept, GuardrailTrial } from '@quay/contract';
import { DataSource, type EntityManager } from 'typeorm';
import { AccessService } from '../access/access.service.js';
import { LedgerService, type NewEntry } from '../ledger/ledger.service.js';
import { requireDuty } from '../people/duties.js';
import { NoticesService } from '../people/notices.service.js';
import type { Who } from '../people/who.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { Jobs } from '../platform/jobs/jobs.service.js';
import { Office } from '../platform/office.js';
import { invalidField, notFound } from '../platform/problems/problem.js';
import { actorOf } from '../stores/names.js';
import { entriesOf } from './audience.js';
import { railProblem } from './rail-problem.js';
import {
  addressTexts,
  allGuardrails,
  guardrailsOf,
  hasFactor,
  holdGuardrails,
  holding,
  intakeFaults,
  judgedShares,
  keepGuardrails,
  openIntakes,
  sharesToJudge,
  storesOfNodes,
  storesWithGuardrails,
  unjudge,
  writeJudged,
  type JudgedShare,
  type KeptGuardrails,
} from './guardrails.queries.js';

const EVERY_MINUTE = '* * * * *';
/** Shares that a trial lists by name; of the rest it says how many. */
const MOST_TOUCHED = 50;

/**
 * What admins have shares keep to, for the office and for each store. It is asked when a share is made or changed, and
 * of those that are out whenever rules, stores or publishers change: one that does not keep to a rule is closed by it.
 */
@Injectable()
export class GuardrailsService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly access: AccessService,
    private readonly events: Events,
    private readonly ledger: LedgerService,
    private readonly notices: NoticesService,
    private readonly office: Office,
    private readonly jobs: Jobs,
  ) {
    jobs.define(
      'guardrails',
      () => 'Look at shares by the guardrails as they stand',
      () => this.judgeAll(),
    );
    // What was moved to other rules, or lost its publisher.
    jobs.regularly('guardrails', EVERY_MINUTE);
  }

  async kept(who: Who): Promise<GuardrailsKept> {
    requireDuty(who, 'run-server');
    const m = this.db.manager;
    const [office, stores] = await Promise.all([guardrailsOf(m, null), storesWithGuardrails(m)]);
    return { office, stores };
  }

  /** The guardrails for what lies where these nodes do, as far as somebody sees them. */
  async forNodes(who: Who, nodeIds: string[]): Promise<GuardrailsFor> {
    const seen = [...(await this.access.seen(who, nodeIds))];
    const storeIds = await storesOfNodes(this.db.manager, seen);
    const kept = await allGuardrails(this.db.manager);
    return { guardrails: holding(kept, storeIds), hasFactor: await hasFactor(this.db.manager, who.personId) };
  }

  /** Which shares that are out would be closed by other guardrails, and which would open again. Nothing is kept. */
  async trial(who: Who, storeId: string | null, asked: GuardrailsAsked): Promise<GuardrailTrial> {
    requireDuty(who, 'run-server');
    const rails = await this.readRails(this.db.manager, asked);
    await this.requireStore(storeId);
    const now = await allGuardrails(this.db.manager);
    const kept = now.filter((k) => k.storeId !== storeId);
    const [store] = (await storesWithGuardrails(this.db.manager)).filter((s) => s.storeId === storeId);
    const next = [...kept, { storeId, of: store?.name ?? null, rails }];
    const touched: GuardrailTrial = { closes: [], more: 0, opens: 0 };
    const closes = (one: GuardrailTrial['closes'][number]) => {
      if (touched.closes.length === MOST_TOUCHED) touched.more += 1;
      else touched.closes.push(one);
    };
    const at = this.clock.date();
    for await (const ids of sharesToJudge(this.db.manager, { storeId, at, unjudged: false })) {
      const shares = await judgedShares(this.db.manager, ids);
      const faults = await this.faultsOf(shares, next);
      for (const share of shares) {
        const [fault] = faults.get(share.id) ?? [];
        if (!fault && share.barredAt) touched.opens += 1;
        if (!fault || share.barredAt) continue;
        const isClosed = share.homeOwners.some((id) => id !== who.personId);
        const title = isClosed ? null : share.title;
        closes({ kind: 'share', id: share.id, title, by: share.creatorName, words: fault.words });
      }
    }
    const intakes = await openIntakes(this.db.manager, storeId, at);
    const seen = await this.access.seen(
      who,
      intakes.map((i) => i.folderId),
    );
    for (const intake of intakes) {
      const [fault] = intakeFaults(intake, next);
      const isBarred = intakeFaults(intake, now).length > 0;
      if (!fault && isBarred) touched.opens += 1;
      if (!fault || isBarred) continue;
      const title = seen.has(intake.folderId) ? intake.title : null;
      closes({ kind: 'intake', id: intake.id, title, by: intake.creatorName, words: fault.words });
    }
    return touched;
  }

  /** Takes effect at once, also for those who are inside. */
  async change(who: Who, storeId: string | null, asked: GuardrailsAsked): Promise<GuardrailsKept> {
    requireDuty(who, 'run-server');
    await this.events.change(async (tx) => {
      await holdGuardrails(tx, 'alone');
      const name = await this.requireStore(storeId, tx);
      const rails = await this.readRails(tx, asked);
      const before = guardrailWords(await guardrailsOf(tx, storeId));
      const after = guardrailWords(rails);
      const kept = await allGuardrails(tx);
      await keepGuardrails(tx, storeId, rails, this.clock.date());
      await unjudge(tx, storeId, this.clock.date());
      await this.tellOfIntakes(tx, storeId, kept);
      await this.jobs.handIn(tx, 'guardrails', {}, { key: 'judge' });
      // Doors forget what they remember, and what goes on asks again.
      await this.events.tell(tx, { topic: 'access', id: 'changed' });
      const told = (texts: string[]) => texts.join(' ') || 'none';
      await this.ledger.append(tx, {
        kind: 'guardrails.changed',
        actor: actorOf(who),
        detail: { of: name ?? 'the office', from: told(before), to: told(after) },
      });
    });
    this.jobs.hurry('guardrails');
    return this.kept(who);
  }

  /**
   * That a share which was made or changed within this transaction keeps to the rules.
   * @param before rules that it did not keep to before the change: those it may go on not keeping to
   * @throws Problem guardrail.*
   */
  async requireKept(tx: EntityManager, shareId: string, before: readonly RailFault[] = []): Promise<void> {
    const faults = await this.faults(tx, shareId);
    const fault = faults.find((f) => !before.some((b) => b.rail === f.rail));
    if (fault) throw railProblem(fault);
  }

  /** The rules that a share does not keep to. */
  async faults(m: EntityManager, shareId: string): Promise<RailFault[]> {
    const shares = await judgedShares(m, [shareId]);
    return (await this.faultsOf(shares, await allGuardrails(m))).get(shareId) ?? [];
  }

  /** Looks at shares by the rules as they stand: what does not keep to them is closed by them, what does is not. */
  async judge(shareIds: readonly string[]): Promise<void> {
    await this.events.change(async (tx) => {
      await this.ledger.append(tx, ...(await this.judgeIn(tx, shareIds)));
    });
  }

  /** Within a transaction that does more. @returns what is to be written down of it */
  async judgeIn(tx: EntityManager, shareIds: readonly string[]): Promise<NewEntry[]> {
    const shares = await judgedShares(tx, shareIds, true);
    const faults = await this.faultsOf(shares, await allGuardrails(tx));
    const found = shares.map((share) => ({ share, by: faults.get(share.id)?.[0]?.words ?? null }));
    await writeJudged(
      tx,
      found.map(({ share, by }) => ({ id: share.id, by })),
      this.clock.date(),
    );
    const entries: NewEntry[] = [];
    for (const { share, by } of found) {
      if ((by === null) === (share.barredAt === null)) continue;
      if (by !== null) await this.tellOwner(tx, share, by);
      await this.events.tell(tx, { topic: 'share', id: share.id });
      entries.push({
        kind: by === null ? 'share.unbarred' : 'share.barred',
        actor: SYSTEM_ACTOR,
        shareId: share.id,
        detail: { title: share.title, by: by ?? '' },
      });
    }
    return entries;
  }

  /** Those that have not been looked at by the rules as they stand. */
  private async judgeAll(): Promise<void> {
    for await (const ids of sharesToJudge(this.db.manager, { storeId: null, at: this.clock.date(), unjudged: true }))
      await this.judge(ids);
  }

  private tellOwner(tx: EntityManager, { title, createdBy }: JudgedShare, by: string): Promise<void> {
    return this.notices.give(tx, 'share-barred', createdBy, {
      subject: 'A share of yours was closed by a rule',
      text: `${title} does not keep to a rule and is closed until it does. ${by} What would do stands on its sheet, under Shares.`,
    });
  }

  /** Tells those whose intakes take nothing in from now on. */
  private async tellOfIntakes(
    tx: EntityManager,
    storeId: string | null,
    before: readonly KeptGuardrails[],
  ): Promise<void> {
    const kept = await allGuardrails(tx);
    for (const intake of await openIntakes(tx, storeId, this.clock.date())) {
      const [fault] = intakeFaults(intake, kept);
      if (!fault || intakeFaults(intake, before).length > 0) continue;
      await this.notices.give(tx, 'share-barred', intake.createdBy, {
        subject: 'An intake of yours was closed by a rule',
        text: `${intake.title} does not keep to a rule, and takes nothing in until it does. ${fault.words} It stands on its sheet, under Intakes.`,
      });
    }
  }

  private async faultsOf(
    shares: readonly JudgedShare[],
    kept: readonly KeptGuardrails[],
  ): Promise<Map<string, RailFault[]>> {
    if (kept.length === 0) return new Map();
    const { zone } = await this.office.settings();
    return new Map(
      shares.map(({ opensAt, closesAt, createdAt, ...share }) => {
        const window = { opensAt: opensAt?.getTime() ?? null, closesAt: closesAt?.getTime() ?? null };
        const terms = { ...share, window, madeAt: createdAt.getTime() };
        return [share.id, guardrailFaults(terms, holding(kept, share.storeIds), zone)];
      }),
    );
  }

  /** @throws Problem audience.entry, address.gone */
  private async readRails(m: EntityManager, { domains, addresses, ...rest }: GuardrailsAsked): Promise<Guardrails> {
    const found = await addressTexts(m, addresses);
    if (found.length < addresses.length)
      throw invalidField('addresses', 'address.gone', 'One of these addresses is not there any more. Look again.');
    return { ...rest, domains: entriesOf('domains', domains), addresses: found };
  }

  /** @returns the name of the store; null: the office is meant */
  private async requireStore(storeId: string | null, m: EntityManager = this.db.manager): Promise<string | null> {
    if (storeId === null) return null;
    const store = (await storesWithGuardrails(m)).find((s) => s.storeId === storeId);
    if (!store) throw notFound('This store');
    return store.name;
  }
}
