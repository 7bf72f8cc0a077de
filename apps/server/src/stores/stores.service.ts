import { Injectable } from '@nestjs/common';
import { isLitter, nameKey, previewKind, storeLevel } from '@quay/core';
import {
  PAGE_SIZE,
  type CreateFolder,
  type FolderHead,
  type FolderPage,
  type FolderQuery,
  type ItemTotal,
  type NodeInfo,
  type StoreSummary,
  type TrashAnswer,
  type TrashItem,
} from '@quay/contract';
import { DataSource, IsNull, type EntityManager } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';
import { LedgerService } from '../ledger/ledger.service.js';
import type { Who } from '../people/who.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { invalidField, notFound, Problem } from '../platform/problems/problem.js';
import { AccessService, type ReachableNode } from './access.service.js';
import { BranchService } from './branch.service.js';
import { actorOf, nameTaken, uniqueName } from './names.js';
import { Node } from './stores.entity.js';
import {
  allStores,
  countItems,
  factsOf,
  freeNames,
  listing,
  pathOf,
  placesOf,
  takenKeys,
  totalsEach,
  trashOf,
  type ListingCursor,
} from './stores.queries.js';

@Injectable()
export class StoresService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly access: AccessService,
    private readonly ledger: LedgerService,
    private readonly events: Events,
    private readonly branches: BranchService,
  ) {}

  /** The stores somebody may see. */
  async stores(who: Who): Promise<StoreSummary[]> {
    const rows = await allStores(this.db.manager);
    return rows.flatMap(({ grants, ownerId, ...store }) => {
      const level = storeLevel(who, { kind: store.kind, ownerId }, grants);
      return level ? [{ ...store, level }] : [];
    });
  }

  /** One page of a folder; the first bears what is to be said of the folder itself. */
  async folder(who: Who, folderId: string, query: FolderQuery): Promise<FolderPage> {
    const m = this.db.manager;
    // Asked for beside the question whether it may be seen; whoever may not gets nothing of it.
    const [node, { items, next }] = await Promise.all([
      this.access.requireNode(who, folderId, 'view'),
      listing(m, who.personId, folderId, query, cursorFrom(query.after), PAGE_SIZE),
    ]);
    if (node.kind !== 'folder') throw notFound('This folder');
    return {
      folder: query.after === undefined ? await this.head(m, node, query) : null,
      items,
      next: next && cursorText(next),
    };
  }

  private async head(m: EntityManager, node: ReachableNode, query: FolderQuery): Promise<FolderHead> {
    const [path, count] = await Promise.all([pathOf(m, node.id), countItems(m, node.id)]);
    return {
      id: node.id,
      storeId: node.storeId,
      storeKind: node.storeKind,
      name: node.name,
      level: node.level,
      path,
      itemCount: count.shown + (query.litter ? count.litter : 0),
      litterCount: count.litter,
    };
  }

  /** Everything about one item that its row does not say. */
  async info(who: Who, nodeId: string): Promise<NodeInfo> {
    const node = await this.access.requireNode(who, nodeId, 'view');
    const m = this.db.manager;
    const [path, total, facts] = await Promise.all([
      pathOf(m, nodeId),
      totalsEach(m, [nodeId]),
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
    };
  }

  async createFolder(
    who: Who,
    parentId: string,
    asked: CreateFolder,
  ): Promise<{ id: string; name: string; created: boolean }> {
    return this.events.change(async (tx) => {
      const parent = await this.lockFolder(who, parentId, tx);
      const present = await tx.findOne(Node, {
        where: { parentId, nameKey: nameKey(asked.name), trashedAt: IsNull() },
      });
      if (present) {
        if (asked.ifExists === 'use' && present.kind === 'folder')
          return { id: present.id, name: present.name, created: false };
        throw nameTaken(asked.name);
      }
      const now = this.clock.date();
      const id = uuidv7();
      await tx.insert(Node, {
        id,
        storeId: parent.storeId,
        parentId,
        kind: 'folder',
        name: asked.name,
        nameKey: nameKey(asked.name),
        litter: isLitter(asked.name),
        createdAt: now,
        changedAt: now,
        changedBy: who.personId,
      });
      await this.events.tell(tx, { topic: 'node', id: parentId });
      await this.ledger.append(tx, {
        kind: 'folder.created',
        actor: actorOf(who),
        nodeId: id,
        detail: { name: asked.name },
      });
      return { id, name: asked.name, created: true };
    });
  }

  async rename(who: Who, nodeId: string, name: string): Promise<{ id: string; name: string }> {
    return this.events.change(async (tx) => {
      await tx.query('SELECT 1 FROM node WHERE id = $1 FOR UPDATE', [nodeId]);
      const node = await this.access.requireNode(who, nodeId, 'edit', tx);
      if (node.parentId === null)
        throw new Problem('forbidden', 'store.root', 'A store is renamed in its settings, not here.');
      if (node.name === name) return { id: nodeId, name };
      const key = nameKey(name);
      if (key !== nameKey(node.name) && (await takenKeys(tx, node.parentId, [key])).size > 0) throw nameTaken(name);
      await uniqueName(name, () =>
        tx.update(
          Node,
          { id: nodeId },
          { name, nameKey: key, litter: isLitter(name), changedAt: this.clock.date(), changedBy: who.personId },
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

  /** Moves items to the trash of their store. Shares that publish them become broken until they are put back. */
  async trash(who: Who, nodeIds: string[]): Promise<TrashAnswer> {
    return this.events.change(async (tx) => {
      await tx.query('SELECT 1 FROM node WHERE id = ANY($1) ORDER BY id FOR UPDATE', [nodeIds]);
      const nodes = (await this.access.reachable(who, nodeIds, 'edit', tx)).filter((n) => n.trashedAt === null);
      if (nodes.some((n) => n.parentId === null))
        throw new Problem('forbidden', 'store.root', 'A whole store cannot go to the trash.');
      const ids = nodes.map((n) => n.id);
      await tx.query('UPDATE node SET trashed_at = $2, trashed_by = $3 WHERE id = ANY($1)', [
        ids,
        this.clock.date(),
        who.personId,
      ]);
      await this.tellParents(tx, nodes);
      for (const node of nodes)
        await this.ledger.append(tx, {
          kind: 'node.trashed',
          actor: actorOf(who),
          nodeId: node.id,
          detail: { name: node.name },
        });
      return { nodeIds: ids };
    });
  }

  /**
   * Puts items back where they were, or into another folder. Where the place is gone another must be named; a name that
   * was taken meanwhile gets a number.
   */
  async putBack(who: Who, nodeIds: string[], toFolderId?: string): Promise<TrashAnswer> {
    return this.events.change(async (tx) => {
      await tx.query('SELECT 1 FROM node WHERE id = ANY($1) ORDER BY id FOR UPDATE', [
        [...nodeIds, ...(toFolderId ? [toFolderId] : [])],
      ]);
      const nodes = (await this.access.reachable(who, nodeIds, 'edit', tx)).filter(
        (n) => n.trashedAt !== null && !n.purged,
      );
      const target = toFolderId ? await this.lockFolder(who, toFolderId, tx) : null;
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
            'UPDATE node SET trashed_at = NULL, trashed_by = NULL, parent_id = $4, name = $2, name_key = $3 WHERE id = $1',
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

  async trashList(who: Who, storeId: string): Promise<TrashItem[]> {
    await this.access.requireStore(who, storeId, 'edit');
    return trashOf(this.db.manager, storeId);
  }

  /** Files and bytes of each item, with all that is in it. */
  async sizes(who: Who, nodeIds: string[]): Promise<ItemTotal[]> {
    await this.access.reachable(who, nodeIds, 'view');
    return totalsEach(this.db.manager, nodeIds);
  }

  /** A live folder that somebody may add to, held until the transaction ends so that it cannot be trashed meanwhile. */
  async lockFolder(
    who: Who,
    folderId: string,
    tx: EntityManager,
  ): Promise<{ id: string; storeId: string; name: string }> {
    await tx.query('SELECT 1 FROM node WHERE id = $1 FOR UPDATE', [folderId]);
    const folder = await this.access.requireNode(who, folderId, 'contribute', tx);
    if (folder.kind !== 'folder') throw notFound('This folder');
    return folder;
  }

  private async tellParents(tx: EntityManager, nodes: { parentId: string | null }[]): Promise<void> {
    for (const id of new Set(nodes.map((n) => n.parentId as string))) await this.events.tell(tx, { topic: 'node', id });
  }
}

function cursorText(cursor: ListingCursor): string {
  return Buffer.from(JSON.stringify([cursor.group, cursor.keys, cursor.id])).toString('base64url');
}

function cursorFrom(text: string | undefined): ListingCursor | null {
  if (text === undefined) return null;
  try {
    const [group, keys, id] = JSON.parse(Buffer.from(text, 'base64url').toString('utf8')) as [
      unknown,
      unknown,
      unknown,
    ];
    const plain =
      Array.isArray(keys) &&
      keys.length > 0 &&
      keys.length <= 2 &&
      keys.every((k) => typeof k === 'string' || typeof k === 'number');
    if ((group === 0 || group === 1) && plain && typeof id === 'string' && /^[0-9a-f-]{36}$/.test(id))
      return { group, keys: keys as (string | number)[], id };
  } catch {
    // falls through to the refusal
  }
  throw invalidField('after', 'after.invalid', 'This place in the list is not known. Start from the top.');
}
