import { Injectable } from '@nestjs/common';
import { directoryPlan, directoryPlanWords, SYSTEM_ACTOR, type DirectoryChange, type DirectoryPlan } from '@quay/core';
import type { DirectoryRunSheet, LookAtDirectory } from '@quay/contract';
import { createHash } from 'node:crypto';
import { DataSource, type EntityManager } from 'typeorm';
import { lockAccess } from '../access/access-lock.js';
import { LedgerService } from '../ledger/ledger.service.js';
import { requireAdmin } from '../people/duties.js';
import type { Who } from '../people/who.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { Jobs } from '../platform/jobs/jobs.service.js';
import { log } from '../platform/log/log.js';
import { notFound, Problem } from '../platform/problems/problem.js';
import { ApplyService } from './apply.service.js';
import {
  beginRun,
  dropWaiting,
  forgetRun,
  forgetRuns,
  loadKnown,
  run,
  runEnded,
  runHead,
  runProgress,
  runSeen,
  stuckRuns,
  turnRun,
  waitingRun,
  type RunHead,
  type RunRecord,
} from './directory.queries.js';
import { DirectoryService } from './directory.service.js';
import { runSheet } from './shown.js';

const EVERY_QUARTER = '*/15 * * * *';
/** Changes that are made in one transaction; others wait no longer for the access lock. */
const AT_ONCE = 50;
const STUCK_MS = 30 * 60_000;
const ANSWER_MS = 3600_000;
const KEPT_MS = 90 * 86_400_000;
const NOTHING: LookAtDirectory = { chosen: [], taken: [] };

/**
 * Looks at the directory, tells what would change, and does it when somebody says so; every quarter of an hour by itself
 * where branches are followed. A run that would disable more than a tenth stops and asks.
 */
