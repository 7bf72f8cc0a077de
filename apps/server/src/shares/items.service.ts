import { Injectable } from '@nestjs/common';
import { someNames } from '@quay/core';
import { MOST_ITEMS, type ChangeItems } from '@quay/contract';
import type { EntityManager } from 'typeorm';
import { lockAccess } from '../access/access-lock.js';
import { lockReach } from '../access/access-reach.js';
import { lockWayUp } from '../access/access.queries.js';
import { AccessService } from '../access/access.service.js';
import type { NewEntry } from '../ledger/ledger.service.js';
import type { Who } from '../people/who.js';
import { Clock } from '../platform/clock.js';
import { invalidField, Problem } from '../platform/problems/problem.js';
import { MOST_CONTENTS } from '../stores/branch.queries.js';
import { actorOf } from '../stores/names.js';
import { freeze, frozenWithin } from './frozen.queries.js';
import { ShareItem } from './shares.entity.js';
import { itemNames, takeItemsOff, type ShareRecord } from './shares.queries.js';

/** What is put on a share: as it is at the time, and as it is now. */
export interface PutOn {
  live: string[];
  frozen: string[];
}

/** The fields of a request in which they are named. */
interface Fields {
  live: string;
  frozen: string;
}
export const AT_PUBLISHING: Fields = { live: 'nodeIds', frozen: 'frozenIds' };
const AT_CHANGING: Fields = { live: 'items.add', frozen: 'items.addFrozen' };

/** What is in a share. Everything here happens within the transaction of whoever calls. */
@Injectable()
export class ShareItemsService {
  constructor(
    private readonly clock: Clock,
    private readonly access: AccessService,
  ) {}

  /** Has what is about to be put on a share stay where it is, and its publisher's access as it is. The first statement. */
  async lock(tx: EntityManager, who: Who, { live, frozen }: PutOn): Promise<void> {
    await lockAccess(tx, 'shared');
    await lockReach(tx, who.personId, this.clock.date());
    await lockWayUp(tx, [...live, ...frozen]);
  }

  /** Puts items on a share of whoever asks, behind those that are there. @throws Problem item.*, share.too-many-items */
  async putIn(tx: EntityManager, who: Who, shareId: string, asked: PutOn, fields = AT_PUBLISHING): Promise<void> {
    const { live, frozen } = withoutTwice(asked);
    await this.requirePublishable(tx, who, live, fields.live);
    await this.requirePublishable(tx, who, frozen, fields.frozen);
    const there = await tx.countBy(ShareItem, { shareId });
    if (there + live.length + frozen.length > MOST_ITEMS)
      throw invalidField(
        live.length > 0 ? fields.live : fields.frozen,
        'share.too-many-items',
        `A share has at most ${MOST_ITEMS} items. Share the folder that they lie in, or make two shares.`,
      );
    if (live.length + frozen.length === 0) return;
    await tx.insert(
      ShareItem,
      [...live, ...frozen].map((nodeId, n) => ({ shareId, nodeId, position: there + n })),
    );
    if (frozen.length > 0) await this.freezeIn(tx, who, shareId, { itemIds: frozen, field: fields.frozen });
    await this.requireApart(tx, shareId, frozen.length > 0 ? fields.frozen : fields.live);
  }

  /**
   * Changes what is in a share that is out. Whoever looks after it may take items off; only whose it is puts some on,
   * because what it serves is what its publisher may publish.
   * @returns what is to be written down of it; null: nothing was changed
   */
  async changeIn(tx: EntityManager, who: Who, share: ShareRecord, asked: ChangeItems): Promise<NewEntry | null> {
    const off = share.itemIds.filter((id) => asked.takeOff.includes(id));
    const isNew = (id: string) => !share.itemIds.includes(id) || off.includes(id);
    const added = withoutTwice({ live: asked.add.filter(isNew), frozen: asked.addFrozen.filter(isNew) });
    const addedIds = [...added.live, ...added.frozen];
    if (addedIds.length === 0 && off.length === 0) return null;
    if (addedIds.length > 0 && share.createdBy !== who.personId)
      throw new Problem(
        'forbidden',
        'share.not-yours',
        `Only ${share.creatorName}, who published it, adds to this share. You can take items off.`,
      );
    const names = await itemNames(tx, [...addedIds, ...off]);
    await takeItemsOff(tx, share.id, off);
    await this.putIn(tx, who, share.id, added, AT_CHANGING);
    const said = (ids: readonly string[]) => someNames(ids.map((id) => names.get(id) ?? ''));
    const detail = { added: said(added.live), frozen: said(added.frozen), takenOff: said(off) };
    return { kind: 'share.items', actor: actorOf(who), shareId: share.id, detail: { title: share.title, ...detail } };
  }

  private async freezeIn(
    tx: EntityManager,
    { personId }: Who,
    shareId: string,
    { itemIds, field }: { itemIds: string[]; field: string },
  ): Promise<void> {
    const count = await freeze(tx, { shareId, itemIds, personId, at: this.clock.date() });
    if (count > MOST_CONTENTS)
      throw invalidField(
        field,
        'share.too-much-frozen',
        `At most ${MOST_CONTENTS.toLocaleString('en-GB')} files and folders are frozen at once. Leave some live.`,
      );
  }

  private async requireApart(tx: EntityManager, shareId: string, field: string): Promise<void> {
    const pair = await frozenWithin(tx, shareId);
    if (pair)
      throw invalidField(
        field,
        'item.within-frozen',
        `"${pair.inner}" lies in "${pair.outer}", and one of them is frozen. Take one of the two off.`,
      );
  }

  private async requirePublishable(tx: EntityManager, who: Who, nodeIds: string[], field: string): Promise<void> {
    if (nodeIds.length === 0) return;
    const nodes = await this.access.requireNodes(who, nodeIds, 'publish', tx);
    const [litter] = await tx.query<{ name: string }[]>('SELECT name FROM node WHERE id = ANY($1) AND litter LIMIT 1', [
      nodeIds,
    ]);
    if (litter)
      throw invalidField(
        field,
        'item.litter',
        `"${litter.name}" is something a desktop system left behind, and is never published.`,
      );
    if (nodes.some((n) => n.parentId === null))
      throw invalidField(field, 'item.whole-store', 'A whole store is not published; choose folders in it.');
  }
}

/** What is named as both is frozen. */
const withoutTwice = ({ live, frozen }: PutOn): PutOn => ({ live: live.filter((id) => !frozen.includes(id)), frozen });
