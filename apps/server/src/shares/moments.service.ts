import { Injectable } from '@nestjs/common';
import { CLOSING_NOTICE_MS, momentInWords, SYSTEM_ACTOR } from '@quay/core';
import { LedgerService } from '../ledger/ledger.service.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { Housekeeping } from '../platform/housekeeping.js';
import { NoticesService } from '../people/notices.service.js';
import { Office } from '../platform/office.js';
import { Jobs } from '../platform/jobs/jobs.service.js';
import { DataSource, type EntityManager } from 'typeorm';

/** A time at which a share opens or closes by itself, or at which its publisher is told that it is about to close. */
interface Moment {
  shareId: string;
  what: 'opens' | 'closes' | 'closes-soon';
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
    private readonly notices: NoticesService,
    private readonly office: Office,
    housekeeping: Housekeeping,
  ) {
    jobs.define<Moment>(
      'share-moment',
      // Whoever runs the server sees what waits, and not what others share.
      ({ what }) => WORDS[what],
      (moment) => this.tell(moment),
    );
    // Of shares that came with a backup, or from before there were jobs.
    housekeeping.add('times of shares', () => this.handInMissing());
  }

  /** Sees to it that the times of a share are told of. Within the transaction that sets them. */
  async plan(tx: EntityManager, share: { id: string; opensAt: Date | null; closesAt: Date | null }): Promise<void> {
    for (const what of MOMENTS) {
      const at = momentOf(share, what);
      // That a share has closed is told late, too; the rest is of use only before.
      if (!at || (what !== 'closes' && at.getTime() <= this.clock.now())) continue;
      const moment: Moment = { shareId: share.id, what, at: at.toISOString() };
      await this.jobs.handIn(tx, 'share-moment', moment, { at, key: `${share.id} ${what} ${at.getTime()}` });
    }
  }

  /** What has become another time since, or was withdrawn, is not told of. */
  private async tell({ shareId, what, at }: Moment): Promise<void> {
    const moment = new Date(at);
    await this.events.change(async (tx) => {
      const [share] = await tx.query<(Windowed & { title: string; withdrawn: boolean; createdBy: string })[]>(
        `SELECT title, opens_at AS "opensAt", closes_at AS "closesAt", withdrawn_at IS NOT NULL AS withdrawn,
                created_by AS "createdBy"
           FROM share WHERE id = $1 FOR UPDATE`,
        [shareId],
      );
      if (!share || share.withdrawn || momentOf(share, what)?.getTime() !== moment.getTime()) return;
      if (moment.getTime() > this.clock.now()) return this.plan(tx, { id: shareId, ...share });
      const [told] = await tx.query<unknown[]>(
        `INSERT INTO share_moment (share_id, what, at, told_at) VALUES ($1, $2, $3, $4) ON CONFLICT DO NOTHING
          RETURNING 1`,
        [shareId, what, moment, this.clock.date()],
      );
      if (!told) return;
      if (what === 'closes-soon') return this.closesSoon(tx, share);
      if (what === 'closes') await this.jobs.handIn(tx, 'share-files', {}, { key: `${shareId} ${at}` });
      await this.events.tell(tx, { topic: 'share', id: shareId });
      await this.ledger.append(tx, {
        kind: what === 'opens' ? 'share.opens' : 'share.closes',
        actor: SYSTEM_ACTOR,
        shareId,
        detail: { title: share.title },
      });
    });
  }

  private async closesSoon(
    tx: EntityManager,
    { title, closesAt, createdBy }: Windowed & { title: string; createdBy: string },
  ): Promise<void> {
    // The server was off meanwhile.
    if (!closesAt || closesAt.getTime() <= this.clock.now()) return;
    const { zone } = await this.office.settings();
    const when = momentInWords(closesAt.getTime(), this.clock.now(), zone);
    await this.notices.give(tx, 'share-closing', createdBy, {
      // Whoever runs the server sees subjects, and nothing of what is in homes.
      subject: 'A share of yours closes soon',
      text: `${title} closes ${when}. If it is to stay open, extend it.`,
    });
  }

  private async handInMissing(): Promise<void> {
    const rows = await this.db.query<{ id: string; opensAt: Date | null; closesAt: Date | null }[]>(
      `SELECT s.id, CASE WHEN o.share_id IS NULL THEN s.opens_at END AS "opensAt",
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

interface Windowed {
  opensAt: Date | null;
  closesAt: Date | null;
}

const WORDS: Record<Moment['what'], string> = {
  ...{ opens: 'A share opens', closes: 'A share closes', 'closes-soon': 'A share closes in a day: a notice' },
};

const MOMENTS = ['opens', 'closes-soon', 'closes'] as const;

/** When that is, for a share; null: never. One that is open for less than two days is not told of a day before. */
function momentOf({ opensAt, closesAt }: Windowed, what: Moment['what']): Date | null {
  if (what === 'opens') return opensAt;
  if (what === 'closes' || !closesAt) return closesAt;
  const soon = closesAt.getTime() - CLOSING_NOTICE_MS;
  return opensAt && soon - opensAt.getTime() < CLOSING_NOTICE_MS ? null : new Date(soon);
}