@Injectable()
export class RunsService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly events: Events,
    private readonly ledger: LedgerService,
    private readonly directory: DirectoryService,
    private readonly apply: ApplyService,
    private readonly jobs: Jobs,
  ) {
    jobs.define<{ runId?: string }>(
      'directory',
      ({ runId }) => (runId ? 'Do what the directory says' : 'Look at the directory'),
      ({ runId }) => (runId ? this.do(runId) : this.round()),
    );
    jobs.regularly('directory', EVERY_QUARTER);
  }

  /** Begins to look at it. @returns the run, which then waits for somebody to say that it is done. @throws Problem directory.busy */
  async look(who: Who, asked: LookAtDirectory): Promise<DirectoryRunSheet> {
    // Whoever an entry is to be signs in as the directory says from then on.
    if (asked.taken.length > 0) requireAdmin(who);
    await this.directory.requireWay();
    await this.endStuck();
    const id = await this.events.change(async (tx) => {
      const begun = await this.begin(tx, who.personId, asked);
      if (begun !== null) await this.jobs.handIn(tx, 'directory', { runId: begun }, { key: begun });
      return begun;
    });
    if (id === null) throw busy();
    this.jobs.hurry('directory');
    return this.sheet(id);
  }

  async sheet(id: string): Promise<DirectoryRunSheet> {
    return runSheet(await this.require(id));
  }

  /** Somebody wants it done. @throws Problem directory.busy, directory.over */
  async agree(who: Who, id: string): Promise<DirectoryRunSheet> {
    const { asked } = await this.require(id);
    if (asked.taken.length > 0) requireAdmin(who);
    await this.events.change(async (tx) => {
      if (!(await turnRun(tx, id, 'waiting', 'doing', this.clock.date())))
        throw (await this.isWaiting(tx, id)) ? busy() : over();
      await this.jobs.handIn(tx, 'directory', { runId: id }, { key: id });
      await this.tell(tx);
    });
    this.jobs.hurry('directory');
    return this.sheet(id);
  }

  async drop(id: string): Promise<DirectoryRunSheet> {
    await this.require(id);
    await this.events.change(async (tx) => {
      if (!(await turnRun(tx, id, 'waiting', 'dropped', this.clock.date()))) throw over();
      await this.tell(tx);
    });
    return this.sheet(id);
  }

  /** What is done every quarter of an hour: looked at, and done where nothing speaks against it. */
  async round(): Promise<void> {
    await this.endStuck();
    if (!(await this.directory.isConnected())) return;
    const waiting = await waitingRun(this.db.manager);
    // Somebody is about to answer; they are asked again when they do not.
    if (waiting?.askedBy && waiting.at.getTime() > this.clock.now() - ANSWER_MS) return;
    const id = await this.events.change((tx) => this.begin(tx, null, NOTHING));
    if (id === null) return;
    const plan = await this.see(id, NOTHING, waiting);
    if (plan && !plan.asks) await this.goOn(id, plan);
    await this.events.change((tx) => forgetRuns(tx, new Date(this.clock.now() - KEPT_MS)));
  }

  private async goOn(id: string, plan: DirectoryPlan): Promise<void> {
    const turned = await this.events.change((tx) => turnRun(tx, id, 'waiting', 'doing', this.clock.date()));
    if (turned) await this.make(id, plan);
  }

  private async begin(tx: EntityManager, by: string | null, asked: LookAtDirectory): Promise<string | null> {
    const id = await beginRun(tx, { by, asked, at: this.clock.date() });
    await this.tell(tx);
    return id;
  }

  /**
   * Reads the directory and keeps what would change; what waited before that for an answer is asked again by it.
   * @param before what waits: when nothing has changed since, it goes on waiting and this look leaves no trace
   * @returns null: there is nothing to be done
   */
  private async see(
    id: string,
    asked: LookAtDirectory,
    before: RunRecord | null = null,
  ): Promise<DirectoryPlan | null> {
    try {
      const plan = await this.plan(asked);
      const isSame = before?.plan && plan.asks && !before.askedBy && printOf(before.plan) === printOf(plan);
      if (isSame) {
        await this.events.change((tx) => forgetRun(tx, id));
        return null;
      }
      await this.events.change(async (tx) => {
        await dropWaiting(tx, this.clock.date());
        const words = directoryPlanWords(plan.changes);
        await runSeen(tx, id, { plan, words, state: plan.changes.length > 0 ? 'waiting' : 'done' });
        await this.tell(tx);
      });
      return plan.changes.length > 0 ? plan : null;
    } catch (error) {
      await this.fail(id, error);
      return null;
    }
  }

  private async plan({ chosen, taken }: LookAtDirectory): Promise<DirectoryPlan> {
    const way = await this.directory.requireWay();
    const seen = await this.directory.onLine(way, (line) => line.all());
    return directoryPlan(seen, await loadKnown(this.db.manager), {
      branches: way.branches,
      chosen: new Set(chosen),
      taken: new Map(taken.map((t) => [t.entryId, t.id])),
    });
  }

  /** Looks, where somebody asked for that; does what somebody agreed to, if it is still what the directory says. */
  private async do(id: string): Promise<void> {
    const record = await run(this.db.manager, id);
    if (record?.state === 'looking') await this.see(id, record.asked);
    if (record?.state !== 'doing' || !record.plan) return;
    try {
      const plan = await this.plan(record.asked);
      // What was begun and broken off goes on; else nothing but what was shown is done.
      if (record.done === 0 && printOf(plan) !== printOf(record.plan)) {
        const words = 'The directory or the office changed meanwhile. Look again.';
        await this.events.change(async (tx) => {
          await runEnded(tx, id, { state: 'dropped', words, at: this.clock.date() });
          await this.tell(tx);
        });
        return;
      }
      await this.make(id, plan);
    } catch (error) {
      await this.fail(id, error);
    }
  }

  private async make(id: string, { changes }: DirectoryPlan): Promise<void> {
    const ready = await this.apply.ready();
    for (let done = 0; done < changes.length; done += AT_ONCE) {
      const some = changes.slice(done, done + AT_ONCE);
      await this.events.change(async (tx) => {
        await lockAccess(tx, 'alone');
        const entries = [];
        for (const change of some) entries.push(...(await this.apply.change(tx, change, ready)));
        await runProgress(tx, id, { done: done + some.length, at: this.clock.date() });
        await this.tell(tx);
        await this.ledger.append(tx, ...entries);
      });
    }
    await this.events.change(async (tx) => {
      await runEnded(tx, id, { state: 'done', words: null, at: this.clock.date() });
      await this.tell(tx);
      const detail = { what: directoryPlanWords(changes) };
      await this.ledger.append(tx, { kind: 'directory.done', actor: DIRECTORY_ACTOR, detail });
    });
  }

  private async fail(id: string, error: unknown): Promise<void> {
    const known = error instanceof Problem;
    if (!known) log.error({ err: error, run: id }, 'a run of the directory broke off');
    const words = known ? error.message : 'It broke off, for a reason that stands in the log.';
    await this.events.change(async (tx) => {
      await runEnded(tx, id, { state: 'failed', words, at: this.clock.date() });
      await this.tell(tx);
    });
  }

  /** A run whose process died is over; what it did stays, and the next one sees the rest. */
  private async endStuck(): Promise<void> {
    const stuck = await stuckRuns(this.db.manager, new Date(this.clock.now() - STUCK_MS));
    if (stuck.length === 0) return;
    await this.events.change(async (tx) => {
      const words = 'The server ended meanwhile. The next run does the rest.';
      for (const id of stuck) await runEnded(tx, id, { state: 'failed', words, at: this.clock.date() });
    });
  }

  private async isWaiting(m: EntityManager, id: string): Promise<boolean> {
    return (await runHead(m, id))?.state === 'waiting';
  }

  private async require(id: string): Promise<RunHead> {
    const record = await runHead(this.db.manager, id);
    if (!record) throw notFound('This look at the directory');
    return record;
  }

  private async tell(tx: EntityManager): Promise<void> {
    await this.events.tell(tx, { topic: 'access', id: 'changed' });
  }
}

export const DIRECTORY_ACTOR = { ...SYSTEM_ACTOR, name: 'The directory' };

/** Two plans that do the same have the same. */
const printOf = ({ changes }: { changes: DirectoryChange[] }): string =>
  createHash('sha256').update(JSON.stringify(changes)).digest('hex');

const busy = (): Problem => new Problem('conflict', 'directory.busy', 'The directory is being looked at already.');
const over = (): Problem =>
  new Problem('conflict', 'directory.over', 'That look at the directory is over. Look again to see what would change.');
