import {
  Inject,
  Injectable,
  type OnApplicationBootstrap,
  type OnApplicationShutdown,
  type OnModuleInit,
} from '@nestjs/common';
import { randomUUID } from 'node:crypto';
import PgBoss from 'pg-boss';
import type { EntityManager } from 'typeorm';
import { Clock } from '../clock.js';
import { CONFIG, type Config } from '../config.js';
import { log } from '../log/log.js';
import { JOBS_SCHEMA, QUEUES, type QueueName } from './queues.js';

/** One try of a job. */
export interface Try {
  id: string;
  /** True when nothing is tried again after this one. */
  last: boolean;
}

/** A job that is to be done, and which try of it this is. */
export interface Given<D extends object = object> {
  data: D;
  attempt: Try;
}

interface Kind {
  /** What a job does, for people: "closes Mill Lane drawings". */
  words: (data: object) => string;
  /** Does several; how each of them ended, in their order. */
  work: (jobs: Given[]) => Promise<PromiseSettledResult<void>[]>;
  /** So many are taken up together. */
  atOnce: number;
}

type Job = PgBoss.JobWithMetadata<object | null>;

/** Looking for jobs of each kind; what this process handed in itself it looks for at once. */
const POLL_SECONDS = 2;
/** Jobs of a process that died are looked for so often. */
const LOOK_AFTER_SECONDS = 15;
/** How long a process that ends waits for what it is doing. */
const LET_END_MS = 10_000;
/** Connections of its own, so that work that waits never takes one from a request. */
const CONNECTIONS = 3;
const KEPT = { doneSeconds: 3600, failedSeconds: 30 * 24 * 3600, goneDays: 30 } as const;

/**
 * Work that is done later, once, by whichever server process takes it up: handed in inside the transaction that causes
 * it, so that it is there if and only if that commits. What fails is tried again, later each time, and in the end
 * given up, which is seen. Whoever works must be able to be interrupted at any point and begun again.
 */
@Injectable()
export class Jobs implements OnModuleInit, OnApplicationBootstrap, OnApplicationShutdown {
  private readonly kinds = new Map<QueueName, Kind>();
  private readonly workers = new Map<QueueName, string>();
  private readonly regular = new Map<QueueName, string>();
  /** What is being done here now. */
  private readonly doing = new Set<Promise<void>>();
  private readonly boss: PgBoss;
  private started = false;

  constructor(
    @Inject(CONFIG) private readonly config: Config,
    private readonly clock: Clock,
  ) {
    this.boss = new PgBoss({
      connectionString: config.databaseUrl,
      schema: JOBS_SCHEMA,
      max: CONNECTIONS,
      migrate: false,
      maintenanceIntervalSeconds: LOOK_AFTER_SECONDS,
      archiveCompletedAfterSeconds: KEPT.doneSeconds,
      archiveFailedAfterSeconds: KEPT.failedSeconds,
      deleteAfterDays: KEPT.goneDays,
    });
    this.boss.on('error', (error) => log.warn({ err: error }, 'the queue of jobs did not answer; it is asked again'));
  }

  /** Says how jobs of a kind are done, and how many of them side by side. Before the server begins. */
  define<D extends object>(
    name: QueueName,
    words: (data: D) => string,
    work: (data: D, attempt: Try) => Promise<void>,
    { atOnce = 1 }: { atOnce?: number } = {},
  ): void {
    const each = (jobs: Given<D>[]) => Promise.allSettled(jobs.map(({ data, attempt }) => work(data, attempt)));
    this.defineMany<D>(name, words, each, { atOnce });
  }

  /** The same of jobs that share work: so many are taken up together, and how each ended is said of each. */
  defineMany<D extends object>(
    name: QueueName,
    words: (data: D) => string,
    work: (jobs: Given<D>[]) => Promise<PromiseSettledResult<void>[]>,
    { atOnce }: { atOnce: number },
  ): void {
    this.kinds.set(name, { words: words as Kind['words'], work: work as Kind['work'], atOnce });
  }

  /** From here on jobs can be handed in; they are taken up when everybody has said what they do. */
  async onModuleInit(): Promise<void> {
    await this.boss.start();
    this.started = true;
  }

