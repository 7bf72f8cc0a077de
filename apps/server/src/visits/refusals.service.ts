import { Injectable } from '@nestjs/common';
import { refusalReason, type RefusalReason } from '@quay/core';
import { DataSource } from 'typeorm';
import { LedgerService } from '../ledger/ledger.service.js';
import { sourceOf } from '../platform/client-address.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { Housekeeping } from '../platform/housekeeping.js';
import { Problem } from '../platform/problems/problem.js';
import type { ShareRecord } from '../shares/shares.queries.js';
import { forgetRefusals, markTold, noteRefusal, refusalsToTell } from './refusals.queries.js';

type Counted = Pick<ShareRecord, 'id'>;

const HOUR_MS = 3_600_000;
const KEPT_MS = 90 * 86_400_000;
/** Lines that go into the ledger in one transaction. */
const AT_ONCE = 200;

/**
 * Who was refused at a share, why, and how often: counted at once, and written into the ledger once for each source,
 * reason and hour when that hour is over, so that a stranger cannot fill it.
 */
@Injectable()
export class RefusalsService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly events: Events,
    private readonly ledger: LedgerService,
    housekeeping: Housekeeping,
  ) {
    housekeeping.add('refused tries', () => this.tell());
  }

  /** Does something for a visitor, and counts it when they are refused. */
  async counting<T>(share: Counted, from: string, work: () => Promise<T>): Promise<T> {
    try {
      return await work();
    } catch (error) {
      const reason = error instanceof Problem ? refusalReason(error.code) : null;
      if (reason) await this.note(share, from, reason);
      throw error;
    }
  }

  async note(share: Counted, from: string, reason: RefusalReason): Promise<void> {
    const at = this.clock.date();
    const hour = new Date(Math.floor(at.getTime() / HOUR_MS) * HOUR_MS);
    // Nobody is told at once: a stranger would have every page that shows the share look again.
    await noteRefusal(this.db.manager, { shareId: share.id, reason, source: sourceOf(from), from, hour, at });
  }

  /** Writes down what was refused in hours that are over. */
  async tell(): Promise<void> {
    const hour = new Date(Math.floor(this.clock.now() / HOUR_MS) * HOUR_MS);
    for (let left = true; left;)
      left = await this.events.change(async (tx) => {
        const rows = await refusalsToTell(tx, hour, AT_ONCE);
        await markTold(tx, rows, this.clock.date());
        const entries = rows.map(({ shareId, title, from, reason, count }) => ({
          kind: 'share.refused',
          actor: { kind: 'visitor' as const, id: null, name: from === null ? 'Visitors' : `Visitor from ${from}` },
          shareId,
          detail: { title, reason, count },
        }));
        await this.ledger.append(tx, ...entries);
        return rows.length === AT_ONCE;
      });
    await forgetRefusals(this.db.manager, new Date(this.clock.now() - KEPT_MS));
  }
}
