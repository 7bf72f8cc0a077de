import { Injectable } from '@nestjs/common';
import {
  actBits,
  actsOfBits,
  ARCHIVED_ACTS,
  LEVEL_FOR_ACT,
  levelOfActs,
  type AccessLevel,
  type Act,
  type OthersRule,
  type Role,
} from '@quay/core';
import type { QuayEvent } from '@quay/contract';
import { DataSource, type EntityManager } from 'typeorm';
import { Clock } from '../platform/clock.js';
import { notFound, Problem } from '../platform/problems/problem.js';
import type { Decided, Running } from '../platform/running.js';
import { ensureReach } from './access-reach.js';
import {
  accessPlaceOf,
  closedBelow,
  FOLDER_SEEN,
  reachedPlaces,
  reachOfRoots,
  reachUntil,
  rulesOf,
  seesNode,
  storesReached,
  type AccessPlace,
  type NodePlace,
  type ReachedPlace,
  type ReachOfRoots,
} from './access.queries.js';
import type { Bringer } from './folder-admission.js';

/** A node with what somebody may do with it, and the level that says so best. */
export type ReachableNode = NodePlace & {
  acts: Act[];
  /** In a folder, with what they have brought themselves. */
  own: Act[];
  level: AccessLevel;
  /** When that changes by itself; null: not by itself. */
  until: Date | null;
};

/** A folder whose grants somebody looks at or changes, and what access depends on there. */
export type AccessFolder = ReachableNode & {
  parentId: string | null;
  inherits: boolean;
  othersRule: OthersRule | null;
};

/** Who asks. */
export interface Asking {
  personId: string;
}
/** Somebody with an account. */
export interface Account extends Asking {
  name: string;
  role: Role;
}

