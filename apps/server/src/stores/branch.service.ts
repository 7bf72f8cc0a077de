import { Injectable } from '@nestjs/common';
import { actBits, countOf, isLitter, nameKey } from '@quay/core';
import type { MoveAnswer, MoveNodes, TrashAnswer } from '@quay/contract';
import { DataSource, type EntityManager } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';
import { LedgerService } from '../ledger/ledger.service.js';
import type { Who } from '../people/who.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { notFound, Problem } from '../platform/problems/problem.js';
import { lockAccess } from '../access/access-lock.js';
import { hasGrantsWithin, widenedBy } from '../access/audience.js';
import { walkDown, type NodePlace } from '../access/access.queries.js';
import { AccessService, type ReachableNode } from '../access/access.service.js';
import { AdmissionService } from './admission.service.js';
import { actorOf, nameTaken, uniqueName } from './names.js';
import { branchOf, extentOf, filesWithin, lockBranch, lockNodes, isWithin, topmost } from './branch.queries.js';
import { freeNames, insertNodes, insertVersions, takenNames } from './names.queries.js';
import { LIVE, stepDown } from '../access/tree.queries.js';

/** People who are named before something is moved to where they reach it. */
const GAINS_SHOWN = 20;
/** The most items that one copy makes. */
const MOST_COPIED = 50_000;

interface CopyRow {
  id: string;
  parent_id: string;
  kind: 'folder' | 'file';
  name: string;
  size_bytes: string;
  media_type: string | null;
  sha256: Buffer | null;
  modified_at: Date | null;
}

