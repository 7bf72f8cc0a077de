import { Injectable } from '@nestjs/common';
import { isLitter, nameFault, nameKey, normalizeName, storeLevel, type LedgerBody } from '@quay/core';
import { PAGE_SIZE, type CreateFolder, type FolderPage, type ItemTotal, type NodeItem, type StoreSummary, type TrashAnswer, type TrashItem } from '@quay/contract';
import { DataSource, IsNull, type EntityManager } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';
import { LedgerService } from '../ledger/ledger.service.js';
import type { Who } from '../people/who.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { invalidField, notFound, Problem } from '../platform/problems/problem.js';
import { AccessService } from './access.service.js';
import { Node } from './stores.entity.js';
import { allStores, listing, pathOf, placesOf, takenKeys, totals, totalsEach, trashOf, type ListingCursor } from './stores.queries.js';

export const actorOf = (who: Who): LedgerBody['actor'] => ({ kind: 'person', id: who.personId, name: who.name });

@Injectable()
export class StoresService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly access: AccessService,
    private readonly ledger: LedgerService,
    private readonly events: Events,
  ) {}

  /** The stores somebody may see. */
  async stores(who: Who): Promise<StoreSummary[]> {
    const rows = await allStores(this.db.manager);
    return rows.flatMap(({ grants, ownerId, ...store }) => {
      const level = storeLevel(who, { kind: store.kind, ownerId }, grants);
      return level ? [{ ...store, level }] : [];
    });
  }

  async folder(who: Who, folderId: string, query: { after?: string; litter?: boolean }): Promise<FolderPage> {
    const node = await this.access.requireNode(who, folderId, 'view');
    if (node.kind !== 'folder') throw notFound('This folder');
    const m = this.db.manager;
    const [rows, path, total] = await Promise.all([listing(m, folderId, cursorFrom(query.after), query.litter ?? false), pathOf(m, folderId), totals(m, [folderId])]);
    const page = rows.slice(0, PAGE_SIZE);
    const last = rows.length > PAGE_SIZE ? page.at(-1) : undefined;
    const [count] = await m.query<{ n: string }[]>('SELECT count(*) AS n FROM node WHERE parent_id = $1 AND trashed_at IS NULL AND ($2 OR NOT litter)', [folderId, query.litter ?? false]);
    return {
      folder: { id: node.id, storeId: node.storeId, storeKind: node.storeKind, name: node.name, level: node.level, path, itemCount: Number(count?.n ?? 0), totalBytes: total.sizeBytes },
      items: page.map(({ nameKey: _key, sortKind: _kind, ...item }) => item),
      next: last ? cursorText({ sortKind: last.sortKind, nameKey: last.nameKey, id: last.id }) : null,
    };
  }

  /** One item as a row, for links straight to a file. */
  async item(who: Who, nodeId: string): Promise<Pick<NodeItem, 'id' | 'name' | 'kind'> & { parentId: string | null }> {
    const node = await this.access.requireNode(who, nodeId, 'view');
    return { id: node.id, name: node.name, kind: node.kind, parentId: node.parentId };
  }

  async createFolder(who: Who, parentId: string, asked: CreateFolder): Promise<{ id: string; name: string; created: boolean }> {
    return this.events.change(async (tx) => {
      const parent = await this.lockFolder(who, parentId, tx);
      const present = await tx.findOne(Node, { where: { parentId, nameKey: nameKey(asked.name), trashedAt: IsNull() } });
      if (present) {
        if (asked.ifExists === 'use' && present.kind === 'folder') return { id: present.id, name: present.name, created: false };
        throw nameTaken(asked.name);
      }
      const now = this.clock.date();
      const id = uuidv7();
      await tx.insert(Node, { id, storeId: parent.storeId, parentId, kind: 'folder', name: asked.name, nameKey: nameKey(asked.name), litter: isLitter(asked.name), createdAt: now, changedAt: now, changedBy: who.personId });
      await this.events.tell(tx, { topic: 'node', id: parentId });
      await this.ledger.append(tx, { kind: 'folder.created', actor: actorOf(who), nodeId: id, detail: { name: asked.name } });
      return { id, name: asked.name, created: true };
    });
  }

  async rename(who: Who, nodeId: string, name: string): Promise<{ id: string; name: string }> {
    return this.events.change(async (tx) => {
      await tx.query('SELECT 1 FROM node WHERE id = $1 FOR UPDATE', [nodeId]);
      const node = await this.access.requireNode(who, nodeId, 'edit', tx);
      if (node.parentId === null) throw new Problem('forbidden', 'store.root', 'A store is renamed in its settings, not here.');
      if (node.name === name) return { id: nodeId, name };
      const key = nameKey(name);
      if (key !== nameKey(node.name) && (await takenKeys(tx, node.parentId, [key])).size > 0) throw nameTaken(name);
      await uniqueName(name, () => tx.update(Node, { id: nodeId }, { name, nameKey: key, litter: isLitter(name), changedAt: this.clock.date(), changedBy: who.personId }));
      await this.events.tell(tx, { topic: 'node', id: node.parentId });
      await this.ledger.append(tx, { kind: 'node.renamed', actor: actorOf(who), nodeId, detail: { from: node.name, to: name } });
      return { id: nodeId, name };
    });
  }

  /** Moves items to the trash of their store. Shares that publish them become broken until they are put back. */
  async trash(who: Who, nodeIds: string[]): Promise<TrashAnswer> {
    return this.events.change(async (tx) => {
      await tx.query('SELECT 1 FROM node WHERE id = ANY($1) ORDER BY id FOR UPDATE', [nodeIds]);
      const nodes = (await this.access.reachable(who, nodeIds, 'edit', tx)).filter((n) => n.trashedAt === null);
      if (nodes.some((n) => n.parentId === null)) throw new Problem('forbidden', 'store.root', 'A whole store cannot go to the trash.');
      const ids = nodes.map((n) => n.id);
      await tx.query('UPDATE node SET trashed_at = $2, trashed_by = $3 WHERE id = ANY($1)', [ids, this.clock.date(), who.personId]);
      await this.tellParents(tx, nodes);
      for (const node of nodes) await this.ledger.append(tx, { kind: 'node.trashed', actor: actorOf(who), nodeId: node.id, detail: { name: node.name } });
      return { nodeIds: ids };
    });
  }

  /** Puts items back where they were. Refused when the place is gone or the name is taken meanwhile. */
  async putBack(who: Who, nodeIds: string[]): Promise<TrashAnswer> {
    return this.events.change(async (tx) => {
      await tx.query('SELECT 1 FROM node WHERE id = ANY($1) ORDER BY id FOR UPDATE', [nodeIds]);
      const nodes = (await this.access.reachable(who, nodeIds, 'edit', tx)).filter((n) => n.trashedAt !== null);
      const parents = new Map((await placesOf(tx, nodes.map((n) => n.parentId as string))).map((p) => [p.id, p]));
      for (const node of nodes) {
        if (!parents.get(node.parentId as string)?.live) throw new Problem('conflict', 'trash.place-gone', `The folder that held "${node.name}" is in the trash itself. Put that back first.`);
        await uniqueName(node.name, () => tx.query('UPDATE node SET trashed_at = NULL, trashed_by = NULL WHERE id = $1', [node.id]));
      }
      await this.tellParents(tx, nodes);
      for (const node of nodes) await this.ledger.append(tx, { kind: 'node.put-back', actor: actorOf(who), nodeId: node.id, detail: { name: node.name } });
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

  /** What is wrong with names before bytes move: the faults, and those that are taken in the folder. */
  async checkNames(who: Who, folderId: string, names: string[]): Promise<{ name: string; code: string }[]> {
    await this.access.requireNode(who, folderId, 'contribute');
    const taken = await takenKeys(this.db.manager, folderId, names.map((n) => nameKey(n)));
    return names.flatMap((name) => {
      const code = nameFault(normalizeName(name)) ?? (taken.has(nameKey(name)) ? 'name.taken' : null);
      return code ? [{ name, code }] : [];
    });
  }

  /** A live folder that somebody may add to, held until the transaction ends so that it cannot be trashed meanwhile. */
  async lockFolder(who: Who, folderId: string, tx: EntityManager): Promise<{ id: string; storeId: string }> {
    await tx.query('SELECT 1 FROM node WHERE id = $1 FOR UPDATE', [folderId]);
    const folder = await this.access.requireNode(who, folderId, 'contribute', tx);
    if (folder.kind !== 'folder') throw notFound('This folder');
    return folder;
  }

  private async tellParents(tx: EntityManager, nodes: { parentId: string | null }[]): Promise<void> {
    for (const id of new Set(nodes.map((n) => n.parentId as string))) await this.events.tell(tx, { topic: 'node', id });
  }
}

export function nameTaken(name: string): Problem {
  const problem = invalidField('name', 'name.taken', `There is something called "${name}" here already.`);
  return new Problem('conflict', 'name.taken', problem.message, { errors: problem.more.errors, name });
}

/** Runs a write; a broken unique name is told as such (23505: unique_violation). */
export async function uniqueName<T>(name: string, write: () => Promise<T>): Promise<T> {
  try {
    return await write();
  } catch (error) {
    if ((error as { driverError?: { code?: string } }).driverError?.code === '23505') throw nameTaken(name);
    throw error;
  }
}

function cursorText(cursor: ListingCursor): string {
  return Buffer.from(JSON.stringify([cursor.sortKind, cursor.nameKey, cursor.id])).toString('base64url');
}

function cursorFrom(text: string | undefined): ListingCursor | null {
  if (text === undefined) return null;
  try {
    const [sortKind, key, id] = JSON.parse(Buffer.from(text, 'base64url').toString('utf8')) as [unknown, unknown, unknown];
    if ((sortKind === 0 || sortKind === 1) && typeof key === 'string' && typeof id === 'string' && /^[0-9a-f-]{36}$/.test(id)) return { sortKind, nameKey: key, id };
  } catch {
    // falls through to the refusal
  }
  throw invalidField('after', 'after.invalid', 'This place in the list is not known. Start from the top.');
}
