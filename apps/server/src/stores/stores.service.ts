import { Injectable } from '@nestjs/common';
import {
  type Act,
  type Actor,
  extensionOf,
  isLitter,
  utf8Bytes,
  nameKey,
  previewKind,
  levelOfActs,
  actsOfBits,
} from '@quay/core';
import {
  isId,
  PAGE_SIZE,
  type SortKey,
  type CreateFolder,
  type FolderHead,
  type FolderPage,
  type FolderQuery,
  type ItemTotal,
  type NodeInfo,
  type StoreSummary,
  type TrashAnswer,
  type TrashList,
} from '@quay/contract';
import { DataSource, IsNull, type EntityManager } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';
import { LedgerService, type NewEntry } from '../ledger/ledger.service.js';
import type { Who } from '../people/who.js';
import { Clock } from '../platform/clock.js';
import { isMoment, isPlaceText, placeText, placeValues, unknownPlace } from '../platform/cursor.js';
import { Events } from '../platform/events/events.js';
import { notFound, Problem } from '../platform/problems/problem.js';
import { lockAccess } from '../access/access-lock.js';
import { pathOf, placesOf } from '../access/access.queries.js';
import { AccessService, type ReachableNode } from '../access/access.service.js';
import { AdmissionService } from './admission.service.js';
import { BranchService } from './branch.service.js';
import { actorOf, mediaTypeOf, nameTaken, uniqueName } from './names.js';
import { Node } from './stores.entity.js';
import { extentOf, lockNodes, isWithin, totalsEach } from './branch.queries.js';
import {
  storesOf,
  countItems,
  factsOf,
  listing,
  MOST_TRASHED,
  trashOf,
  type ListingCursor,
} from './listing.queries.js';
import { freeNames, takenNames } from './names.queries.js';

