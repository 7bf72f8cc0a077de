import { Injectable } from '@nestjs/common';
import { SYSTEM_ACTOR } from '@quay/core';
import type { FilesStay } from '@quay/contract';
import { DataSource, type EntityManager } from 'typeorm';
import { lockAccess } from '../access/access-lock.js';
import { lockReach } from '../access/access-reach.js';
import { AccessService } from '../access/access.service.js';
import { LedgerService, type NewEntry } from '../ledger/ledger.service.js';
import type { Who } from '../people/who.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { Housekeeping } from '../platform/housekeeping.js';
import { Jobs } from '../platform/jobs/jobs.service.js';
import { Problem } from '../platform/problems/problem.js';
import { lockNodes } from '../stores/branch.queries.js';
import { StoresService } from '../stores/stores.service.js';
import { itemsToClear, markCleared, sharesHolding, type ItemToClear } from './clearing.queries.js';
import { isClosedTo } from './rows.js';
import { couldBeOpened, sharesById } from './shares.queries.js';

/** Looked at in one question. */
const AT_ONCE = 200;

/**
 * Puts the files of shares that ask for it into the trash when they close: each with the last share that needs it, and
 * only what its publisher may remove.
 */
@Injectable()
export class ClearingService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly events: Events,
    private readonly ledger: LedgerService,
    private readonly access: AccessService,
    private readonly stores: StoresService,
    jobs: Jobs,
    housekeeping: Housekeeping,
  ) {
    jobs.define(
      'share-files',
      () => 'Put the files of shares that have closed into the trash',
      () => this.clear(),
    );
    // What another share needed until it was withdrawn or changed.
    housekeeping.add('files of shares that have closed', () => this.clear());
  }

  /** Which of these would stay when a share of them closes, because another needs them, and until when. */
  async stays(who: Who, nodeIds: string[], exceptShareId: string | null): Promise<FilesStay> {
    const seen = [...(await this.access.seen(who, nodeIds))];
    const all = (await sharesHolding(this.db.manager, seen)).filter((h) => h.shareId !== exceptShareId);
    // By something in it that they do not see they are told of no share, though the file stays for that.
    const items = await this.access.seen(who, [...new Set(all.map((h) => h.itemId))]);
    const holding = all.filter((h) => items.has(h.itemId));
    const now = this.clock.now();
    const shares = await sharesById(this.db.manager, this.clock.date(), [...new Set(holding.map((h) => h.shareId))]);
    const open = new Map(shares.filter((s) => couldBeOpened(s, now)).map((s) => [s.id, s]));
    const stay: FilesStay = {};
    for (const { nodeId, shareId } of holding) {
      const share = open.get(shareId);
      if (!share) continue;
      const title = isClosedTo(who, share) ? null : share.title;
      (stay[nodeId] ??= []).push({ title, closesAt: share.closesAt?.toISOString() ?? null });
    }
    return stay;
  }

  async clear(): Promise<void> {
    for (let after: ItemToClear | null = null; ;) {
      const items: ItemToClear[] = await itemsToClear(this.db.manager, this.clock.date(), { after, limit: AT_ONCE });
      for (const item of items) await this.clearOne(item);
      if (items.length < AT_ONCE) return;
      after = items.at(-1) ?? null;
    }
  }

  private clearOne(item: ItemToClear): Promise<void> {
    return this.events.change(async (tx) => {
      await lockAccess(tx, 'shared');
      await lockReach(tx, item.publisherId, this.clock.date());
      await lockNodes(tx, [item.nodeId]);
      // Looked at once more: the share may be open again, or the item gone.
      const [now] = await itemsToClear(tx, this.clock.date(), { only: item, limit: 1 });
      if (now) await this.clearIn(tx, now);
    });
  }

  private async clearIn(tx: EntityManager, item: ItemToClear): Promise<void> {
    if (await this.isNeeded(tx, item)) return;
    await markCleared(tx, item, this.clock.date());
    if (item.trashed) return;
    const entries: NewEntry[] = [];
    const of = { shareId: item.shareId, actor: CLEARING_ACTOR };
    if (await this.mayRemove(tx, item)) {
      const node = { id: item.nodeId, name: item.name, parentId: item.parentId };
      const [trashed] = await this.stores.trashIn(tx, CLEARING_ACTOR, [node]);
      if (trashed)
        entries.push({ ...trashed, ...of, kind: 'share.cleared', detail: { title: item.title, name: item.name } });
    } else entries.push({ ...of, kind: 'share.not-cleared', detail: { title: item.title, name: item.name } });
    await this.events.tell(tx, { topic: 'share', id: item.shareId });
    await this.ledger.append(tx, ...entries);
  }

  private async isNeeded(tx: EntityManager, { nodeId }: ItemToClear): Promise<boolean> {
    const ids = (await sharesHolding(tx, [nodeId])).map((h) => h.shareId);
    return (await sharesById(tx, this.clock.date(), ids)).some((share) => couldBeOpened(share, this.clock.now()));
  }

  private async mayRemove(tx: EntityManager, { publisherId, nodeId }: ItemToClear): Promise<boolean> {
    try {
      const publisher = { personId: publisherId };
      const nodes = await this.access.requireNodes(publisher, [nodeId], 'remove', tx);
      await this.access.requireBelow(publisher, nodes, 'remove', tx);
      return true;
    } catch (error) {
      if (error instanceof Problem) return false;
      throw error;
    }
  }
}

const CLEARING_ACTOR = { ...SYSTEM_ACTOR, name: 'The end of a share' };
