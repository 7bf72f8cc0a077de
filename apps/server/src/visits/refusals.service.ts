import { Injectable } from '@nestjs/common';
import { countOf, momentInWords, REFUSAL_REASONS, REFUSAL_WORDS, refusalReason, type RefusalReason } from '@quay/core';
import { DataSource, type EntityManager } from 'typeorm';
import { LedgerService } from '../ledger/ledger.service.js';
import { NoticesService } from '../people/notices.service.js';
import { sourceOf } from '../platform/client-address.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { Housekeeping } from '../platform/housekeeping.js';
import { grouped } from '../platform/grouped.js';
import { Office } from '../platform/office.js';
import { Problem } from '../platform/problems/problem.js';
import type { ShareRecord } from '../shares/shares.queries.js';
import { forgetRefusals, markTold, noteRefusal, refusalsToTell, type RefusalToTell } from './refusals.queries.js';

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
    private readonly notices: NoticesService,
    private readonly office: Office,
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

  private async tellPublisher(tx: EntityManager, refusals: readonly RefusalToTell[]): Promise<void> {
    const [first] = refusals;
    if (!first) return;
    const { zone } = await this.office.settings();
    const reasons = REFUSAL_REASONS.flatMap((reason) => {
      const count = sumOf(refusals.filter((r) => r.reason === reason));
      return count > 0 ? [`${count} ${REFUSAL_WORDS[reason]}`] : [];
    });
    const when = momentInWords(first.hour.getTime(), this.clock.now(), zone);
    await this.notices.give(tx, 'share-tried', first.publisherId, {
      subject: 'Somebody was refused at a share of yours',
      text: `At ${first.title} there were ${countOf(sumOf(refusals), 'refused try', 'refused tries')} in the hour from ${when}: ${reasons.join(', ')}. From where stands in Shares.`,
    });
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
        for (const of of grouped(rows, (r) => `${r.shareId} ${r.hour.toISOString()}`).values())
          await this.tellPublisher(tx, of);
        await this.ledger.append(tx, ...entries);
        return rows.length === AT_ONCE;
      });
    await forgetRefusals(this.db.manager, new Date(this.clock.now() - KEPT_MS));
  }
}

const sumOf = (refusals: readonly RefusalToTell[]): number => refusals.reduce((sum, r) => sum + r.count, 0);
