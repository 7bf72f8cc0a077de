import { Injectable } from '@nestjs/common';
import {
  bringsFiles,
  formatSize,
  UPLOADS_OPEN_PER_VISIT,
  UPLOADS_PER_MINUTE,
  visitorActs,
  VISIT_LIFETIME_SECONDS,
  type Act,
  type Actor,
} from '@quay/core';
import type { UploadAnswer } from '@quay/contract';
import { DataSource, type EntityManager } from 'typeorm';
import { lockAccess } from '../access/access-lock.js';
import { AccessService } from '../access/access.service.js';
import type { Bringer, FolderAdmission } from '../access/folder-admission.js';
import { LedgerService, type NewEntry } from '../ledger/ledger.service.js';
import { NoticesService } from '../people/notices.service.js';
import { Attempts } from '../platform/attempts.js';
import { sourceOf } from '../platform/client-address.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { notFound, Problem } from '../platform/problems/problem.js';
import { secretHash } from '../platform/seal.js';
import type { ShareRecord } from '../shares/shares.queries.js';
import { lockNodes } from '../stores/branch.queries.js';
import { StoresService } from '../stores/stores.service.js';
import { actorOfVisit, beginBringing, holdShare, liveInShare, noteBrought, onTheirWay } from './bringing.queries.js';
import { unsettles, VisitsService, type Inside, type Visitor } from './visits.service.js';

/**
 * Visitors who bring files into a share: what they may is asked of the share, of their visit and of its publisher each
 * time anew, and counts against its publisher's quota.
 */
