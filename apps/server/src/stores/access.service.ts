import { Injectable } from '@nestjs/common';
import { ACT_OF_LEVEL, actBits, actsOfBits, levelOfActs, type AccessLevel, type Act } from '@quay/core';
import { DataSource, type EntityManager } from 'typeorm';
import type { Who } from '../people/who.js';
import { Clock } from '../platform/clock.js';
import { notFound, Problem } from '../platform/problems/problem.js';
import { ensureReach } from './access-reach.js';
import { reachedPlaces, type NodePlace, type ReachedPlace } from './stores.queries.js';

/** A node with what somebody may do with it, and the level that says so best. */
export type ReachableNode = NodePlace & { acts: Act[]; level: AccessLevel };

/** The one place where the server decides who may do what with a store or a node. */
@Injectable()
export class AccessService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
  ) {}

  /** Sees to it that what somebody reaches can be joined (`access_reach`), as of now. @returns whether it stood already */
  ensure(who: Pick<Who, 'personId'>, m: EntityManager = this.db.manager): Promise<boolean> {
    return ensureReach(m, [who.personId], this.clock.date());
  }

  /** The level on a store's own folder. @throws Problem not-found when there is none, so that nobody learns what exists */
  async requireStore(who: Who, storeId: string, needed: AccessLevel): Promise<AccessLevel> {
    const [root] = await this.db.query<{ id: string }[]>(
      'SELECT id FROM node WHERE store_id = $1 AND parent_id IS NULL',
      [storeId],
    );
    if (!root) throw notFound('This store');
    const [node] = await this.reachable(who, [root.id], needed, this.db.manager, 'This store');
    return (node as ReachableNode).level;
  }

  /** The stores on whose own folder somebody may do what a level is asked for. */
  async storesAt(who: Who, needed: AccessLevel, m: EntityManager = this.db.manager): Promise<string[]> {
    await this.ensure(who, m);
    const rows = await m.query<{ id: string }[]>(
      `SELECT n.store_id AS id FROM node n JOIN access_root r ON r.folder_id = n.id JOIN access_reach a ON a.root = r.id
        WHERE n.parent_id IS NULL AND a.person_id = $1 AND (a.acts & $2) <> 0`,
      [who.personId, bitsFor(needed, 'folder')],
    );
    return rows.map((r) => r.id);
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
    requireLive(nodes);
    return nodes;
  }

  /** As {@link requireNodes}, of items that may be published: what somebody only brought may be changed by them, not published. */
  async requirePublishable(who: Who, nodeIds: string[], m: EntityManager): Promise<ReachableNode[]> {
    const nodes = await this.requireNodes(who, nodeIds, 'edit', m);
    if (nodes.some((n) => !n.acts.includes('publish'))) throw levelNeeded('edit', 'contribute');
    return nodes;
  }

  /** As {@link requireNodes}, in the trash or not. */
  async reachable(
    who: Who,
    nodeIds: string[],
    needed: AccessLevel,
    m: EntityManager = this.db.manager,
    what?: string,
  ): Promise<ReachableNode[]> {
    const { places } = await this.look(who, nodeIds, m);
    return this.allowed(places, nodeIds, needed, what);
  }

  /**
   * One node, as {@link requireNode}, and what is asked about it at the same time, because that takes as long again. What was
   * asked is asked again where it was not known yet what they reach.
   */
  async requireNodeBeside<T>(
    who: Who,
    nodeId: string,
    needed: AccessLevel,
    ask: () => Promise<T>,
  ): Promise<[ReachableNode, T]> {
    const [{ places, stood }, early] = await Promise.all([this.look(who, [nodeId], this.db.manager), ask()]);
    const [node] = this.allowed(places, [nodeId], needed) as [ReachableNode];
    requireLive([node]);
    return [node, stood ? early : await ask()];
  }

  private async look(who: Who, nodeIds: string[], m: EntityManager) {
    const at = this.clock.date();
    const first = await reachedPlaces(m, who.personId, nodeIds, at);
    if (first.stood) return first;
    await ensureReach(m, [who.personId], at);
    return { ...(await reachedPlaces(m, who.personId, nodeIds, at)), stood: false };
  }

  private allowed(places: ReachedPlace[], nodeIds: string[], needed: AccessLevel, what?: string): ReachableNode[] {
    return nodeIds.map((id) => {
      const place = places.find((p) => p.id === id);
      if (!place) throw notFound(what);
      const level = required(place.bits, place.kind, needed, what);
      return { ...place, acts: actsOfBits(place.bits), level };
    });
  }
}

function requireLive(nodes: readonly NodePlace[]): void {
  if (nodes.some((n) => !n.live))
    throw new Problem('not-found', 'node.trashed', 'That is in the trash now. Put it back first.');
}

/** A folder that somebody may add to is one they see, whatever they see in it. */
const bitsFor = (needed: AccessLevel, kind: 'folder' | 'file'): number =>
  actBits(needed === 'view' && kind === 'folder' ? ['see', 'add'] : [ACT_OF_LEVEL[needed]]);

function required(acts: number, kind: 'folder' | 'file', needed: AccessLevel, what?: string): AccessLevel {
  const level = levelOfActs(actsOfBits(acts));
  if ((acts & bitsFor('view', kind)) === 0 || level === null) throw notFound(what);
  if ((acts & bitsFor(needed, kind)) === 0) throw levelNeeded(needed, level);
  return level;
}

function levelNeeded(needed: AccessLevel, level: AccessLevel): Problem {
  const words = `For that you need the level "${needed}" here; yours is "${level}".`;
  return new Problem('forbidden', 'access.level', words, { needed, level });
}
