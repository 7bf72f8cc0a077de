import { Inject, Injectable } from '@nestjs/common';
import { isLitter, keepBothName, nameKey } from '@quay/core';
import type { ConflictChoice, UploadAnswer } from '@quay/contract';
import { lookup } from 'mime-types';
import type { Readable } from 'node:stream';
import { DataSource, IsNull, type EntityManager } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';
import { LedgerService } from '../ledger/ledger.service.js';
import type { Who } from '../people/who.js';
import { BLOBS, type BlobStore, type StoredBlob } from '../platform/blobs/blob-store.js';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Events } from '../platform/events/events.js';
import { Problem } from '../platform/problems/problem.js';
import { AccessService } from '../stores/access.service.js';
import { FileVersion, Node } from '../stores/stores.entity.js';
import { actorOf, nameTaken, StoresService, uniqueName } from '../stores/stores.service.js';
import { takenKeys } from '../stores/stores.queries.js';

export interface UploadAsked {
  folderId: string;
  name: string;
  conflict: ConflictChoice;
  modifiedAt: number | null;
  /** As announced; null when the sender does not know. */
  sizeBytes: number | null;
}

@Injectable()
export class UploadService {
  /** Bytes that uploads now under way in this process have announced and not yet written. */
  private announced = 0;

  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly access: AccessService,
    private readonly stores: StoresService,
    private readonly ledger: LedgerService,
    private readonly events: Events,
    @Inject(BLOBS) private readonly blobs: BlobStore,
    @Inject(CONFIG) private readonly config: Config,
  ) {}

  /** Takes a file in: bytes first (flushed and named), then the transaction that refers to them. */
  async upload(who: Who, asked: UploadAsked, body: Readable): Promise<UploadAnswer> {
    await this.access.requireNode(who, asked.folderId, asked.conflict === 'version' ? 'edit' : 'contribute');
    if (asked.conflict === 'refuse' && (await takenKeys(this.db.manager, asked.folderId, [nameKey(asked.name)])).size > 0) throw nameTaken(asked.name);
    const announced = asked.sizeBytes ?? 0;
    await this.requireRoom(announced);
    this.announced += announced;
    let blob: StoredBlob;
    try {
      blob = await this.blobs.put(body, asked.sizeBytes);
    } finally {
      this.announced -= announced;
    }
    return this.events.change((tx) => this.record(tx, who, asked, blob));
  }

  private async requireRoom(sizeBytes: number): Promise<void> {
    const free = (await this.blobs.freeBytes()) - this.config.keepFreeBytes - this.announced;
    if (sizeBytes > free) throw new Problem('no-space', 'disk.full', 'The server has no room for a file of that size. Nothing was kept of it.', { freeBytes: Math.max(0, free), sizeBytes });
  }

  private async record(tx: EntityManager, who: Who, asked: UploadAsked, blob: StoredBlob): Promise<UploadAnswer> {
    const folder = await this.stores.lockFolder(who, asked.folderId, tx);
    const now = this.clock.date();
    await tx.query('INSERT INTO blob (sha256, size_bytes, crc32, created_at) VALUES ($1, $2, $3, $4) ON CONFLICT DO NOTHING', [blob.sha256, blob.sizeBytes, blob.crc32, now]);
    const present = await tx.findOne(Node, { where: { parentId: asked.folderId, nameKey: nameKey(asked.name), trashedAt: IsNull() } });
    if (present && (asked.conflict === 'refuse' || (asked.conflict === 'version' && present.kind === 'folder'))) throw nameTaken(asked.name);
    const replaced = present && asked.conflict === 'version' ? present : null;
    const name = present && !replaced ? await this.freeName(tx, asked) : asked.name;
    const version = new FileVersion();
    Object.assign(version, { id: uuidv7(), nodeId: replaced?.id ?? uuidv7(), number: replaced ? await nextNumber(tx, replaced.id) : 1, sha256: blob.sha256, sizeBytes: blob.sizeBytes, modifiedAt: asked.modifiedAt === null ? now : new Date(asked.modifiedAt), createdAt: now, createdBy: who.personId });
    const changed = { sizeBytes: blob.sizeBytes, versionId: version.id, changedAt: now, changedBy: who.personId };
    if (replaced) await tx.update(Node, { id: replaced.id }, changed);
    else await uniqueName(name, () => tx.insert(Node, { ...changed, id: version.nodeId, storeId: folder.storeId, parentId: asked.folderId, kind: 'file', name, nameKey: nameKey(name), litter: isLitter(name), mediaType: lookup(name) || 'application/octet-stream', createdAt: now }));
    await tx.insert(FileVersion, version);
    await this.events.tell(tx, { topic: 'node', id: asked.folderId });
    await this.ledger.append(tx, { kind: replaced ? 'file.versioned' : 'file.uploaded', actor: actorOf(who), nodeId: version.nodeId, detail: { name, sizeBytes: blob.sizeBytes, sha256: blob.sha256.toString('hex'), version: version.number } });
    return { id: version.nodeId, name, sizeBytes: blob.sizeBytes, sha256: blob.sha256.toString('hex'), version: version.number };
  }

  private async freeName(tx: EntityManager, asked: UploadAsked): Promise<string> {
    const rows = await tx.query<{ name_key: string }[]>('SELECT name_key FROM node WHERE parent_id = $1 AND trashed_at IS NULL', [asked.folderId]);
    const taken = new Set(rows.map((r) => r.name_key));
    return keepBothName(asked.name, (key) => taken.has(key));
  }
}

async function nextNumber(tx: EntityManager, nodeId: string): Promise<number> {
  const [row] = await tx.query<{ n: number }[]>('SELECT max(number) + 1 AS n FROM file_version WHERE node_id = $1', [nodeId]);
  return row?.n ?? 1;
}
