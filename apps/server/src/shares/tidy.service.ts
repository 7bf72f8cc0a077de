import { Injectable } from '@nestjs/common';
import { isOverForLong, type TidyKind } from '@quay/core';
import type { Tidied, TidyPreview } from '@quay/contract';
import { DataSource } from 'typeorm';
import { LedgerService } from '../ledger/ledger.service.js';
import type { Who } from '../people/who.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { actorOf } from '../stores/names.js';
import { ensureScope, ownScope } from './list.queries.js';
import { takeOff, tidyCounts } from './tidy.queries.js';

/** What is taken off at once: whoever asks for more asks again. */
const AT_ONCE = 500;
const MOST_TITLES = 5;

/** Takes shares that are over off the list for good. Files stay where they are; the ledger keeps what happened. */
@Injectable()
export class TidyService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly events: Events,
    private readonly ledger: LedgerService,
  ) {}

  async preview(who: Who): Promise<TidyPreview> {
    const at = this.clock.date();
    await ensureScope(this.db.manager, ownScope(who), at);
    const kinds = await tidyCounts(this.db.manager, ownScope(who), at, MOST_TITLES);
    return { kinds: kinds.map((each) => ({ ...each, isOverForLong: isOverForLong(each.kind) })) };
  }

  /** Some of them; how many are left is told. */
  async tidy(who: Who, kinds: readonly TidyKind[]): Promise<Tidied> {
    const at = this.clock.date();
    const scope = ownScope(who);
    await ensureScope(this.db.manager, scope, at);
    let removed = 0;
    await this.events.change(async (tx) => {
      const gone = await takeOff(tx, scope, kinds, at, AT_ONCE);
      removed = gone.length;
      if (removed === 0) return;
      await this.events.tell(tx, ...gone.map(({ id }) => ({ topic: 'share' as const, id })));
      await this.ledger.append(
        tx,
        ...gone.map(({ id, title }) => ({
          ...{ kind: 'share.tidied', actor: actorOf(who), shareId: id },
          detail: { title },
        })),
      );
    });
    const counts = await tidyCounts(this.db.manager, scope, at, 0);
    const left = counts.filter((c) => kinds.includes(c.kind)).reduce((sum, c) => sum + c.count, 0);
    return { removed, left };
  }
}
