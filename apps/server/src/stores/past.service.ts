import { Injectable } from '@nestjs/common';
import { isLitter, momentInWords, nameKey } from '@quay/core';
import type { PastFolder, PastItem, RestoreAnswer, RestorePast } from '@quay/contract';
import { lookup } from 'mime-types';
import { DataSource, type EntityManager } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';
import { LedgerService } from '../ledger/ledger.service.js';
import type { Who } from '../people/who.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { Office } from '../platform/office.js';
import { invalidField, notFound } from '../platform/problems/problem.js';
import { AccessService, type ReachableNode } from './access.service.js';
import { actorOf } from './names.js';
import { freeNames, pathOf } from './stores.queries.js';
import { VersionsService } from './versions.service.js';

interface Row {
  id: string;
  kind: 'folder' | 'file';
  name: string;
  version_id: string | null;
  number: number | null;
  sha256: Buffer | null;
  size_bytes: string | null;
  modified_at: Date | null;
  now_parent: string;
  now_name: string;
  now_version: string | null;
  now_trashed: boolean;
  now_purged: boolean;
}

const MOST_ITEMS_SHOWN = 20_000;
const MOST_MOMENTS = 400;

/** Folders as they were: what the database remembers of each item, browsed and brought back. */
@Injectable()
export class PastService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly access: AccessService,
    private readonly versions: VersionsService,
    private readonly ledger: LedgerService,
    private readonly events: Events,
    private readonly office: Office,
  ) {}

  async folder(who: Who, folderId: string, at: Date): Promise<PastFolder> {
    const node = await this.place(who, folderId, 'view', this.db.manager);
    const m = this.db.manager;
    const [rows, path, moments] = await Promise.all([
      childrenAt(m, folderId, at),
      pathOf(m, folderId),
      momentsOf(m, folderId),
    ]);
    return {
      folder: { id: node.id, name: node.name, path, storeId: node.storeId, level: node.level },
      items: rows.map((r) => itemOf(r, folderId)),
      moments,
    };
  }

  /**
   * Brings items of a folder back as they were at a moment, with everything in them. A file that is still there gets those
   * bytes as a new version; one in the trash is put back; one that was moved elsewhere stays there and is copied. What
   * exists now and did not then is left alone.
   */
  async restore(who: Who, folderId: string, asked: RestorePast): Promise<RestoreAnswer> {
    const at = new Date(asked.at);
    if (at.getTime() > this.clock.now()) throw invalidField('at', 'at.future', 'That moment is still to come.');
    const { zone } = await this.office.settings();
    return this.events.change(async (tx) => {
      await tx.query('SELECT 1 FROM node WHERE id = $1 FOR UPDATE', [folderId]);
      const folder = await this.access.requireNode(who, folderId, 'edit', tx);
      const answer: RestoreAnswer = { restored: 0, same: 0, lost: [] };
      const rows = (await childrenAt(tx, folderId, at)).filter(
        (r) => asked.nodeIds === null || asked.nodeIds.includes(r.id),
      );
      if (asked.nodeIds && rows.length < asked.nodeIds.length) throw notFound('One of these items');
      for (const row of rows)
        await this.bringBack(
          tx,
          who,
          row,
          { sourceId: folderId, targetId: folderId, storeId: folder.storeId },
          at,
          answer,
        );
      await this.ledger.append(tx, {
        kind: 'folder.restored',
        actor: actorOf(who),
        nodeId: folderId,
        detail: {
          name: folder.name,
          at: momentInWords(at.getTime(), this.clock.now(), zone),
          restored: answer.restored,
        },
      });
      return answer;
    });
  }

  private async bringBack(
    tx: EntityManager,
    who: Who,
    row: Row,
    place: { sourceId: string; targetId: string; storeId: string },
    at: Date,
    answer: RestoreAnswer,
  ): Promise<void> {
    await tx.query('SELECT 1 FROM node WHERE id = $1 FOR UPDATE', [row.id]);
    const here = row.now_parent === place.targetId && !row.now_trashed && !row.now_purged;
    await this.events.tell(tx, { topic: 'node', id: place.targetId });
    if (row.kind === 'folder') {
      const targetId = here
        ? row.id
        : row.now_trashed && !row.now_purged
          ? await this.untrash(tx, row, place.targetId, place.storeId)
          : await this.newFolder(tx, who, row.name, place);
      if (!here) answer.restored += 1;
      for (const child of await childrenAt(tx, row.id, at))
        await this.bringBack(tx, who, child, { sourceId: row.id, targetId, storeId: place.storeId }, at, answer);
      return;
    }
    if (row.sha256 === null) {
      answer.lost.push(row.name);
      return;
    }
    const bytes = { sha256: row.sha256, sizeBytes: Number(row.size_bytes), modifiedAt: row.modified_at as Date };
    if (here && row.now_version === row.version_id) answer.same += 1;
    else {
      if (here) await this.versions.addVersion(tx, who, { nodeId: row.id, storeId: place.storeId, ...bytes });
      else if (row.now_trashed && !row.now_purged) {
        await this.untrash(tx, row, place.targetId, place.storeId);
        if (row.now_version !== row.version_id)
          await this.versions.addVersion(tx, who, { nodeId: row.id, storeId: place.storeId, ...bytes });
      } else await this.newFile(tx, who, row.name, place, bytes);
      answer.restored += 1;
    }
  }

  private async untrash(tx: EntityManager, row: Row, folderId: string, storeId: string): Promise<string> {
    const [name] = (await freeNames(tx, folderId, [row.name])) as [string];
    await tx.query(
      'UPDATE node SET trashed_at = NULL, trashed_by = NULL, parent_id = $2, name = $3, name_key = $4, store_id = $5 WHERE id = $1',
      [row.id, folderId, name, nameKey(name), storeId],
    );
    return row.id;
  }

  private async newFolder(
    tx: EntityManager,
    who: Who,
    wished: string,
    place: { targetId: string; storeId: string },
  ): Promise<string> {
    const [name] = (await freeNames(tx, place.targetId, [wished])) as [string];
    const id = uuidv7();
    await tx.query(
      `INSERT INTO node (id, store_id, parent_id, kind, name, name_key, litter, created_at, changed_at, changed_by) VALUES ($1, $2, $3, 'folder', $4, $5, $6, $7, $7, $8)`,
      [id, place.storeId, place.targetId, name, nameKey(name), isLitter(name), this.clock.date(), who.personId],
    );
    return id;
  }

  private async newFile(
    tx: EntityManager,
    who: Who,
    wished: string,
    place: { targetId: string; storeId: string },
    bytes: { sha256: Buffer; sizeBytes: number; modifiedAt: Date },
  ): Promise<void> {
    const [name] = (await freeNames(tx, place.targetId, [wished])) as [string];
    const [id, version] = [uuidv7(), uuidv7()];
    await tx.query(
      `INSERT INTO node (id, store_id, parent_id, kind, name, name_key, litter, size_bytes, media_type, version_id, created_at, changed_at, changed_by) VALUES ($1, $2, $3, 'file', $4, $5, $6, $7, $8, $9, $10, $10, $11)`,
      [
        id,
        place.storeId,
        place.targetId,
        name,
        nameKey(name),
        isLitter(name),
        bytes.sizeBytes,
        lookup(name) || 'application/octet-stream',
        version,
        this.clock.date(),
        who.personId,
      ],
    );
    await tx.query(
      'INSERT INTO file_version (id, node_id, number, sha256, size_bytes, modified_at, created_at, created_by) VALUES ($1, $2, 1, $3, $4, $5, $6, $7)',
      [version, id, bytes.sha256, bytes.sizeBytes, bytes.modifiedAt, this.clock.date(), who.personId],
    );
  }

  private async place(who: Who, folderId: string, needed: 'view' | 'edit', m: EntityManager): Promise<ReachableNode> {
    const [node] = await this.access.reachable(who, [folderId], needed, m);
    if (!node || node.kind !== 'folder') throw notFound('This folder');
    return node;
  }
}

