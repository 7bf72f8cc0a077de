import { Injectable, type OnApplicationShutdown } from '@nestjs/common';
import type { Task, TaskReport } from '@quay/contract';
import { randomUUID } from 'node:crypto';
import { DataSource, type EntityManager } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';
import type { Who } from '../people/who.js';
import { aside } from '../platform/aside.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { Jobs } from '../platform/jobs/jobs.service.js';
import { LOCKS } from '../platform/locks.js';
import { log } from '../platform/log/log.js';
import { notFound, Problem } from '../platform/problems/problem.js';

export interface TaskRow {
  id: string;
  kind: Task['kind'];
  asked_by: string | null;
  detail: Record<string, string>;
  state: Task['state'];
  progress: Partial<Task['progress']>;
  report: TaskReport | null;
  created_at: Date;
  ended_at: Date | null;
  asker: string | null;
}

/** What a task does: tells how far it is, stops when it is told to, and ends with a report. */
export type TaskWork = (task: TaskRow, tell: (progress: Task['progress']) => Promise<void>) => Promise<TaskReport>;

/** A task that has not told anything for this long was left by a process that died. */
const DEAD_MS = 60_000;
const TOLD_EVERY_MS = 500;
const EVERY_MINUTE = '* * * * *';

/** Long work for the admin, one at a time over all server processes; it goes on from the start after a crash. */
@Injectable()
export class TasksService implements OnApplicationShutdown {
  private readonly works = new Map<
    Task['kind'],
    { title: (detail: Record<string, string>) => string; work: TaskWork }
  >();
  private current: Promise<void> | null = null;
  /** Somebody asked to look since it was last looked: what came just then may not have been seen. */
  private askedAgain = false;
  private stopping = false;

  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly events: Events,
    private readonly jobs: Jobs,
  ) {
    jobs.define(
      'tasks',
      () => 'Look for long work of the admin',
      () => Promise.resolve(this.look()),
    );
    // What a process left that died is taken up by another.
    jobs.regularly('tasks', EVERY_MINUTE);
  }

  /** Says how a kind of task is done. */
  define(kind: Task['kind'], title: (detail: Record<string, string>) => string, work: TaskWork): void {
    this.works.set(kind, { title, work });
  }

  async onApplicationShutdown(): Promise<void> {
    this.stopping = true;
    await this.current;
  }

  /** @param who null: the program itself */
  async ask(who: Who | null, kind: Task['kind'], detail: Record<string, string>): Promise<Task> {
    return (await this.askIf(who, kind, () => Promise.resolve(detail))) as Task;
  }

  /**
   * Asks for what is found to be wanted, in the transaction that asks for it.
   * @param wanted what it is asked for; null: nothing is to be done
   */
  async askIf(
    who: Who | null,
    kind: Task['kind'],
    wanted: (tx: EntityManager) => Promise<Record<string, string> | null>,
  ): Promise<Task | null> {
    const id = uuidv7();
    const asked = await this.events.change(async (tx) => {
      const detail = await wanted(tx);
      if (!detail) return false;
      await tx.query(
        `INSERT INTO task (id, kind, asked_by, detail, state, created_at) VALUES ($1, $2, $3, $4, 'waiting', $5)`,
        [id, kind, who?.personId ?? null, detail, this.clock.date()],
      );
      await this.jobs.handIn(tx, 'tasks', {}, { key: id });
      await this.events.tell(tx, { topic: 'task', id });
      return true;
    });
    if (!asked) return null;
    this.look();
    return this.task(id);
  }

  async list(): Promise<Task[]> {
    const rows = await this.db.query<TaskRow[]>(
      `SELECT t.*, p.name AS asker FROM task t LEFT JOIN person p ON p.id = t.asked_by ORDER BY t.created_at DESC, t.id DESC
        LIMIT 50`,
    );
    return rows.map((r) => this.shown(r));
  }

  /** What waits or is being done, with what it was asked for. */
  async open(
    kinds: Task['kind'][],
    m: EntityManager = this.db.manager,
  ): Promise<{ task: Task; detail: Record<string, string> }[]> {
    const rows = await m.query<TaskRow[]>(
      `SELECT t.*, p.name AS asker FROM task t LEFT JOIN person p ON p.id = t.asked_by
        WHERE t.state IN ('waiting', 'running') AND t.kind = ANY($1) ORDER BY t.created_at, t.id`,
      [kinds],
    );
    return rows.map((r) => ({ task: this.shown(r), detail: r.detail }));
  }

  async task(id: string): Promise<Task> {
    const [row] = await this.db.query<TaskRow[]>(
      'SELECT t.*, p.name AS asker FROM task t LEFT JOIN person p ON p.id = t.asked_by WHERE t.id = $1',
      [id],
    );
    if (!row) throw notFound('This task');
    return this.shown(row);
  }

  /** Asks a task to stop; what it has done so far stays. */
  async stop(id: string): Promise<Task> {
    await this.db.query(
      `UPDATE task SET state = 'stopped', ended_at = $2 WHERE id = $1 AND state IN ('waiting', 'running')`,
      [id, this.clock.date()],
    );
    return this.task(id);
  }

  /** Resolves when nothing runs here any more. */
  async settled(): Promise<void> {
    while (this.current) await this.current;
  }

  private look(): void {
    this.askedAgain = true;
    if (this.current || this.stopping) return;
    this.askedAgain = false;
    this.current = this.runNext()
      .catch((error: unknown) => {
        if (!this.stopping) log.warn({ err: error }, 'tasks could not be looked at');
        return false;
      })
      .then((again) => {
        this.current = null;
        if (again || this.askedAgain) this.look();
      });
  }

  /**
   * Takes the oldest task that waits, or that a dead process left, unless one runs somewhere. @returns false when there
   * is none
   */
  private async runNext(): Promise<boolean> {
    const claim = randomUUID();
    const [rows] = await this.db.transaction(async (tx) => {
      await tx.query('SELECT pg_advisory_xact_lock($1)', [LOCKS.tasks]);
      return (await tx.query(
        `WITH dead AS (SELECT now() - $1::int * interval '1 millisecond' AS since)
         UPDATE task t SET state = 'running', beat_at = now(), claim = $2 WHERE id = (
           SELECT id FROM task, dead WHERE state = 'waiting' OR (state = 'running' AND beat_at < since)
             ORDER BY created_at, id LIMIT 1)
           AND NOT EXISTS (SELECT 1 FROM task r, dead WHERE r.state = 'running' AND r.beat_at >= since)
         RETURNING t.*, (SELECT name FROM person p WHERE p.id = t.asked_by) AS asker`,
        [DEAD_MS, claim],
      )) as [TaskRow[], number];
    });
    const task = rows[0];
    if (!task) return false;
    const beat = setInterval(
      () =>
        aside(this.db.query('UPDATE task SET beat_at = now() WHERE claim = $1', [claim]), 'a task could not be kept'),
      DEAD_MS / 4,
    );
    try {
      const known = this.works.get(task.kind);
      if (!known) throw new Error(`nothing is known about tasks of the kind ${task.kind}`);
      const report = await known.work(task, this.teller(task.id, claim));
      await this.end(task.id, claim, 'done', report);
    } catch (error) {
      if (error instanceof Stopped) await this.end(task.id, claim, this.stopping ? 'waiting' : 'stopped', null);
      else {
        log.warn({ err: error, task: task.id }, 'a task failed');
        await this.end(task.id, claim, 'failed', {
          words:
            error instanceof Problem
              ? error.message
              : 'It broke off. What it had done by then is there; it can be started again.',
          files: 0,
          bytes: 0,
          verified: 0,
          notes: [],
        });
      }
    } finally {
      clearInterval(beat);
    }
    return true;
  }

  private teller(id: string, claim: string): (progress: Task['progress']) => Promise<void> {
    let last = 0;
    return async (progress) => {
      if (this.stopping) throw new Stopped();
      const now = performance.now();
      if (now - last < TOLD_EVERY_MS) return;
      last = now;
      await this.events.change(async (tx) => {
        const [, changed] = (await tx.query(
          `UPDATE task SET progress = $2, beat_at = now() WHERE claim = $1 AND state = 'running'`,
          [claim, progress],
        )) as [unknown, number];
        if (changed === 0) throw new Stopped();
        await this.events.tell(tx, { topic: 'task', id });
      });
    };
  }

  private async end(id: string, claim: string, state: Task['state'], report: TaskReport | null): Promise<void> {
    await this.events.change(async (tx) => {
      await tx.query(
        `UPDATE task SET state = $2, report = coalesce($3, report),
          ended_at = CASE WHEN $2 = 'waiting' THEN NULL ELSE $4::timestamptz END
          WHERE claim = $1 AND state IN ('running', 'stopped')`,
        [claim, state, report, this.clock.date()],
      );
      await this.events.tell(tx, { topic: 'task', id });
    });
  }

  private shown(r: TaskRow): Task {
    return {
      id: r.id,
      kind: r.kind,
      state: r.state,
      askedBy: r.asker,
      title: this.works.get(r.kind)?.title(r.detail) ?? r.kind,
      progress: { done: 0, total: null, bytes: 0, words: '', ...r.progress },
      report: r.report,
      createdAt: r.created_at.toISOString(),
      endedAt: r.ended_at?.toISOString() ?? null,
    };
  }
}

/** Thrown at whoever tells how far a task is, when it is to stop. */
export class Stopped extends Error {}
