import { SYSTEM_ACTOR } from '@quay/core';
import { Injectable } from '@nestjs/common';
import type { PurgeAnswer } from '@quay/contract';
import { DataSource, type EntityManager } from 'typeorm';
import { LedgerService } from '../ledger/ledger.service.js';
import type { Who } from '../people/who.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { AccessService } from '../access/access.service.js';
import { actorOf } from './names.js';
import { lockBranch, lockNodes } from './branch.queries.js';

/** Says which of these nodes something outside the stores still needs, and why. */
export type PurgeGuard = (tx: EntityManager, nodeIds: string[]) => Promise<{ nodeId: string; why: string }[]>;

const NIL = '00000000-0000-0000-0000-000000000000';

/** Removes for good what lies in the trash. The name stays as a trace; bytes go when nothing refers to them. */
@Injectable()
export class PurgeService {
  private readonly guards: PurgeGuard[] = [];

  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly access: AccessService,
    private readonly ledger: LedgerService,
    private readonly events: Events,
  ) {}

  guard(guard: PurgeGuard): void {
    this.guards.push(guard);
  }

  async purge(who: Who, nodeIds: string[]): Promise<PurgeAnswer> {
    return this.events.change(async (tx) => {
      await lockNodes(tx, nodeIds);
      const nodes = (await this.access.reachable(who, nodeIds, 'manage', tx)).filter(
        (n) => n.trashedAt !== null && !n.purged,
      );
      await this.access.requireBelow(who, nodes, 'manage', tx);
      return this.remove(tx, nodes, actorOf(who));
    });
  }

  /**
   * Removes what has lain in the trash for longer than its store says. What is held (a kept version, a live share)
   * stays, and stops nothing behind it.
   */
  async purgeByAge(): Promise<number> {
    let files = 0;
    for (let after = { at: new Date(0), id: NIL }; ;) {
      const due = await this.db.query<{ id: string; storeId: string; name: string; trashedAt: Date }[]>(
        `SELECT n.id, n.store_id AS "storeId", n.name, n.trashed_at AS "trashedAt" FROM node n
          JOIN store s ON s.id = n.store_id
          WHERE n.trashed_at IS NOT NULL AND n.purged_at IS NULL AND s.trash_days IS NOT NULL
            AND n.trashed_at < $1::timestamptz - make_interval(days => s.trash_days)
            AND (date_trunc('milliseconds', n.trashed_at), n.id) > ($2::timestamptz, $3::uuid)
              ORDER BY date_trunc('milliseconds', n.trashed_at), n.id LIMIT 500`,
        [this.clock.date(), after.at, after.id],
      );
      for (const node of due) files += await this.purgeOne(node);
      const last = due.at(-1);
      if (!last) return files;
      after = { at: last.trashedAt, id: last.id };
    }
  }

  /**
   * Removes all that lies in a store, item after item, for the program itself. What is held stays, and is tried again.
   * @returns how many files went, and whether anything is left
   */
  async empty(storeId: string): Promise<{ files: number; left: boolean }> {
    const inIt = await this.db.query<{ id: string; storeId: string; name: string }[]>(
      `SELECT c.id, c.store_id AS "storeId", c.name FROM node c JOIN node top ON top.id = c.parent_id
        WHERE top.store_id = $1 AND top.parent_id IS NULL AND c.purged_at IS NULL ORDER BY c.id`,
      [storeId],
    );
    let [files, left] = [0, false];
    for (const item of inIt) {
      const { files: gone, kept } = await this.events.change(async (tx) => {
        await lockNodes(tx, [item.id]);
        return this.remove(tx, [item], SYSTEM_ACTOR);
      });
      files += gone;
      left ||= kept.length > 0;
    }
    return { files, left };
  }

  private async purgeOne(node: { id: string; storeId: string; name: string }): Promise<number> {
    return this.events.change(async (tx) => {
      const [still] = await tx.query<unknown[]>(
        'SELECT 1 FROM node WHERE id = $1 AND trashed_at IS NOT NULL AND purged_at IS NULL FOR UPDATE',
        [node.id],
      );
      return still ? (await this.remove(tx, [node], SYSTEM_ACTOR)).files : 0;
    });
  }

  private async remove(
    tx: EntityManager,
    nodes: { id: string; storeId: string; name: string }[],
    actor: ReturnType<typeof actorOf>,
  ): Promise<PurgeAnswer> {
    const answer: PurgeAnswer = { files: 0, kept: [] };
    for (const node of nodes) {
      const branch = await lockBranch(tx, [node.id]);
      const ids = branch.map((b) => b.id);
      const [hold] = await tx.query<{ name: string }[]>(
        `SELECT n.name FROM file_version v JOIN node n ON n.id = v.node_id WHERE v.node_id = ANY($1) AND v.kept
          LIMIT 1`,
        [ids],
      );
      if (hold) {
        answer.kept.push({ id: node.id, name: node.name, why: `a version of ${hold.name} is kept for ever` });
        continue;
      }
      const needed = await this.neededBy(tx, ids);
      if (needed) {
        answer.kept.push({ id: node.id, name: node.name, why: needed });
        continue;
      }
      const now = this.clock.date();
      await tx.query(
        'UPDATE node SET purged_at = $2, version_id = NULL, trashed_at = coalesce(trashed_at, $2) WHERE id = ANY($1)',
        [ids, now],
      );
      await tx.query('DELETE FROM file_version WHERE node_id = ANY($1)', [ids]);
      for (const table of ['pin', 'node_tag']) await tx.query(`DELETE FROM ${table} WHERE node_id = ANY($1)`, [ids]);
      await tx.query('DELETE FROM upload WHERE folder_id = ANY($1) OR replaces = ANY($1)', [ids]);
      answer.files += branch.filter((b) => b.kind === 'file').length;
      await this.events.tell(tx, { topic: 'store', id: node.storeId });
    }
    const gone = nodes.filter((n) => !answer.kept.some((k) => k.id === n.id));
    for (const node of gone)
      await this.ledger.append(tx, { kind: 'node.purged', actor, nodeId: node.id, detail: { name: node.name } });
    return answer;
  }

  /** Why something else still needs one of these; undefined: nothing does. */
  private async neededBy(tx: EntityManager, nodeIds: string[]): Promise<string | undefined> {
    for (const guard of this.guards) {
      const [first] = await guard(tx, nodeIds);
      if (first) return first.why;
    }
    return undefined;
  }
}
