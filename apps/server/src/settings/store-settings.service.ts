import { Injectable } from '@nestjs/common';
import { archiveWords, nameKey, policyWords } from '@quay/core';
import type { StoreArchived, StoreName, StoreOrder, StoreSettings, WouldDo } from '@quay/contract';
import { DataSource, type EntityManager } from 'typeorm';
import { lockAccess } from '../access/access-lock.js';
import { insertGrant, managersOf } from '../access/grants.queries.js';
import { LedgerService } from '../ledger/ledger.service.js';
import type { Who } from '../people/who.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { invalidField, notFound } from '../platform/problems/problem.js';
import { ShareListService } from '../shares/list.service.js';
import {
  archiveStore,
  commonStores,
  makeStore,
  orderStores,
  renameStore,
  uploadsInto,
  type CommonStore,
} from '../stores/make-store.js';
import { actorOf } from '../stores/names.js';

/** The common stores, as whoever runs the server decides about them. */
@Injectable()
export class StoreSettingsService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly events: Events,
    private readonly ledger: LedgerService,
    private readonly shares: ShareListService,
  ) {}

  async list(): Promise<StoreSettings[]> {
    const m = this.db.manager;
    const stores = await commonStores(m);
    const managers = await managersOf(
      m,
      stores.map((s) => s.rootId),
      this.clock.date(),
    );
    return stores.map(({ versionsKept, thinAfterDays, archivedAt, ...store }) => ({
      ...store,
      archivedAt: archivedAt?.toISOString() ?? null,
      policyWords: policyWords({ versionsKept, thinAfterDays }),
      managers: managers.get(store.rootId) ?? [],
    }));
  }

  /** All staff may edit in a new store: what else is to hold is granted on its folder. */
  async make(who: Who, { name }: StoreName): Promise<StoreSettings[]> {
    await this.events.change(async (tx) => {
      await lockAccess(tx, 'alone');
      await requireNameFree(tx, name, null);
      const at = this.clock.date();
      const { storeId, rootId } = await makeStore(tx, { kind: 'common', name, ownerId: null }, at);
      const subject = { kind: 'staff' as const, id: null };
      await insertGrant(tx, { folderId: rootId, subject, level: 'edit', since: at, until: null, by: who.personId });
      await this.events.tell(tx, { topic: 'store', id: storeId }, { topic: 'access', id: 'any' });
      await this.ledger.append(tx, { kind: 'store.made', actor: actorOf(who), nodeId: rootId, detail: { name } });
    });
    return this.list();
  }

  async rename(who: Who, storeId: string, { name }: StoreName): Promise<StoreSettings[]> {
    await this.events.change(async (tx) => {
      await lockAccess(tx, 'alone');
      const store = await requireStore(tx, storeId);
      if (store.name === name) return;
      await requireNameFree(tx, name, storeId);
      await renameStore(tx, store, name);
      await this.events.tell(tx, { topic: 'store', id: storeId }, { topic: 'node', id: store.rootId });
      await this.ledger.append(tx, {
        kind: 'store.renamed',
        actor: actorOf(who),
        nodeId: store.rootId,
        detail: { from: store.name, to: name },
      });
    });
    return this.list();
  }

  /** A store that came meanwhile, and is not named, comes after the others. */
  async order(who: Who, { storeIds }: StoreOrder): Promise<StoreSettings[]> {
    await this.events.change(async (tx) => {
      await lockAccess(tx, 'alone');
      const before = (await commonStores(tx)).map((s) => s.id);
      if (storeIds.some((id) => !before.includes(id))) throw notFound('One of these stores');
      await orderStores(tx, storeIds);
      const after = await commonStores(tx);
      if (after.every((s, i) => s.id === before[i])) return;
      await this.events.tell(tx, ...after.map((s) => ({ topic: 'store' as const, id: s.id })));
      const order = after.map((s) => s.name).join(', ');
      await this.ledger.append(tx, { kind: 'store.ordered', actor: actorOf(who), detail: { order } });
    });
    return this.list();
  }

  /** What archiving a store would do, in words. */
  async archiveWouldDo(who: Who, storeId: string): Promise<WouldDo> {
    const store = await requireStore(this.db.manager, storeId);
    const [shares, uploads] = await Promise.all([
      this.shares.openFrom(who, store.rootId),
      uploadsInto(this.db.manager, storeId),
    ]);
    return { words: archiveWords(store.name, { shares, uploads }) };
  }

  /** Nothing is added, changed or thrown away in an archived store, whatever was granted; nothing that was is lost. */
  async archive(who: Who, storeId: string, { archived }: StoreArchived): Promise<StoreSettings[]> {
    await this.events.change(async (tx) => {
      await lockAccess(tx, 'alone');
      const store = await requireStore(tx, storeId);
      if ((store.archivedAt !== null) === archived) return;
      await archiveStore(tx, storeId, archived ? this.clock.date() : null);
      await this.events.tell(tx, { topic: 'store', id: storeId }, { topic: 'access', id: 'any' });
      await this.ledger.append(tx, {
        kind: archived ? 'store.archived' : 'store.brought-back',
        actor: actorOf(who),
        nodeId: store.rootId,
        detail: { name: store.name },
      });
    });
    return this.list();
  }
}

async function requireStore(m: EntityManager, storeId: string): Promise<CommonStore> {
  const store = (await commonStores(m)).find((s) => s.id === storeId);
  if (!store) throw notFound('This store');
  return store;
}

async function requireNameFree(tx: EntityManager, name: string, exceptId: string | null): Promise<void> {
  const taken = (await commonStores(tx)).some((s) => s.id !== exceptId && nameKey(s.name) === nameKey(name));
  if (taken) throw invalidField('name', 'store.name-taken', `There is a store called ${name} already.`);
}