/** Moves and copies items with everything in them. */
@Injectable()
export class BranchService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly access: AccessService,
    private readonly admission: AdmissionService,
    private readonly ledger: LedgerService,
    private readonly events: Events,
  ) {}

  async move(who: Who, asked: MoveNodes): Promise<MoveAnswer> {
    return this.events.change(async (tx) => {
      await lockAccess(tx, 'alone');
      const { nodes, target } = await this.lockMoved(who, asked.nodeIds, asked.toFolderId, 'remove', tx);
      await this.access.requireBelow(who, nodes, 'remove', tx);
      const moving = nodes.filter((n) => n.parentId !== target.id);
      if (target.storeKind === 'home') await this.requireUngranted(tx, moving);
      if (!asked.widens) await this.requireSameAudience(tx, who, moving, target);
      const names = await this.namesThere(
        tx,
        who,
        moving.map((n) => n.name),
        target.id,
        asked.ifTaken,
      );
      const from = new Map(
        (
          await tx.query<{ id: string; name: string }[]>('SELECT id, name FROM node WHERE id = ANY($1)', [
            moving.map((n) => n.parentId),
          ])
        ).map((p) => [p.id, p.name]),
      );
      await this.requireFits(tx, who, moving, target, false);
      const moved: MoveAnswer['moved'] = [];
      for (const [index, node] of moving.entries()) {
        const name = names[index] as string;
        await this.followStore(tx, node, target.storeId);
        await uniqueName(name, () =>
          tx.query('UPDATE node SET parent_id = $2, name = $3, name_key = $4 WHERE id = $1', [
            node.id,
            target.id,
            name,
            nameKey(name),
          ]),
        );
        moved.push({ id: node.id, name, fromFolderId: node.parentId as string, fromName: node.name });
      }
      for (const id of new Set([target.id, ...moving.map((n) => n.parentId as string)]))
        await this.events.tell(tx, { topic: 'node', id });
      for (const node of moving)
        await this.ledger.append(tx, {
          kind: 'node.moved',
          actor: actorOf(who),
          nodeId: node.id,
          detail: { name: node.name, from: from.get(node.parentId as string) ?? '', to: target.name },
        });
      return { moved };
    });
  }

  /** Copies items; what is copied begins with version 1. Names that are taken get a number. */
  async copy(who: Who, asked: string[], toFolderId: string): Promise<TrashAnswer> {
    return this.events.change(async (tx) => {
      await lockAccess(tx, 'shared');
      const { nodes, target } = await this.lockMoved(who, asked, toFolderId, 'read', tx);
      const nodeIds = nodes.map((n) => n.id);
      await this.requireFits(tx, who, nodes, target, true);
      const rows = await copyRows(tx, who.personId, nodeIds);
      if (rows.length > MOST_COPIED)
        throw new Problem(
          'too-large',
          'copy.too-many',
          `One copy makes at most ${MOST_COPIED.toLocaleString('en-GB')} items. Copy a part of it.`,
        );
      const names = await freeNames(
        tx,
        target.id,
        nodes.map((n) => n.name),
      );
      const topNames = new Map(nodes.map((n, i) => [n.id, names[i] as string]));
      const made = await this.insertCopies(tx, who, rows, topNames, target);
      await this.events.tell(tx, { topic: 'node', id: target.id }, { topic: 'store', id: target.storeId });
      for (const node of nodes)
        await this.ledger.append(tx, {
          kind: 'node.copied',
          actor: actorOf(who),
          nodeId: made.get(node.id) as string,
          detail: { name: node.name, to: target.name },
        });
      return { nodeIds: nodeIds.map((id) => made.get(id) as string) };
    });
  }

  /** What moves into another store takes everything below it along. */
  async followStore(tx: EntityManager, node: Pick<NodePlace, 'id' | 'storeId'>, storeId: string): Promise<void> {
    if (storeId === node.storeId) return;
    const branch = await lockBranch(tx, [node.id]);
    await tx.query('UPDATE node SET store_id = $2 WHERE id = ANY($1)', [branch.map((b) => b.id), storeId]);
  }

  /** Homes are their owner's alone: grants that travelled into one would lead nowhere. */
  private async requireUngranted(tx: EntityManager, moving: ReachableNode[]): Promise<void> {
    if (await hasGrantsWithin(tx, moving))
      throw new Problem(
        'conflict',
        'home.granted',
        'Something was granted on it or in it, and a home is its owner’s alone. End those grants first.',
      );
  }

  /** Who would reach what is moved there, and does not now, is seen before it moves. */
  private async requireSameAudience(
    tx: EntityManager,
    who: Who,
    moving: ReachableNode[],
    target: ReachableNode,
  ): Promise<void> {
    const movingIds = moving.map((n) => n.id);
    const gains = await widenedBy(tx, who.personId, movingIds, target.id, this.clock.now());
    if (gains.length === 0) return;
    const shown = who.role === 'guest' ? [] : gains.slice(0, GAINS_SHOWN);
    throw new Problem(
      'conflict',
      'move.widens',
      `${countOf(gains.length, 'person', 'people')} could do more with it there. Nothing has moved yet.`,
      { gains: shown, people: gains.length },
    );
  }

  private async lockMoved(
    who: Who,
    nodeIds: string[],
    toFolderId: string,
    act: 'remove' | 'read',
    tx: EntityManager,
  ): Promise<{ nodes: ReachableNode[]; target: ReachableNode }> {
    await lockNodes(tx, [...nodeIds, toFolderId]);
    const all = await this.access.requireNodes(who, nodeIds, act, tx);
    // What lies in another of them goes along with it.
    const top = new Set(await topmost(tx, nodeIds));
    const nodes = all.filter((n) => top.has(n.id));
    const target = await this.access.requireNode(who, toFolderId, 'add', tx);
    if (target.kind !== 'folder') throw notFound('This folder');
    if (nodes.some((n) => n.parentId === null))
      throw new Problem('forbidden', 'store.root', 'A whole store cannot be moved or copied; choose what is in it.');
    if (
      await isWithin(
        tx,
        toFolderId,
        nodes.filter((n) => n.kind === 'folder').map((n) => n.id),
      )
    )
      throw new Problem('conflict', 'move.into-itself', 'A folder cannot go into itself or into a folder inside it.');
    return { nodes, target };
  }

  private async namesThere(
    tx: EntityManager,
    who: Who,
    names: string[],
    folderId: string,
    ifTaken: MoveNodes['ifTaken'],
  ): Promise<string[]> {
    if (ifTaken === 'keep-both') return freeNames(tx, folderId, names);
    const taken = await takenNames(tx, who.personId, folderId, names.map(nameKey));
    const clash = names.find(
      (name, i) => taken.get(nameKey(name)) || names.findIndex((n) => nameKey(n) === nameKey(name)) !== i,
    );
    if (clash) throw nameTaken(clash);
    return taken.size === 0 ? names : freeNames(tx, folderId, names);
  }

  /**
   * What comes must fit where it goes: by depth everywhere, by the rules and the quota of a store that it is new to.
   */
  async requireFits(
    tx: EntityManager,
    who: Who,
    nodes: readonly NodePlace[],
    target: { id: string; storeId: string },
    copied: boolean,
  ): Promise<void> {
    if (nodes.length === 0) return;
    const parents = copied ? [] : [...new Set(nodes.map((n) => n.parentId as string))];
    const ids = nodes.map((n) => n.id);
    await this.admission.requireDepth(tx, target.id, await extentOf(tx, ids), parents);
    const foreign = nodes.filter((n) => n.storeId !== target.storeId).map((n) => n.id);
    const arriving = copied ? ids : foreign;
    if (arriving.length === 0) return;
    const branch = await branchOf(tx, foreign);
    const [row] = await tx.query<{ bytes: string }[]>(
      `SELECT coalesce(sum(size_bytes), 0) AS bytes FROM (SELECT DISTINCT v.sha256, v.size_bytes FROM file_version v
        WHERE v.node_id = ANY($1)
          AND NOT EXISTS (SELECT 1 FROM store_blob b WHERE b.store_id = $2 AND b.sha256 = v.sha256)) u`,
      [branch.map((b) => b.id), target.storeId],
    );
    await this.admission.requireFits(
      tx,
      who.personId,
      target.storeId,
      await filesWithin(tx, arriving),
      Number(row?.bytes ?? 0),
    );
  }

  private async insertCopies(
    tx: EntityManager,
    who: Who,
    rows: CopyRow[],
    topNames: Map<string, string>,
    target: ReachableNode,
  ): Promise<Map<string, string>> {
    const ids = new Map(rows.map((r) => [r.id, uuidv7()]));
    const now = this.clock.date();
    const nodes = rows.map((r) => {
      const name = topNames.get(r.id) ?? r.name;
      return {
        id: ids.get(r.id) as string,
        store_id: target.storeId,
        parent_id: topNames.has(r.id) ? target.id : (ids.get(r.parent_id) as string),
        kind: r.kind,
        name,
        name_key: nameKey(name),
        litter: isLitter(name),
        size_bytes: r.size_bytes,
        media_type: r.media_type,
        version_id: r.kind === 'file' ? uuidv7() : null,
        created_at: now,
        changed_at: now,
        changed_by: who.personId,
      };
    });
    await insertNodes(tx, nodes);
    const versions = rows.flatMap((r, i) =>
      r.sha256
        ? [
            {
              id: nodes[i]?.version_id ?? null,
              node_id: nodes[i]?.id as string,
              number: 1,
              sha256: `\\x${r.sha256.toString('hex')}`,
              size_bytes: r.size_bytes,
              modified_at: r.modified_at as Date,
              created_at: now,
              created_by: who.personId,
              charged_to: who.personId,
            },
          ]
        : [],
    );
    await insertVersions(tx, versions);
    return ids;
  }
}

/**
 * What is live at and below the nodes and may be read, with the bytes of each file; parents come before their children.
 */
async function copyRows(tx: EntityManager, personId: string, nodeIds: string[]): Promise<CopyRow[]> {
  const walk = walkDown('$2', actBits(['read']));
  const columns = 'n.id, n.parent_id, n.kind, n.name, n.size_bytes, n.media_type, n.version_id';
  return tx.query(
    `WITH RECURSIVE down AS (
       SELECT ${columns}, 0 AS depth, ${walk.begin} FROM node n WHERE n.id = ANY($1)
       UNION ALL
       SELECT ${columns}, down.depth + 1, ${walk.below}
         FROM ${stepDown(LIVE)} ${walk.step} WHERE ${walk.goesOn}
     ) SELECT down.id, down.parent_id, down.kind, down.name, down.size_bytes, down.media_type, v.sha256, v.modified_at
         FROM down LEFT JOIN file_version v ON v.id = down.version_id
        WHERE ${walk.allowed} ORDER BY down.depth LIMIT ${MOST_COPIED + 1}`,
    [nodeIds, personId],
  );
}