@Injectable()
export class BringingService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly access: AccessService,
    private readonly events: Events,
    private readonly ledger: LedgerService,
    private readonly notices: NoticesService,
    private readonly attempts: Attempts,
    private readonly stores: StoresService,
    private readonly visits: VisitsService,
  ) {}

  /** A visitor as somebody who brings something. @throws Problem share.* where this browser has no visit */
  async bringer(visitor: Visitor): Promise<Bringer> {
    const inside = await this.visits.inside(visitor);
    const actor = await this.actorOf(visitor, inside);
    const { share } = inside;
    return {
      actor,
      chargedTo: share.createdBy,
      shareId: share.id,
      admit: (folderId, tx, how) => this.admit(visitor, actor, folderId, { tx, trashedToo: how?.trashedToo ?? false }),
      admitReplacing: (nodeId, tx) => this.admitReplacing(visitor, actor, nodeId, tx),
      sees: (nodeId, tx) => this.may(visitor, actor, nodeId, 'see', tx),
      requireChange: async (nodeId, tx) => {
        if (!(await this.may(visitor, actor, nodeId, 'change', tx)))
          throw new Problem(
            'forbidden',
            'share.not-yours-to-replace',
            'Somebody else brought the file of that name. Keep both, or choose another name.',
          );
      },
      wakes: (event) => unsettles(share, event),
      writes: (tx, kept) => this.writes(tx, inside, kept),
    };
  }

  /** Before the first byte of an upload: how many there may be, and whether it fits into what the share takes. */
  async requireRoom(visitor: Visitor, { actor }: Bringer, sizeBytes: number): Promise<void> {
    const { share } = await this.visits.inside(visitor);
    await this.attempts.take(`bring from ${sourceOf(visitor.fromAddress)}`, UPLOADS_PER_MINUTE);
    const { bytes, uploads } = await onTheirWay(this.db.manager, share.id, actor.id);
    if (uploads >= UPLOADS_OPEN_PER_VISIT)
      throw new Problem(
        'too-many',
        'share.too-many-uploads',
        `${UPLOADS_OPEN_PER_VISIT} files are on their way already. Let some of them arrive first.`,
      );
    if (share.broughtBytes + bytes + sizeBytes > share.may.takesBytes) throw takesNoMore(share);
  }

  /** Puts a file into the trash that this visitor brought, as long as nobody has put another version on it. */
  async takeBack(visitor: Visitor, nodeId: string): Promise<void> {
    const actor = await this.actorOf(visitor, await this.visits.inside(visitor));
    await this.events.change(async (tx) => {
      await lockAccess(tx, 'shared');
      await lockNodes(tx, [nodeId]);
      const { share } = await this.visits.insideIn(tx, visitor);
      const place = await liveInShare(tx, share.id, nodeId);
      if (place?.kind !== 'file' || place.broughtBy !== actor.id || !bringsFiles(share.may))
        throw notFound('This file');
      const node = await this.access.requireNode({ personId: share.createdBy }, nodeId, 'remove', tx);
      const [trashed] = await this.stores.trashIn(tx, actor, [node]);
      await this.events.tell(tx, { topic: 'share', id: share.id });
      if (trashed)
        await this.ledger.append(tx, {
          ...trashed,
          kind: 'share.taken-back',
          shareId: share.id,
          detail: { title: share.title, name: node.name },
        });
    });
  }

  private async admit(
    visitor: Visitor,
    actor: Bringer['actor'],
    folderId: string,
    { tx, trashedToo }: { tx: EntityManager | undefined; trashedToo: boolean },
  ): Promise<FolderAdmission> {
    const { share, visit } = tx ? await this.visits.insideIn(tx, visitor) : await this.visits.inside(visitor);
    const m = tx ?? this.db.manager;
    if (!bringsFiles(share.may))
      throw new Problem('forbidden', 'share.takes-nothing', 'Files cannot be brought into this share any more.');
    const publisher = { personId: share.createdBy };
    const [folder] = trashedToo
      ? await this.access.reachable(publisher, [folderId], 'add', m)
      : await this.access.requireNodes(publisher, [folderId], 'add', m);
    const place = await liveInShare(m, share.id, folderId);
    // An upload that goes on may end in a folder that lies in the trash for a moment; it is recorded in none.
    if (folder?.kind !== 'folder' || (!place && !(trashedToo && folder.trashedAt !== null)))
      throw notFound('This folder');
    const { all, own } = visitorActs(share.may);
    const validUntil = endOf(share, visit, folder.until);
    const { id, storeId, name: folderName } = folder;
    return { folderId: id, storeId, folderName, actor, chargedTo: share.createdBy, acts: all, own, validUntil };
  }

  /** One file that may get another version, also where nothing else of its folder is shared. */
  private async admitReplacing(
    visitor: Visitor,
    actor: Bringer['actor'],
    nodeId: string,
    tx: EntityManager | undefined,
  ): Promise<FolderAdmission> {
    const { share, visit } = tx ? await this.visits.insideIn(tx, visitor) : await this.visits.inside(visitor);
    const m = tx ?? this.db.manager;
    const { all, own } = visitorActs(share.may);
    const place = await liveInShare(m, share.id, nodeId);
    const isTheirs = place?.broughtBy === actor.id && own.includes('change');
    if (place?.kind !== 'file' || !(all.includes('change') || isTheirs)) throw notFound('This file');
    const file = await this.access.requireNode({ personId: share.createdBy }, nodeId, 'change', m);
    const { parentId, storeId, until } = file;
    if (parentId === null) throw notFound('This file');
    return {
      ...{ folderId: parentId, storeId, folderName: share.title },
      ...{ actor, chargedTo: share.createdBy, acts: all, own },
      validUntil: endOf(share, visit, until),
    };
  }

  /** Whether they may do this with something, by the share and by what its publisher may. */
  private async may(
    visitor: Visitor,
    actor: Bringer['actor'],
    nodeId: string,
    act: Act,
    tx: EntityManager,
  ): Promise<boolean> {
    const { share } = await this.visits.insideIn(tx, visitor);
    const place = await liveInShare(tx, share.id, nodeId);
    if (!place) return false;
    const { all, own } = visitorActs(share.may);
    if (!all.includes(act) && !(place.broughtBy === actor.id && own.includes(act))) return false;
    const needed = act === 'see' ? 'publish' : act;
    return this.access.requireNodes({ personId: share.createdBy }, [nodeId], needed, tx).then(
      () => true,
      (error: unknown) => {
        if (error instanceof Problem) return false;
        throw error;
      },
    );
  }

  private async writes(
    tx: EntityManager,
    { share, visit }: Inside,
    kept: UploadAnswer,
  ): Promise<Pick<NewEntry, 'kind' | 'shareId' | 'detail'>> {
    const at = this.clock.date();
    const { id: nodeId, sizeBytes } = kept;
    if (!(await noteBrought(tx, { shareId: share.id, nodeId, visitId: visit.id, sizeBytes, at })))
      throw takesNoMore(share);
    if (await beginBringing(tx, visit.id, at))
      await this.notices.give(tx, 'share-brought', share.createdBy, {
        subject: 'Something was brought into a share of yours',
        text: `Somebody has brought ${kept.name} into ${share.title}. Who it was, and what else they bring, stands in Shares.`,
      });
    await this.events.tell(tx, { topic: 'share', id: share.id });
    const kind = kept.version > 1 ? 'share.replaced' : 'share.brought';
    return { kind, shareId: share.id, detail: { title: share.title } };
  }

  private async actorOf({ fromAddress, token }: Visitor, { share, visit }: Inside): Promise<Bringer['actor']> {
    const name = visit.who ?? `Visitor from ${fromAddress}`;
    const { id: visitId, recipient, personId, actorId, isGuest } = visit;
    const id =
      actorId ??
      (await this.db.transaction(async (tx) => {
        // Two visits of one address at once are one and the same, too.
        await holdShare(tx, secretHash(token.slice(0, 200)));
        return actorOfVisit(tx, { id: visitId, shareId: share.id, recipient, personId, name });
      }));
    const kind: Actor['kind'] = personId === null ? 'visitor' : isGuest ? 'guest' : 'person';
    return { kind, id, name };
  }
}

/** When by itself nothing can be brought any more. */
function endOf(share: ShareRecord, visit: Inside['visit'], until: Date | null): Date | null {
  const ends = [share.closesAt, until, new Date(visit.beganAt.getTime() + VISIT_LIFETIME_SECONDS * 1000)];
  return ends.reduce((first, end) => (end && (!first || end < first) ? end : first), null);
}

const takesNoMore = ({ may, broughtBytes, creatorName }: ShareRecord): Problem =>
  new Problem(
    'no-space',
    'share.full',
    `This share takes ${formatSize(may.takesBytes)} in all, and ${formatSize(broughtBytes)} have come. Ask ${creatorName} to let it take more.`,
  );
