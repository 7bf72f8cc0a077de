import { Injectable } from '@nestjs/common';
import { SYSTEM_ACTOR } from '@quay/core';
import { LedgerService } from '../ledger/ledger.service.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { Housekeeping } from '../platform/housekeeping.js';
import { Jobs } from '../platform/jobs/jobs.service.js';
import { DataSource, type EntityManager } from 'typeorm';

/** A time at which a share opens or closes by itself. */
interface Moment {
  shareId: string;
  title: string;
  what: 'opens' | 'closes';
  /** RFC 3339. */
  at: string;
}

/**
 * Shares open and close by what their window says and the clock shows; nothing has to happen for that. That it has
 * happened is told at the moment itself: an event, for pages that show it, and a line in the ledger, once, also when
 * no server was running then.
 */
@Injectable()
export class MomentsService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly ledger: LedgerService,
    private readonly events: Events,
    private readonly jobs: Jobs,
    housekeeping: Housekeeping,
  ) {
    jobs.define<Moment>(
      'share-moment',
      ({ title, what }) => `${title} ${what}`,
      (moment) => this.tell(moment),
    );
    // Of shares that came with a backup, or from before there were jobs.
    housekeeping.add('times of shares', () => this.handInMissing());
  }

  /** Sees to it that the times of a share are told of. Within the transaction that sets them. */
  async plan(
    tx: EntityManager,
    share: { id: string; title: string; opensAt: Date | null; closesAt: Date | null },
  ): Promise<void> {
    const title = (await isFromHome(tx, share.id)) ? 'A share from somebody’s home' : share.title;
    for (const [what, at] of [
      ['opens', share.opensAt],
      ['closes', share.closesAt],
    ] as const) {
      if (!at || (what === 'opens' && at.getTime() <= this.clock.now())) continue;
      const moment: Moment = { shareId: share.id, title, what, at: at.toISOString() };
      await this.jobs.handIn(tx, 'share-moment', moment, { at, key: `${share.id} ${what} ${at.getTime()}` });
    }
  }

  /** What has become another time since, or was withdrawn, is not told of. */
  private async tell({ shareId, what, at }: Moment): Promise<void> {
    const moment = new Date(at);
    await this.events.change(async (tx) => {
      const [share] = await tx.query<
        { title: string; opensAt: Date | null; closesAt: Date | null; withdrawn: boolean }[]
      >(
        `SELECT title, opens_at AS "opensAt", closes_at AS "closesAt", withdrawn_at IS NOT NULL AS withdrawn
           FROM share WHERE id = $1 FOR UPDATE`,
        [shareId],
      );
      const set = what === 'opens' ? share?.opensAt : share?.closesAt;
      if (!share || share.withdrawn || set?.getTime() !== moment.getTime()) return;
      if (moment.getTime() > this.clock.now()) return this.plan(tx, { id: shareId, ...share });
      const [told] = await tx.query<unknown[]>(
        `INSERT INTO share_moment (share_id, what, at, told_at) VALUES ($1, $2, $3, $4) ON CONFLICT DO NOTHING
          RETURNING 1`,
        [shareId, what, moment, this.clock.date()],
      );
      if (!told) return;
      await this.events.tell(tx, { topic: 'share', id: shareId });
      await this.ledger.append(tx, {
        kind: what === 'opens' ? 'share.opens' : 'share.closes',
        actor: SYSTEM_ACTOR,
        shareId,
        detail: { title: share.title },
      });
    });
  }

  private async handInMissing(): Promise<void> {
    const rows = await this.db.query<{ id: string; title: string; opensAt: Date | null; closesAt: Date | null }[]>(
      `SELECT s.id, s.title, CASE WHEN o.share_id IS NULL THEN s.opens_at END AS "opensAt",
              CASE WHEN c.share_id IS NULL THEN s.closes_at END AS "closesAt"
         FROM share s
         LEFT JOIN share_moment o ON o.share_id = s.id AND o.what = 'opens' AND o.at = s.opens_at
         LEFT JOIN share_moment c ON c.share_id = s.id AND c.what = 'closes' AND c.at = s.closes_at
        WHERE s.withdrawn_at IS NULL
          AND ((s.opens_at > $1 AND o.share_id IS NULL) OR (s.closes_at IS NOT NULL AND c.share_id IS NULL))`,
      [this.clock.date()],
    );
    for (const share of rows) await this.events.change((tx) => this.plan(tx, share));
  }
}

/** Whoever runs the server sees what waits, and nothing of what is in homes. */
async function isFromHome(tx: EntityManager, shareId: string): Promise<boolean> {
  const rows = await tx.query<unknown[]>(
    `SELECT 1 FROM share_item i JOIN node n ON n.id = i.node_id JOIN store s ON s.id = n.store_id
      WHERE i.share_id = $1 AND s.kind = 'home' LIMIT 1`,
    [shareId],
  );
  return rows.length > 0;
}
