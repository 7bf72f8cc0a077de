import { Injectable } from '@nestjs/common';
import type { Upkeep } from '@quay/contract';
import { SYSTEM_ACTOR, type GuideStep, type LedgerBody } from '@quay/core';
import { DataSource, type EntityManager } from 'typeorm';
import { LedgerService } from '../ledger/ledger.service.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import type { AddressRecord } from './reach.queries.js';

export type Actor = LedgerBody['actor'];
export type By = 'program' | 'hand';

/** Keeps what was done for an address, step by step, and how renewing it went. */
@Injectable()
export class StepsService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly events: Events,
    private readonly ledger: LedgerService,
  ) {}

  /** Something was done: a step of the guide, or none of it (null). The ledger is told. */
  async record(
    actor: Actor,
    address: Pick<AddressRecord, 'id'>,
    step: GuideStep | null,
    entry: { kind: string; detail: LedgerBody['detail'] },
    by: By = 'program',
  ): Promise<void> {
    await this.events.change(async (tx) => {
      if (step) await this.done(tx, address.id, step, by);
      await tx.query('DELETE FROM renewal WHERE address_id = $1 AND kind = $2', [address.id, step]);
      await this.events.tell(tx, { topic: 'reach', id: address.id });
      // What is renewed by itself is not worth a line each time.
      if (actor.kind !== SYSTEM_ACTOR.kind || entry.kind !== 'reach.mapping')
        await this.ledger.append(tx, { ...entry, actor });
    });
  }

  /** A step was seen to be done by hand. */
  async seen(addressId: string, step: GuideStep): Promise<void> {
    await this.db.transaction((tx) => this.done(tx, addressId, step, 'hand'));
  }

  /** How renewing went. @param failure null: well */
  async renewed(addressId: string, kind: Upkeep['kind'], failure: string | null): Promise<void> {
    await this.events.change(async (tx) => {
      await tx.query(
        `INSERT INTO renewal (address_id, kind, tried_at, failure, failures) VALUES ($1, $2, $3, $4, $5)
         ON CONFLICT (address_id, kind) DO UPDATE SET tried_at = $3, failure = $4,
           failures = CASE WHEN $4::text IS NULL THEN 0 ELSE renewal.failures + 1 END`,
        [addressId, kind, this.clock.date(), failure, failure === null ? 0 : 1],
      );
      await this.events.tell(tx, { topic: 'reach', id: addressId });
    });
  }

  private async done(tx: EntityManager, addressId: string, step: GuideStep, by: By): Promise<void> {
    await tx.query('UPDATE address SET guide = guide || $2 WHERE id = $1', [
      addressId,
      JSON.stringify({ [step]: { at: this.clock.date().toISOString(), by } }),
    ]);
  }
}