@Injectable()
export class StoresService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly access: AccessService,
    private readonly ledger: LedgerService,
    private readonly events: Events,
    private readonly branches: BranchService,
    private readonly admission: AdmissionService,
  ) {}

  /** The stores somebody may see. */
  async stores(who: Who): Promise<StoreSummary[]> {
    await this.access.ensure(who);
    const rows = await storesOf(this.db.manager, who.personId);
    return rows.flatMap(({ bits, ...store }) => {
      const acts = actsOfBits(bits);
      const level = levelOfActs(acts);
      return level ? [{ ...store, level, acts }] : [];
    });
  }

  /** One page of a folder; the first bears what is to be said of the folder itself. */
  async folder(who: Who, folderId: string, query: FolderQuery): Promise<FolderPage> {
    const m = this.db.manager;
    const page = () => listing(m, who.personId, folderId, query, cursorFrom(query.after, query.sort), PAGE_SIZE);
    const [node, { items, next }] = await this.access.requireNodeBeside(who, folderId, 'see', page);
    if (node.kind !== 'folder') throw notFound('This folder');
    return {
      folder: query.after === undefined ? await this.head(who, node, query) : null,
      items,
      next: next && cursorText(next, query.sort),
    };
  }

  private async head(who: Who, node: ReachableNode, query: FolderQuery): Promise<FolderHead> {
    const m = this.db.manager;
    const [path, count] = await Promise.all([pathOf(m, who.personId, node.id), countItems(m, who.personId, node.id)]);
    return {
      id: node.id,
      storeId: node.storeId,
      storeKind: node.storeKind,
      name: node.name,
      level: node.level,
      acts: node.acts,
      own: node.own,
      path,
      itemCount: count.shown + (query.litter ? count.litter : 0),
      litterCount: count.litter,
      archivedAt: node.archivedAt?.toISOString() ?? null,
    };
  }

  /** Everything about one item that its row does not say. */
  async info(who: Who, nodeId: string): Promise<NodeInfo> {
    const node = await this.access.requireNode(who, nodeId, 'see');
    const m = this.db.manager;
    const [path, total, facts] = await Promise.all([
      pathOf(m, who.personId, nodeId),
      totalsEach(m, who.personId, [nodeId]),
      factsOf(m, nodeId, who.personId),
    ]);
    return {
      id: nodeId,
      kind: node.kind,
      name: node.name,
      path,
      sizeBytes: total[0]?.sizeBytes ?? 0,
      files: total[0]?.files ?? 0,
      preview: node.kind === 'file' ? { kind: previewKind(node.name), pages: facts.pages } : null,
      ...facts.item,
      sha256: node.acts.includes('read') ? facts.item.sha256 : null,
    };
  }

  async createFolder(
    who: Who,
    parentId: string,
    asked: CreateFolder,
  ): Promise<{ id: string; name: string; created: boolean }> {
    return this.events.change(async (tx) => {
      await lockAccess(tx, 'shared');
      const parent = await this.lockFolder(who, parentId, tx);
      const present = await tx.findOne(Node, {
        where: { parentId, nameKey: nameKey(asked.name), trashedAt: IsNull() },
      });
      const hidden = present !== null && !(await this.access.sees(who, present.id, tx));
      if (present && !hidden) {
        if (asked.ifExists === 'use' && present.kind === 'folder')
          return { id: present.id, name: present.name, created: false };
        throw nameTaken(asked.name);
      }
      const name = hidden ? ((await freeNames(tx, parentId, [asked.name]))[0] as string) : asked.name;
      await this.admission.requireDepth(tx, parentId, { levels: 1, bytes: utf8Bytes(name).length });
      const now = this.clock.date();
      const id = uuidv7();
      await tx.insert(Node, {
        id,
        storeId: parent.storeId,
        parentId,
        kind: 'folder',
        name,
        nameKey: nameKey(name),
        litter: isLitter(name),
        createdAt: now,
        changedAt: now,
        changedBy: who.personId,
      });
      await this.events.tell(tx, { topic: 'node', id: parentId });
      await this.ledger.append(tx, {
        kind: 'folder.created',
        actor: actorOf(who),
        nodeId: id,
        detail: { name },
      });
      return { id, name, created: true };
    });
  }

  async rename(who: Who, nodeId: string, wished: string): Promise<{ id: string; name: string }> {
    return this.events.change(async (tx) => {
      await lockNodes(tx, [nodeId]);
      const node = await this.access.requireNode(who, nodeId, 'change', tx);
      if (node.parentId === null)
        throw new Problem('forbidden', 'store.root', 'A store is renamed in its settings, not here.');
      if (node.name === wished) return { id: nodeId, name: wished };
      const name = await this.newName(tx, who, node, wished);
      await this.requireRenamable(tx, who, node, name);
      await uniqueName(name, () =>
        tx.update(
          Node,
          { id: nodeId },
          {
            name,
            nameKey: nameKey(name),
            litter: isLitter(name),
            // What a file is taken for goes by its name.
            ...(node.kind === 'file' && { mediaType: mediaTypeOf(name) }),
            changedAt: this.clock.date(),
            changedBy: who.personId,
          },
        ),
      );
      await this.events.tell(tx, { topic: 'node', id: node.parentId });
      await this.ledger.append(tx, {
        kind: 'node.renamed',
        actor: actorOf(who),
        nodeId,
        detail: { from: node.name, to: name },
      });
      return { id: nodeId, name };
    });
  }

  /** @throws Problem name.taken, unless it is by something that they do not see */
  private async newName(tx: EntityManager, who: Who, node: ReachableNode, wished: string): Promise<string> {
    const key = nameKey(wished);
    if (key === nameKey(node.name)) return wished;
    const seen = (await takenNames(tx, who.personId, node.parentId as string, [key])).get(key);
    if (seen) throw nameTaken(wished);
    return seen === undefined ? wished : ((await freeNames(tx, node.parentId as string, [wished]))[0] as string);
  }

  /**
   * Another kind of file is let in by the store's rule for types; a longer name must leave a path that can be opened.
   */
  private async requireRenamable(tx: EntityManager, who: Who, node: ReachableNode, name: string): Promise<void> {
    const longer = utf8Bytes(name).length - utf8Bytes(node.name).length;
    if (longer > 0) {
      const within = await extentOf(tx, [node.id]);
      const below = { levels: within.levels, bytes: within.bytes + longer };
      await this.admission.requireDepth(tx, node.parentId as string, below);
    }
    if (node.kind === 'file' && extensionOf(name) !== extensionOf(node.name))
      await this.admission.requireFits(tx, who.personId, node.storeId, [{ name, sizeBytes: 0 }], 0);
  }

  /** Moves items to the trash of their store. Shares that publish them become broken until they are put back. */
  async trash(who: Who, nodeIds: string[]): Promise<TrashAnswer> {
    return this.events.change(async (tx) => {
      await lockAccess(tx, 'shared');
      await lockNodes(tx, nodeIds);
      const nodes = (await this.access.reachable(who, nodeIds, 'remove', tx)).filter((n) => n.trashedAt === null);
      await this.access.requireBelow(who, nodes, 'remove', tx);
      if (nodes.some((n) => n.parentId === null))
        throw new Problem('forbidden', 'store.root', 'A whole store cannot go to the trash.');
      await this.ledger.append(tx, ...(await this.trashIn(tx, actorOf(who), nodes)));
      return { nodeIds: nodes.map((n) => n.id) };
    });
  }

  /** Puts items that are locked and live into the trash. @returns what is to be written down of it */
  async trashIn(
    tx: EntityManager,
    actor: Actor,
    nodes: readonly Pick<ReachableNode, 'id' | 'name' | 'parentId'>[],
  ): Promise<NewEntry[]> {
    await tx.query('UPDATE node SET trashed_at = $2, trashed_by = $3 WHERE id = ANY($1)', [
      nodes.map((n) => n.id),
      this.clock.date(),
      actor.id,
    ]);
    await this.tellParents(tx, nodes);
    return nodes.map(({ id, name }) => ({ kind: 'node.trashed', actor, nodeId: id, detail: { name } }));
  }

  /**
   * Puts items back where they were, or into another folder. Where the place is gone another must be named; a name that
   * was taken meanwhile gets a number.
   */
  async putBack(who: Who, nodeIds: string[], toFolderId?: string): Promise<TrashAnswer> {
    return this.events.change(async (tx) => {
      await lockAccess(tx, toFolderId ? 'alone' : 'shared');
      await lockNodes(tx, [...nodeIds, ...(toFolderId ? [toFolderId] : [])]);
      const nodes = (await this.access.reachable(who, nodeIds, 'remove', tx)).filter(
        (n) => n.trashedAt !== null && !n.purged,
      );
      const target = toFolderId ? await this.lockFolder(who, toFolderId, tx) : null;
      if (target) await this.requireComesBack(tx, who, nodes, target);
      const parents = new Map(
        (
          await placesOf(
            tx,
            nodes.map((n) => n.parentId as string),
          )
        ).map((p) => [p.id, p]),
      );
      for (const node of nodes) {
        const place = toFolderId ?? (node.parentId as string);
        if (!toFolderId) await this.access.reachable(who, [place], 'add', tx);
        if (!toFolderId && !parents.get(place)?.live)
          throw new Problem(
            'conflict',
            'trash.place-gone',
            `The folder that held "${node.name}" is in the trash itself, or gone. Choose where to put it.`,
            { nodeId: node.id },
          );
        if (target) await this.branches.followStore(tx, node, target.storeId);
        const [name] = (await freeNames(tx, place, [node.name])) as [string];
        await uniqueName(name, () =>
          tx.query(
            `UPDATE node SET trashed_at = NULL, trashed_by = NULL, parent_id = $4, name = $2, name_key = $3
              WHERE id = $1`,
            [node.id, name, nameKey(name), place],
          ),
        );
        await this.events.tell(tx, { topic: 'node', id: place });
      }
      for (const node of nodes)
        await this.ledger.append(tx, {
          kind: 'node.put-back',
          actor: actorOf(who),
          nodeId: node.id,
          detail: { name: node.name },
        });
      return { nodeIds: nodes.map((n) => n.id) };
    });
  }

  /** Into another folder than it came from: never into itself, and only what that folder's store takes. */
  private async requireComesBack(
    tx: EntityManager,
    who: Who,
    nodes: ReachableNode[],
    target: { id: string; storeId: string },
  ): Promise<void> {
    if (
      await isWithin(
        tx,
        target.id,
        nodes.map((n) => n.id),
      )
    )
      throw new Problem('conflict', 'move.into-itself', 'A folder cannot go into itself or into a folder inside it.');
    await this.branches.requireFits(tx, who, nodes, target, false);
  }

  /** What lies in the trash of a store, as far as somebody may take it out again. */
  async trashList(who: Who, storeId: string): Promise<TrashList> {
    await this.access.requireSomewhere(who, storeId, 'remove');
    const items = await trashOf(this.db.manager, who.personId, storeId);
    return { items: items.slice(0, MOST_TRASHED), more: items.length > MOST_TRASHED };
  }

  /** Files and bytes of each item, with all that is in it. */
  async sizes(who: Who, nodeIds: string[]): Promise<ItemTotal[]> {
    await this.access.reachable(who, nodeIds, 'see');
    return totalsEach(this.db.manager, who.personId, nodeIds);
  }

  /** A live folder that somebody may add to, held until the transaction ends so that it cannot be trashed meanwhile. */
  async lockFolder(
    who: Who,
    folderId: string,
    tx: EntityManager,
    act: Act = 'add',
  ): Promise<{ id: string; storeId: string; name: string }> {
    await lockNodes(tx, [folderId]);
    const folder = await this.access.requireNode(who, folderId, act, tx);
    if (folder.kind !== 'folder') throw notFound('This folder');
    return folder;
  }

  private async tellParents(tx: EntityManager, nodes: readonly { parentId: string | null }[]): Promise<void> {
    for (const id of new Set(nodes.map((n) => n.parentId as string))) await this.events.tell(tx, { topic: 'node', id });
  }
}