async function childrenAt(m: EntityManager, folderId: string, at: Date): Promise<Row[]> {
  return m.query(
    `SELECT t.node_id AS id, t.kind, t.name, t.version_id, v.number, v.sha256, v.size_bytes, v.modified_at,
            n.parent_id AS now_parent, n.name AS now_name, n.version_id AS now_version, n.trashed_at IS NOT NULL AS now_trashed, n.purged_at IS NOT NULL AS now_purged
       FROM node_past t JOIN node n ON n.id = t.node_id LEFT JOIN file_version v ON v.id = t.version_id
      WHERE t.parent_id = $1 AND t.since <= $2 AND (t.until IS NULL OR t.until > $2) AND NOT t.trashed
      ORDER BY t.kind = 'file', t.name COLLATE natural_order, t.node_id LIMIT ${MOST_ITEMS_SHOWN}`,
    [folderId, at],
  );
}

/** When something in a folder changed; of many moments an even selection. */
async function momentsOf(m: EntityManager, folderId: string): Promise<string[]> {
  const rows = await m.query<{ at: Date }[]>(
    `SELECT DISTINCT date_trunc('second', at) + interval '1 second' AS at FROM (SELECT since AS at FROM node_past WHERE parent_id = $1 UNION ALL SELECT until FROM node_past WHERE parent_id = $1 AND until IS NOT NULL) m ORDER BY at`,
    [folderId],
  );
  const step = Math.max(1, Math.ceil(rows.length / MOST_MOMENTS));
  return rows.filter((_, i) => i % step === 0 || i === rows.length - 1).map((r) => r.at.toISOString());
}

function itemOf(row: Row, folderId: string): PastItem {
  const now = row.now_purged
    ? 'gone'
    : row.now_trashed
      ? 'trashed'
      : row.now_parent !== folderId
        ? 'moved'
        : row.now_version !== row.version_id || row.now_name !== row.name
          ? 'changed'
          : 'same';
  return {
    id: row.id,
    kind: row.kind,
    name: row.name,
    sizeBytes: Number(row.size_bytes ?? 0),
    versionNumber: row.number,
    restorable: row.kind === 'folder' || row.sha256 !== null,
    now,
  };
}