/** The one place where the server decides who may do what with a store or a node. */
@Injectable()
export class AccessService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
  ) {}

  /**
   * Sees to it that what somebody reaches can be joined (`access_reach`), as of now. @returns whether it stood already
   */
  ensure(who: Asking, m: EntityManager = this.db.manager): Promise<boolean> {
    return ensureReach(m, [who.personId], this.clock.date());
  }

  /**
   * May do this on a store's own folder. @throws Problem not-found when there is none, so that nobody learns what
   * exists
   */
  async requireStore(who: Asking, storeId: string, act: Act): Promise<ReachableNode> {
    const [root] = await this.db.query<{ id: string }[]>(
      'SELECT id FROM node WHERE store_id = $1 AND parent_id IS NULL',
      [storeId],
    );
    if (!root) throw notFound('This store');
    const [node] = await this.reachable(who, [root.id], act, this.db.manager, 'This store');
    return node as ReachableNode;
  }

  /** May do this somewhere in a store, if only with what they brought. @throws Problem not-found */
  async requireSomewhere(who: Asking, storeId: string, act: Act): Promise<void> {
    if (!(await this.storesWith(who, act)).includes(storeId)) throw notFound('This store');
  }

  /** The stores in which somebody may do this somewhere, if only with what they brought. */
  async storesWith(who: Asking, act: Act, m: EntityManager = this.db.manager): Promise<string[]> {
    await this.ensure(who, m);
    return storesReached(m, who.personId, bitsFor(act, 'folder'));
  }

  /**
   * Somebody with an account who brings something: what they may is asked anew each time, and counts against their
   * quota.
   */
  bringer(who: Account): Bringer {
    const actor = {
      kind: who.role === 'guest' ? ('guest' as const) : ('person' as const),
      id: who.personId,
      name: who.name,
    };
    return {
      actor,
      chargedTo: who.personId,
      admit: async (folderId, m = this.db.manager, how) => {
        const [folder] = how?.trashedToo
          ? await this.reachable(who, [folderId], 'add', m)
          : await this.requireNodes(who, [folderId], 'add', m);
        if (folder?.kind !== 'folder') throw notFound('This folder');
        const { id, storeId, name: folderName, acts, own, until: validUntil } = folder;
        return { folderId: id, storeId, folderName, actor, chargedTo: who.personId, acts, own, validUntil };
      },
      sees: (nodeId, m) => this.sees(who, nodeId, m),
      requireChange: async (nodeId, m) => {
        await this.requireNode(who, nodeId, 'change', m);
      },
    };
  }

  /** Whether somebody who does this with nodes now may go on doing it. Asked after it was seen that they may. */
  async going(who: Asking, nodeIds: string[], act: Act): Promise<Running & { until: Date | null }> {
    const decide = () =>
      decided(async () => {
        await this.requireNodes(who, nodeIds, act);
        return reachUntil(this.db.manager, who.personId);
      });
    return { decide, wakes: isAccess, until: await reachUntil(this.db.manager, who.personId) };
  }

  /** The same of somebody who is bringing something into a folder. */
  bringing(by: Bringer, folderId: string): Running {
    const decide = () => decided(async () => (await by.admit(folderId, undefined, { trashedToo: true })).validUntil);
    return { decide, wakes: by.wakes ?? isAccess };
  }

  /**
   * A folder of which somebody may see who reaches it, or say so. Past a folder that takes nothing over the admin may
   * still say so, of what they do not see. @throws Problem not-found, forbidden
   */
  async requireAccessOf(who: Asking, folderId: string, act: 'see' | 'manage', m: EntityManager): Promise<AccessFolder> {
    const { places } = await this.look(who, [folderId], m);
    const [place] = places;
    if (place?.kind !== 'folder' || place.purged) throw notFound('This folder');
    if ((place.bits & actBits(['manage'])) === 0) required(place, act, 'This folder');
    const rules = await rulesOf(m, folderId);
    const acts = actsOfBits(place.bits);
    return { ...place, acts, own: actsOfBits(place.ownBits), level: levelOfActs(acts) ?? 'manage', ...rules };
  }

  /** Whether somebody sees a node, wherever it lies. */
  async sees(who: Asking, nodeId: string, m: EntityManager = this.db.manager): Promise<boolean> {
    await this.ensure(who, m);
    return seesNode(m, who.personId, nodeId);
  }

  /**
   * May do this with everything in these folders, too. @throws Problem access.below, which does not name what is
   * closed to them
   */
  async requireBelow(who: Asking, nodes: readonly NodePlace[], act: Act, m: EntityManager): Promise<void> {
    if (await closedBelow(m, who.personId, nodes, actBits([act])))
      throw new Problem('forbidden', 'access.below', 'Something in it is not yours to move or to remove.');
  }

  /** All that somebody reaches now. */
  async reachOf(who: Asking): Promise<ReachOfRoots> {
    await this.ensure(who);
    return reachOfRoots(this.db.manager, who.personId);
  }

  /** What a node's access goes by; null when there is no such node. */
  placeOf(nodeId: string): Promise<AccessPlace | null> {
    return accessPlaceOf(this.db.manager, nodeId);
  }

  /** One node out of the trash, with what may be done with it. */
  async requireNode(who: Asking, nodeId: string, act: Act, m: EntityManager = this.db.manager): Promise<ReachableNode> {
    const [node] = await this.requireNodes(who, [nodeId], act, m);
    return node as ReachableNode;
  }

  /** All of the nodes, each live, and each one that somebody may do this with. @throws Problem not-found, forbidden */
  async requireNodes(
    who: Asking,
    nodeIds: string[],
    act: Act,
    m: EntityManager = this.db.manager,
  ): Promise<ReachableNode[]> {
    const nodes = await this.reachable(who, nodeIds, act, m);
    requireLive(nodes);
    return nodes;
  }

  /** Which of these nodes somebody sees. */
  async seen(who: Asking, nodeIds: string[]): Promise<Set<string>> {
    if (nodeIds.length === 0) return new Set();
    const { places } = await this.look(who, nodeIds, this.db.manager);
    const needed = (place: ReachedPlace) => (place.kind === 'folder' ? FOLDER_SEEN : actBits(['see']));
    return new Set(places.filter((p) => !p.purged && (p.bits & needed(p)) !== 0).map((p) => p.id));
  }

  /** As {@link requireNodes}, in the trash or not. */
  async reachable(
    who: Asking,
    nodeIds: string[],
    act: Act,
    m: EntityManager = this.db.manager,
    what?: string,
  ): Promise<ReachableNode[]> {
    const { places } = await this.look(who, nodeIds, m);
    return this.allowed(places, nodeIds, act, what);
  }

  /**
   * One node, as {@link requireNode}, and what is asked about it at the same time, because that takes as long again.
   * What was asked is asked again where it was not known yet what they reach.
   */
  async requireNodeBeside<T>(
    who: Asking,
    nodeId: string,
    act: Act,
    ask: () => Promise<T>,
  ): Promise<[ReachableNode, T]> {
    const [{ places, stood }, early] = await Promise.all([this.look(who, [nodeId], this.db.manager), ask()]);
    const [node] = this.allowed(places, [nodeId], act) as [ReachableNode];
    requireLive([node]);
    return [node, stood ? early : await ask()];
  }

  private async look(who: Asking, nodeIds: string[], m: EntityManager) {
    const at = this.clock.date();
    const first = await reachedPlaces(m, who.personId, nodeIds, at);
    if (first.stood) return first;
    await ensureReach(m, [who.personId], at);
    return { ...(await reachedPlaces(m, who.personId, nodeIds, at)), stood: false };
  }

  private allowed(places: ReachedPlace[], nodeIds: string[], act: Act, what?: string): ReachableNode[] {
    return nodeIds.map((id) => {
      const place = places.find((p) => p.id === id);
      if (!place) throw notFound(what);
      const level = required(place, act, what);
      return { ...place, acts: actsOfBits(place.bits), own: actsOfBits(place.ownBits), level };
    });
  }
}

