import { Injectable } from '@nestjs/common';
import { policyWords, versionsToRemove, type VersionPolicy, SYSTEM_ACTOR } from '@quay/core';
import type { PolicyEffect, UploadAnswer, VersionList, VersionRow } from '@quay/contract';
import { DataSource, type EntityManager } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';
import { LedgerService } from '../ledger/ledger.service.js';
import type { Who } from '../people/who.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { grouped } from '../platform/grouped.js';
import { invalidField, notFound } from '../platform/problems/problem.js';
import { lockAccess } from '../access/access-lock.js';
import { AccessService } from '../access/access.service.js';
import type { Bringer } from '../access/folder-admission.js';
import { AdmissionService } from './admission.service.js';
import { actorOf } from './names.js';
import { lockNodes, type FileBytes } from './branch.queries.js';

interface Row {
  id: string;
  node_id: string;
  number: number;
  size_bytes: string;
  sha256: Buffer;
  created_at: Date;
  modified_at: Date;
  created_by: string | null;
  kept: boolean;
  current: boolean;
  name: string;
}

/** Files whose versions are looked at together. */
const NODES_AT_ONCE = 500;
const EXAMPLES = 50;

/** The versions of files: what is kept, what comes back, what a policy removes. */
@Injectable()
export class VersionsService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly access: AccessService,
    private readonly admission: AdmissionService,
    private readonly ledger: LedgerService,
    private readonly events: Events,
  ) {}

  async list(who: Who, nodeId: string): Promise<VersionList> {
    const node = await this.access.requireNode(who, nodeId, 'see');
    if (node.kind !== 'file') throw notFound('This file');
    const rows = await this.db.query<(Row & { by: string | null })[]>(
      `SELECT v.*, p.name AS by, v.id = n.version_id AS current FROM file_version v JOIN node n ON n.id = v.node_id
        LEFT JOIN actor p ON p.id = v.created_by WHERE v.node_id = $1 ORDER BY v.number DESC`,
      [nodeId],
    );
    return {
      versions: rows.map((r) => ({
        number: r.number,
        sizeBytes: Number(r.size_bytes),
        // Whoever may not have the bytes does not learn their name either.
        sha256: node.acts.includes('read') ? r.sha256.toString('hex') : null,
        createdAt: r.created_at.toISOString(),
        modifiedAt: r.modified_at.toISOString(),
        createdBy: r.by,
        kept: r.kept,
        current: r.current,
      })),
      policy: policyWords(await this.admission.rules(node.storeId)),
    };
  }

  /** The bytes of one version, for who may have them, or look at them. @throws Problem not-found */
  async bytes(who: Who, nodeId: string, number: number, act: 'see' | 'read'): Promise<FileBytes> {
    const node = await this.access.requireNode(who, nodeId, act);
    const [row] = await this.db.query<(Row & { media_type: string | null })[]>(
      `SELECT v.*, n.media_type FROM file_version v JOIN node n ON n.id = v.node_id
        WHERE v.node_id = $1 AND v.number = $2`,
      [nodeId, number],
    );
    if (!row) throw notFound('This version');
    return {
      id: nodeId,
      name: node.name,
      sizeBytes: Number(row.size_bytes),
      mediaType: row.media_type ?? 'application/octet-stream',
      sha256: row.sha256,
      modifiedAt: row.modified_at,
    };
  }

  /** Makes an earlier version the present one again, as a new version. Nothing is lost by it. */
  async restore(who: Who, nodeId: string, number: number): Promise<UploadAnswer> {
    return this.events.change(async (tx) => {
      await lockAccess(tx, 'shared');
      await tx.query('SELECT 1 FROM node WHERE id = $1 FOR UPDATE', [nodeId]);
      const node = await this.access.requireNode(who, nodeId, 'change', tx);
      const [row] = await tx.query<Row[]>('SELECT * FROM file_version WHERE node_id = $1 AND number = $2', [
        nodeId,
        number,
      ]);
      if (!row) throw notFound('This version');
      const file = { name: node.name, sizeBytes: Number(row.size_bytes) };
      await this.admission.requireFits(tx, who.personId, node.storeId, [file], 0);
      const made = await this.addVersion(tx, this.access.bringer(who), {
        nodeId,
        storeId: node.storeId,
        sha256: row.sha256,
        sizeBytes: Number(row.size_bytes),
        modifiedAt: row.modified_at,
      });
      await this.events.tell(tx, { topic: 'node', id: node.parentId as string });
      await this.ledger.append(tx, {
        kind: 'version.restored',
        actor: actorOf(who),
        nodeId,
        detail: { name: node.name, version: number, as: made },
      });
      return {
        id: nodeId,
        name: node.name,
        sizeBytes: Number(row.size_bytes),
        sha256: row.sha256.toString('hex'),
        version: made,
      };
    });
  }

  /** Adds a version to a file that is held, and removes what the store's policy no longer keeps. @returns its number */
  async addVersion(
    tx: EntityManager,
    by: Pick<Bringer, 'actor' | 'chargedTo' | 'shareId'>,
    v: { nodeId: string; storeId: string; sha256: Buffer; sizeBytes: number; modifiedAt: Date },
  ): Promise<number> {
    const now = this.clock.date();
    const id = uuidv7();
    if (by.shareId) await keepCovered(tx, v.nodeId, by.actor.id);
    const [row] = await tx.query<{ number: number }[]>(
      `INSERT INTO file_version (id, node_id, number, sha256, size_bytes, modified_at, created_at, created_by,
        charged_to)
       SELECT $1, $2, coalesce(max(number), 0) + 1, $3, $4, $5, $6, $7, $8 FROM file_version WHERE node_id = $2
         RETURNING number`,
      [id, v.nodeId, v.sha256, v.sizeBytes, v.modifiedAt, now, by.actor.id, by.chargedTo],
    );
    await tx.query('UPDATE node SET version_id = $2, size_bytes = $3, changed_at = $4, changed_by = $5 WHERE id = $1', [
      v.nodeId,
      id,
      v.sizeBytes,
      now,
      by.actor.id,
    ]);
    await this.removeSurplus(tx, [v.nodeId], await this.admission.rules(v.storeId, tx));
    return row?.number ?? 1;
  }

  async keep(who: Who, nodeId: string, number: number, kept: boolean): Promise<VersionRow[]> {
    await this.events.change(async (tx) => {
      await tx.query('SELECT 1 FROM node WHERE id = $1 FOR UPDATE', [nodeId]);
      const node = await this.access.requireNode(who, nodeId, 'change', tx);
      const [rows] = (await tx.query(
        'UPDATE file_version SET kept = $3 WHERE node_id = $1 AND number = $2 RETURNING id',
        [nodeId, number, kept],
      )) as [unknown[], number];
      if (rows.length === 0) throw notFound('This version');
      await this.events.tell(tx, { topic: 'node', id: node.parentId as string });
      await this.ledger.append(tx, {
        kind: 'version.kept',
        actor: actorOf(who),
        nodeId,
        detail: { name: node.name, version: number, kept },
      });
    });
    return (await this.list(who, nodeId)).versions;
  }

  /** What a policy would remove from a store if it held now. */
  async effect(who: Who, storeId: string, policy: VersionPolicy): Promise<PolicyEffect> {
    await this.access.requireStore(who, storeId, 'manage');
    const answer: PolicyEffect = { versions: 0, bytes: 0, examples: [] };
    for await (const nodeIds of this.nodesWithVersions(storeId)) {
      const found = await this.surplus(this.db.manager, nodeIds, policy);
      answer.versions += found.length;
      answer.bytes += found.reduce((sum, f) => sum + Number(f.row.size_bytes), 0);
      for (const { row, reason } of found.slice(0, EXAMPLES - answer.examples.length))
        answer.examples.push({ name: row.name, number: row.number, reason, createdAt: row.created_at.toISOString() });
    }
    return answer;
  }

  /** Removes what every store's policy no longer keeps: versions grow old without anybody doing anything. */
  async thinAll(): Promise<void> {
    for (const { id, name } of await this.db.query<{ id: string; name: string }[]>(
      'SELECT id, name FROM store WHERE thin_after_days IS NOT NULL',
    )) {
      let count = 0;
      for await (const nodeIds of this.nodesWithVersions(id))
        count += await this.events.change(async (tx) => {
          await lockNodes(tx, nodeIds);
          return this.removeSurplus(tx, nodeIds, await this.admission.rules(id, tx));
        });
      if (count === 0) continue;
      await this.events.change(async (tx) => {
        await this.events.tell(tx, { topic: 'store', id });
        await this.ledger.append(tx, {
          kind: 'versions.removed',
          actor: SYSTEM_ACTOR,
          detail: { count, store: name },
        });
      });
    }
  }

  private readonly spares: ((m: EntityManager, versionIds: string[]) => Promise<Set<string>>)[] = [];

  /** Has versions stay that something else needs, whatever a policy says. @param spare those it needs of these */
  spare(spare: (m: EntityManager, versionIds: string[]) => Promise<Set<string>>): void {
    this.spares.push(spare);
  }

  /** What was marked to be kept while this was decided stays: the mark is asked for where the row is removed. */
  private async removeSurplus(tx: EntityManager, nodeIds: string[], policy: VersionPolicy): Promise<number> {
    const found = await this.surplus(tx, nodeIds, policy);
    if (found.length === 0) return 0;
    const [, count] = (await tx.query(
      `DELETE FROM file_version v USING node n WHERE v.id = ANY($1) AND NOT v.kept AND n.id = v.node_id
        AND n.version_id IS DISTINCT FROM v.id`,
      [found.map((f) => f.row.id)],
    )) as [unknown, number];
    return count;
  }

  /** Files of a store that have several versions, some hundred at a time: only they can lose any. */
  private async *nodesWithVersions(storeId: string): AsyncGenerator<string[]> {
    for (let after: string | null = null; ;) {
      const rows: { id: string }[] = await this.db.query(
        `SELECT DISTINCT v.node_id AS id FROM file_version v JOIN node n ON n.id = v.node_id
          WHERE n.store_id = $1 AND v.number > 1 AND ($2::uuid IS NULL OR v.node_id > $2) ORDER BY v.node_id
            LIMIT ${NODES_AT_ONCE}`,
        [storeId, after],
      );
      if (rows.length === 0) return;
      yield rows.map((r) => r.id);
      after = rows.at(-1)?.id ?? null;
    }
  }

  private async surplus(m: EntityManager, nodeIds: string[], policy: VersionPolicy) {
    const rows = await m.query<Row[]>(
      `SELECT v.*, n.name FROM file_version v JOIN node n ON n.id = v.node_id WHERE n.id = ANY($1)
        ORDER BY v.node_id, v.number`,
      [nodeIds],
    );
    const now = this.clock.now();
    const found = [...grouped(rows, (r) => r.node_id).values()].flatMap((versions) => {
      const facts = versions.map((v) => ({ ...v, createdAt: v.created_at.getTime() }));
      const byId = new Map(versions.map((v) => [v.id, v]));
      return versionsToRemove(facts, policy, now).map(({ id, reason }) => ({ row: byId.get(id) as Row, reason }));
    });
    if (found.length === 0) return found;
    const ids = found.map((f) => f.row.id);
    const spared = await Promise.all(this.spares.map((spare) => spare(m, ids)));
    return found.filter((f) => !spared.some((s) => s.has(f.row.id)));
  }
}

export function versionNumber(text: string): number {
  const number = Number(text);
  if (!/^\d{1,9}$/.test(text) || number < 1)
    throw invalidField('version', 'version.invalid', 'A version is a whole number from 1.');
  return number;
}

/**
 * Whoever holds a link covers a version of the office: that one stays, however many they put over it and whatever the
 * policy of the store.
 */
async function keepCovered(tx: EntityManager, nodeId: string, actorId: string): Promise<void> {
  await tx.query(
    `UPDATE file_version v SET kept = true FROM node n
      WHERE n.id = $1 AND v.id = n.version_id AND v.created_by IS DISTINCT FROM $2
        AND NOT EXISTS (SELECT 1 FROM actor a WHERE a.id = v.created_by AND a.kind = 'visitor')`,
    [nodeId, actorId],
  );
}