const cursorText = (cursor: ListingCursor, sort: SortKey): string =>
  placeText([cursor.group, cursor.keys, cursor.id, sort]);

/** What stands for a place in each order: names and types as they are, sizes as digits, moments. */
const isSize = (text: string): boolean => /^\d{1,18}$/.test(text);
const isAny = (): boolean => true;
const KEYS: Record<SortKey, Record<'folders' | 'files', ((text: string) => boolean)[]>> = {
  name: { folders: [isAny], files: [isAny] },
  size: { folders: [isAny], files: [isSize] },
  changed: { folders: [isMoment], files: [isMoment] },
  type: { folders: [isAny], files: [isAny, isAny] },
};

function cursorFrom(text: string | undefined, sort: SortKey): ListingCursor | null {
  if (text === undefined) return null;
  const [group, keys, id, of] = placeValues(text);
  const known = group === 0 || group === 1 ? KEYS[sort][group === 0 ? 'folders' : 'files'] : [];
  const fits =
    Array.isArray(keys) &&
    known.length > 0 &&
    keys.length === known.length &&
    keys.every((key, i) => isPlaceText(key) && known[i]?.(key));
  if (!fits || of !== sort || !isId(id)) throw unknownPlace();
  return { group: group as 0 | 1, keys: keys as string[], id };
}