const isAccess = (event: QuayEvent): boolean => event.topic === 'access';

/** What an asking again comes to: a refusal is an answer, everything else is none. */
async function decided(ask: () => Promise<Date | null>): Promise<Decided> {
  try {
    return { may: true, until: await ask() };
  } catch (error) {
    if (error instanceof Problem && (error.kind === 'not-found' || error.kind === 'forbidden'))
      return { may: false, until: null };
    throw error;
  }
}

function requireLive(nodes: readonly NodePlace[]): void {
  if (nodes.some((n) => !n.live))
    throw new Problem('not-found', 'node.trashed', 'That is in the trash now. Put it back first.');
}

/** A folder that somebody may add to is one they see, whatever they see in it. */
const bitsFor = (act: Act, kind: 'folder' | 'file'): number =>
  act === 'see' && kind === 'folder' ? FOLDER_SEEN : actBits([act]);

function required({ bits, kind, archivedAt }: ReachedPlace, act: Act, what?: string): AccessLevel {
  const level = levelOfActs(actsOfBits(bits));
  if ((bits & bitsFor('see', kind)) === 0 || level === null) throw notFound(what);
  if ((bits & bitsFor(act, kind)) === 0)
    throw archivedAt && !ARCHIVED_ACTS.includes(act) ? archived() : levelNeeded(act, level);
  return level;
}

const archived = (): Problem =>
  new Problem('forbidden', 'store.archived', 'This store is archived: nothing is added, changed or thrown away in it.');

/** Where somebody has acts of a level and not this one: what is their own until it is published, say. */
function levelNeeded(act: Act, level: AccessLevel): Problem {
  const needed = LEVEL_FOR_ACT[act];
  const has = needed === level ? 'contribute' : level;
  const words = `For that you need the level "${needed}" here; yours is "${has}".`;
  return new Problem('forbidden', 'access.level', words, { needed, level: has });
}
