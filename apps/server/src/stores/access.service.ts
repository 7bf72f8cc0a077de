import { Injectable } from '@nestjs/common';
import { includes, storeLevel, type AccessLevel } from '@quay/core';
import { DataSource, type EntityManager } from 'typeorm';
import type { Who } from '../people/who.js';
import { Clock } from '../platform/clock.js';
import { notFound, Problem } from '../platform/problems/problem.js';
import { placesOf, storeAccess, type NodePlace } from './stores.queries.js';

export type ReachableNode = NodePlace & { level: AccessLevel };

/** The one place where the server decides who may do what with a store or a node. */
@Injectable()
export class AccessService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
  ) {}

  /** The level on a store. @throws Problem not-found when there is none, so that nobody learns what exists */
  async requireStore(who: Who, storeId: string, needed: AccessLevel): Promise<AccessLevel> {
    const [store] = await storeAccess(this.db.manager, this.clock.date(), [storeId]);
    const level = store ? storeLevel(who, store, store.grants) : null;
    return required(level, needed, 'This store');
  }

  /** The stores where somebody has at least this level. */
  async storesAt(who: Who, needed: AccessLevel, m: EntityManager = this.db.manager): Promise<string[]> {
    const stores = await storeAccess(m, this.clock.date(), null);
    return stores.filter((s) => includes(storeLevel(who, s, s.grants), needed)).map((s) => s.id);
  }

  /** One node out of the trash, with the level on it. */
  async requireNode(
    who: Who,
    nodeId: string,
    needed: AccessLevel,
    m: EntityManager = this.db.manager,
  ): Promise<ReachableNode> {
    const [node] = await this.requireNodes(who, [nodeId], needed, m);
    return node as ReachableNode;
  }

  /** All of the nodes, each live and within reach at the level that is needed. @throws Problem not-found, forbidden */
  async requireNodes(
    who: Who,
    nodeIds: string[],
    needed: AccessLevel,
    m: EntityManager = this.db.manager,
  ): Promise<ReachableNode[]> {
    const nodes = await this.reachable(who, nodeIds, needed, m);
    if (nodes.some((n) => !n.live))
      throw new Problem('not-found', 'node.trashed', 'That is in the trash now. Put it back first.');
    return nodes;
  }

  /** As {@link requireNodes}, in the trash or not. */
  async reachable(
    who: Who,
    nodeIds: string[],
    needed: AccessLevel,
    m: EntityManager = this.db.manager,
  ): Promise<ReachableNode[]> {
    const places = await placesOf(m, nodeIds);
    const storeIds = [...new Set(places.map((p) => p.storeId))];
    const stores = new Map((await storeAccess(m, this.clock.date(), storeIds)).map((s) => [s.id, s]));
    return nodeIds.map((id) => {
      const place = places.find((p) => p.id === id);
      const store = place && stores.get(place.storeId);
      if (!place || !store) throw notFound();
      return { ...place, level: required(storeLevel(who, store, store.grants), needed) };
    });
  }
}

function required(level: AccessLevel | null, needed: AccessLevel, what?: string): AccessLevel {
  if (level === null) throw notFound(what);
  if (!includes(level, needed))
    throw new Problem(
      'forbidden',
      'access.level',
      `For that you need the level "${needed}" here; yours is "${level}".`,
      { needed, level },
    );
  return level;
}
