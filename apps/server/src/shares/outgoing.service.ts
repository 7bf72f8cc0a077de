import { Injectable } from '@nestjs/common';
import { isOutgoingDue, OUTGOING, SYSTEM_ACTOR } from '@quay/core';
import type { AskDropPlace, DropPlace, Outgoing } from '@quay/contract';
import { DataSource, type EntityManager } from 'typeorm';
import { lockAccess } from '../access/access-lock.js';
import { HomesService } from '../access/homes.service.js';
import { AccessService } from '../access/access.service.js';
import { LedgerService } from '../ledger/ledger.service.js';
import type { Who } from '../people/who.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { Housekeeping } from '../platform/housekeeping.js';
import { Problem } from '../platform/problems/problem.js';
import { lockNodes } from '../stores/branch.queries.js';
import { freeNames } from '../stores/names.queries.js';
import { StoresService } from '../stores/stores.service.js';
import { wholeWeights } from '../stores/weights.queries.js';
import {
  keepOutgoing,
  lyingInOutgoing,
  outgoingOf,
  type OutgoingFolder,
  type OutgoingItem,
} from './outgoing.queries.js';
import { sharesHolding } from './clearing.queries.js';
import { couldBeOpened, sharesById, type ShareRecord } from './shares.queries.js';

const DAY_MS = 86_400_000;
/** Looked at in one question. */
const AT_ONCE = 500;

/**
 * Files that are dropped on the slip lie in a folder of their own in the home of whoever drops them. It holds so much,
 * and what no share has needed for some days goes from it into the trash.
 */
@Injectable()
export class OutgoingService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly events: Events,
    private readonly ledger: LedgerService,
    private readonly access: AccessService,
    private readonly homes: HomesService,
    private readonly stores: StoresService,
    housekeeping: Housekeeping,
  ) {
    housekeeping.add('what went out', () => this.clear());
  }

  /** What there is, before anything is dropped. */
  async state(who: Who): Promise<Outgoing> {
    const outgoing = await outgoingOf(this.db.manager, who.personId);
    const home = await this.homes.homeOf(this.db.manager, who.personId);
    return {
      hasHome: home !== null,
      usedBytes: outgoing ? await this.used(outgoing) : 0,
      limitBytes: outgoing?.limitBytes ?? OUTGOING.limitBytes,
      clearAfterDays: outgoing?.clearAfterDays ?? OUTGOING.clearAfterDays,
    };
  }

  /**
   * A new folder for what is about to be dropped, in a folder that is named, or in the one for what goes out.
   * @throws Problem home.none, not-found, access.*
   */
  async place(who: Who, { name, folderId }: AskDropPlace): Promise<DropPlace> {
    if (folderId !== undefined) await this.access.requireNode(who, folderId, 'add');
    const within = folderId ?? (await this.outgoing(who)).folderId;
    const [free] = await freeNames(this.db.manager, within, [name]);
    const folder = await this.stores.createFolder(who, within, { name: free ?? name, ifExists: 'refuse' });
    return { id: folder.id, name: folder.name };
  }

  private async outgoing(who: Who): Promise<OutgoingFolder> {
    return (await outgoingOf(this.db.manager, who.personId)) ?? this.begin(who);
  }

  /** A folder that was there before under that name stays an ordinary one: nothing of it is cleared away. */
  private async begin(who: Who): Promise<OutgoingFolder> {
    const home = await this.homes.homeOf(this.db.manager, who.personId);
    if (!home)
      throw new Problem('conflict', 'home.none', 'You have no home on this server. Add the files to a store instead.');
    const [name = OUTGOING.name] = await freeNames(this.db.manager, home.rootId, [OUTGOING.name]);
    const { id } = await this.stores.createFolder(who, home.rootId, { name, ifExists: 'refuse' });
    const { limitBytes, clearAfterDays } = OUTGOING;
    await keepOutgoing(this.db.manager, who.personId, { folderId: id, limitBytes, clearAfterDays });
    return { folderId: id, limitBytes, clearAfterDays };
  }

  private async used({ folderId }: OutgoingFolder): Promise<number> {
    return (await wholeWeights(this.db.manager, [folderId])).get(folderId)?.bytes ?? 0;
  }

  /** Puts into the trash what nobody has needed for as many days as its folder says. */
  async clear(): Promise<void> {
    for (let after: string | null = null; ;) {
      const lying = await this.lying(this.db.manager, { after });
      for (const { id } of await this.due(this.db.manager, lying)) await this.clearOne(id);
      if (lying.length < AT_ONCE) return;
      after = lying.at(-1)?.id ?? null;
    }
  }

  private clearOne(id: string): Promise<void> {
    return this.events.change(async (tx) => {
      await lockAccess(tx, 'shared');
      await lockNodes(tx, [id]);
      // Looked at once more: it may be in a share since, or gone.
      const [item] = await this.due(tx, await this.lying(tx, { only: id }));
      if (item) await this.ledger.append(tx, ...(await this.stores.trashIn(tx, OUTGOING_ACTOR, [item])));
    });
  }

  private lying(m: EntityManager, which: { only?: string; after?: string | null }): Promise<OutgoingItem[]> {
    const before = new Date(this.clock.now() - DAY_MS);
    return lyingInOutgoing(m, { before, only: which.only ?? null, after: which.after ?? null, limit: AT_ONCE });
  }

  private async due(m: EntityManager, lying: OutgoingItem[]): Promise<OutgoingItem[]> {
    const at = this.clock.date();
    const holding = await sharesHolding(
      m,
      lying.map((item) => item.id),
    );
    const shares = await sharesById(m, at, [...new Set(holding.map((h) => h.shareId))]);
    const ends = new Map(shares.map((share) => [share.id, endOf(share, at.getTime())]));
    return lying.filter(({ id, changedAt, clearAfterDays }) => {
      const sharesEnd = holding.filter((h) => h.nodeId === id).map((h) => ends.get(h.shareId) ?? null);
      return isOutgoingDue({ changedAt: changedAt.getTime(), sharesEnd }, clearAfterDays, at.getTime());
    });
  }
}

const OUTGOING_ACTOR = { ...SYSTEM_ACTOR, name: 'The rule of Outgoing' };

/** When a share ended; null: it could be opened still. */
function endOf(share: ShareRecord, at: number): number | null {
  if (couldBeOpened(share, at)) return null;
  const end = share.withdrawnAt ?? share.closesAt ?? share.lastVisitAt ?? share.createdAt;
  return Math.min(end.getTime(), at);
}
