import { Injectable } from '@nestjs/common';
import type { HomeRow } from '@quay/contract';
import { DataSource, type EntityManager } from 'typeorm';
import { LedgerService, type NewEntry } from '../ledger/ledger.service.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { invalidField, notFound, Problem } from '../platform/problems/problem.js';
import { lockAccess } from './access-lock.js';
import type { Account } from './access.service.js';

/**
 * Homes are closed to everybody but their owner. When somebody has left, theirs is handed over, which is written down.
 */
@Injectable()
export class HomesService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly ledger: LedgerService,
    private readonly events: Events,
  ) {}

  list(): Promise<HomeRow[]> {
    return this.db
      .query<(Omit<HomeRow, 'ownerLeftAt'> & { ownerLeftAt: Date | null })[]>(
        `SELECT s.id AS "storeId", p.id AS "ownerId", p.name AS "ownerName", p.disabled_at AS "ownerLeftAt",
                s.used_bytes::float8 AS "usedBytes"
           FROM store s JOIN person p ON p.id = s.owner_id WHERE s.kind = 'home' ORDER BY p.name, s.created_at`,
      )
      .then((rows) => rows.map((r) => ({ ...r, ownerLeftAt: r.ownerLeftAt?.toISOString() ?? null })));
  }

  /** @throws Problem home.owner-there while its owner can still use it */
  async handOver(who: Account, storeId: string, toPersonId: string): Promise<HomeRow[]> {
    await this.events.change(async (tx) => {
      await lockAccess(tx, 'alone');
      const [home] = await tx.query<{ name: string; leftAt: Date | null; ownerId: string; rootId: string }[]>(
        `SELECT p.name, p.disabled_at AS "leftAt", p.id AS "ownerId", n.id AS "rootId"
           FROM store s JOIN person p ON p.id = s.owner_id JOIN node n ON n.store_id = s.id AND n.parent_id IS NULL
          WHERE s.id = $1 AND s.kind = 'home' FOR UPDATE OF s, p`,
        [storeId],
      );
      if (!home) throw notFound('This home');
      if (home.leftAt === null)
        throw new Problem(
          'conflict',
          'home.owner-there',
          `${home.name} still has an account. A home is handed over when somebody has left.`,
        );
      await this.ledger.append(tx, await this.giveIn(tx, who, { storeId, ...home }, toPersonId));
    });
    return this.list();
  }

  /** Gives a home to somebody, within a transaction that does more. @returns what is to be written down of it */
  async giveIn(
    tx: EntityManager,
    who: Account,
    home: { storeId: string; name: string; rootId: string },
    toPersonId: string,
  ): Promise<NewEntry> {
    const [to] = await tx.query<{ name: string }[]>(
      `SELECT name FROM person WHERE id = $1 AND disabled_at IS NULL AND role <> 'guest' FOR SHARE`,
      [toPersonId],
    );
    if (!to) throw invalidField('toPersonId', 'home.nobody', 'Choose somebody of the office who has an account.');
    await tx.query('UPDATE store SET owner_id = $2 WHERE id = $1', [home.storeId, toPersonId]);
    await this.events.tell(tx, { topic: 'access', id: 'changed' }, { topic: 'store', id: home.storeId });
    return {
      kind: 'home.handed-over',
      actor: { kind: 'person', id: who.personId, name: who.name },
      nodeId: home.rootId,
      detail: { from: home.name, to: to.name },
    };
  }

  /** A home that was handed over is its owner's of before again, if whoever got it still has it. */
  async giveBackIn(
    tx: EntityManager,
    { storeId, toPersonId }: { storeId: string; toPersonId: string },
    ownerId: string,
  ): Promise<void> {
    await tx.query('UPDATE store SET owner_id = $3 WHERE id = $1 AND owner_id = $2', [storeId, toPersonId, ownerId]);
    await this.events.tell(tx, { topic: 'store', id: storeId });
  }

  /** Somebody's home; null: they have none. */
  async homeOf(
    m: EntityManager,
    personId: string,
  ): Promise<{ storeId: string; name: string; rootId: string; usedBytes: number } | null> {
    const [home] = await m.query<{ storeId: string; name: string; rootId: string; usedBytes: number }[]>(
      `SELECT s.id AS "storeId", p.name, n.id AS "rootId", s.used_bytes::float8 AS "usedBytes"
         FROM store s JOIN person p ON p.id = s.owner_id JOIN node n ON n.store_id = s.id AND n.parent_id IS NULL
        WHERE s.owner_id = $1 AND s.kind = 'home' ORDER BY s.created_at LIMIT 1`,
      [personId],
    );
    return home ?? null;
  }
}