  async onApplicationBootstrap(): Promise<void> {
    if (!this.config.serves) return;
    for (const [name, cron] of this.regular) await this.boss.schedule(name, cron);
    for (const [name, { atOnce }] of this.kinds)
      this.workers.set(
        name,
        await this.boss.work<object | null>(
          name,
          { pollingIntervalSeconds: POLL_SECONDS, includeMetadata: true, batchSize: atOnce },
          async (jobs) => {
            const doing = this.doAll(name, jobs);
            this.doing.add(doing);
            await doing.finally(() => this.doing.delete(doing));
          },
        ),
      );
  }

  /** Does jobs side by side; those that fail are given back when all have ended, and the rest is done. */
  private async doAll(name: QueueName, jobs: Job[]): Promise<void> {
    const kind = this.kinds.get(name) as Kind;
    const given = jobs.map(({ id, data, retryCount, retryLimit }) => ({
      data: data ?? {},
      attempt: { id, last: retryCount >= Math.max(retryLimit, QUEUES[name].retryLimit) },
    }));
    const ended = await kind.work(given);
    for (const [i, { attempt }] of given.entries()) {
      const how = ended[i];
      if (how?.status === 'fulfilled') continue;
      const error: unknown = how?.reason;
      log.warn({ err: error, job: name, ...attempt }, 'a job failed');
      // What is kept of it is shown to people: what went wrong, not where; the cause stays in the log.
      await this.boss.fail(name, attempt.id, new Error(error instanceof Error ? error.message : String(error)));
    }
    // Where there was something there may be more.
    this.hurry(name);
  }

  /** Has a job of a kind handed in again and again, by the calendar of a cron line; once over all server processes. */
  regularly(name: QueueName, cron: string): void {
    this.regular.set(name, cron);
  }

  /** What is being done is let end, for a while; what is not done by then is given back. */
  async onApplicationShutdown(): Promise<void> {
    if (!this.started) return;
    for (const name of this.workers.keys()) await this.boss.offWork(name);
    const late = new Promise((resolve) => setTimeout(resolve, LET_END_MS).unref());
    await Promise.race([Promise.allSettled(this.doing), late]);
    await this.boss.stop({ graceful: false });
  }

  /**
   * Hands a job in, inside the transaction that causes it.
   * @param at when it is due; at once when that has passed
   * @param key of several that wait with one key, one is done
   */
  async handIn(tx: EntityManager, name: QueueName, data: object, how: { at?: Date; key?: string } = {}): Promise<void> {
    const waitMs = how.at ? Math.max(0, how.at.getTime() - this.clock.now()) : 0;
    await this.boss.send(name, data, {
      ...(waitMs > 0 && { startAfter: new Date(Date.now() + waitMs) }),
      // Without a key of its own each would be the same job to the queue, and only one of them would wait.
      singletonKey: how.key ?? randomUUID(),
      db: within(tx),
    });
  }

  /** Hands many in at once, each with its key. */
  async handInAll(tx: EntityManager, name: QueueName, jobs: readonly { data: object; key: string }[]): Promise<void> {
    await this.boss.insert(
      jobs.map(({ data, key }) => ({ name, data, singletonKey: key })),
      { db: within(tx) },
    );
  }

  /** Looks for jobs of a kind now: after something was handed in that should not wait. */
  hurry(name: QueueName): void {
    const worker = this.workers.get(name);
    if (worker) this.boss.notifyWorker(worker);
  }

  /** How many jobs of a kind are not done. */
  waiting(name: QueueName): Promise<number> {
    return this.boss.getQueueSize(name, { before: 'completed' });
  }

  words(name: string, data: object | null): string {
    return this.kinds.get(name as QueueName)?.words(data ?? {}) ?? name;
  }

  /** Begins again what was given up. @returns false when there is no such job any more */
  async again(name: string, id: string): Promise<boolean> {
    const job = await this.boss.getJobById(name, id);
    if (job?.state !== 'failed') return false;
    await this.boss.retry(name, id);
    this.hurry(name as QueueName);
    return true;
  }
}

/** The queue's statements within a transaction. */
const within = (tx: EntityManager): PgBoss.Db => ({
  executeSql: async (text, values) => ({ rows: await tx.query<object[]>(text, values) }),
});
