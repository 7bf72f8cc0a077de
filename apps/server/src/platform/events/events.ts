import { Inject, Injectable, type OnApplicationShutdown, type OnModuleInit } from '@nestjs/common';
import type { QuayEvent } from '@quay/contract';
import { randomUUID } from 'node:crypto';
import pg from 'pg';
import { Subject } from 'rxjs';
import { DataSource, type EntityManager } from 'typeorm';
import { aside } from '../aside.js';
import { Clock } from '../clock.js';
import { CONFIG, type Config } from '../config.js';
import { log } from '../log/log.js';

const CHANNEL = 'quay';

/**
 * What changed, told to every server process through PostgreSQL's LISTEN and NOTIFY: an event is sent inside the
 * transaction that makes the change and so arrives if and only if that commits. The process that made the change hears
 * of it before its answer goes out; the others a moment later.
 */
@Injectable()
export class Events implements OnModuleInit, OnApplicationShutdown {
  readonly stream = new Subject<QuayEvent>();
  private readonly origin = randomUUID();
  private readonly told = new WeakMap<EntityManager, QuayEvent[]>();
  private client: pg.Client | null = null;
  private stopped = false;
  private wasLost = false;
  private retry: NodeJS.Timeout | null = null;

  constructor(
    @Inject(CONFIG) private readonly config: Config,
    private readonly db: DataSource,
    private readonly clock: Clock,
  ) {}

  /** False while changes of other processes might be missed: nothing may be answered from memory then. */
  get listening(): boolean {
    return this.client !== null;
  }

  async onModuleInit(): Promise<void> {
    await this.connect();
  }

  async onApplicationShutdown(): Promise<void> {
    this.stopped = true;
    if (this.retry) clearTimeout(this.retry);
    this.stream.complete();
    await this.client?.end().catch(() => undefined);
  }

  /** Runs a change as one transaction; what it tells is heard here as soon as it has committed. */
  async change<T>(work: (tx: EntityManager) => Promise<T>): Promise<T> {
    const events: QuayEvent[] = [];
    const result = await this.db.transaction(async (tx) => {
      this.told.set(tx, events);
      // The past of items is written by the database, by this clock.
      await tx.query("SELECT set_config('quay.now', $1, true)", [this.clock.date().toISOString()]);
      return work(tx);
    });
    for (const event of events) this.stream.next(event);
    return result;
  }

  /** Tells everybody, when and only when the change commits. Belongs inside {@link change}. */
  async tell(tx: EntityManager, ...events: QuayEvent[]): Promise<void> {
    const mine = this.told.get(tx);
    if (!mine) throw new Error('events are told inside a change');
    const fresh: QuayEvent[] = [];
    for (const event of events) {
      if (mine.some((e) => isSame(e, event))) continue;
      mine.push(event);
      fresh.push(event);
    }
    if (fresh.length === 0) return;
    const payloads = fresh.map((event) => JSON.stringify({ ...event, origin: this.origin }));
    await tx.query('SELECT pg_notify($1, payload) FROM unnest($2::text[]) AS payload', [CHANNEL, payloads]);
  }

  private async connect(): Promise<void> {
    const client = new pg.Client({ connectionString: this.config.databaseUrl });
    client.on('error', () => this.lost(client));
    client.on('end', () => this.lost(client));
    client.on('notification', (message) => this.heard(message.payload ?? '{}'));
    try {
      await client.connect();
      await client.query(`LISTEN ${CHANNEL}`);
      this.client = client;
      // What happened meanwhile was not heard: whatever is remembered is not to be believed any more.
      if (this.wasLost) this.stream.next({ topic: 'missed', id: '' });
      this.wasLost = false;
    } catch {
      this.lost(client);
    }
  }

  private heard(payload: string): void {
    const { origin, ...event } = JSON.parse(payload) as QuayEvent & { origin: string };
    if (origin !== this.origin) this.stream.next(event);
  }

  private lost(client: pg.Client): void {
    if (this.stopped || this.retry || (this.client !== null && this.client !== client)) return;
    this.client = null;
    this.wasLost = true;
    log.warn('the event connection to the database is lost; trying again');
    this.retry = setTimeout(() => {
      this.retry = null;
      aside(this.connect(), 'the event connection could not be tried again');
    }, 500);
  }
}

const isSame = (a: QuayEvent, b: QuayEvent): boolean =>
  a.topic === b.topic && a.id === b.id && a.personId === b.personId && a.shareId === b.shareId;
