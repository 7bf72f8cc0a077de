import { Injectable } from '@nestjs/common';
import { fileFault, admissionWords, isLitter, nameKey, normalizeName } from '@quay/core';
import type { UploadAnswer } from '@quay/contract';
import { IsNull, type EntityManager } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';
import { LedgerService } from '../ledger/ledger.service.js';
import { BlobKeeper } from '../platform/blobs/blob-keeper.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { invalidField, notFound, Problem } from '../platform/problems/problem.js';
import { PreviewsService } from '../previews/previews.service.js';
import { lockAccess } from '../access/access-lock.js';
import type { Bringer } from '../access/folder-admission.js';
import { AdmissionService, type StoreRules } from '../stores/admission.service.js';
import { mediaTypeOf, nameTaken, uniqueName } from '../stores/names.js';
import { FileVersion, Node } from '../stores/stores.entity.js';
import { lockNodes } from '../stores/branch.queries.js';
import { freeNames } from '../stores/names.queries.js';
import { VersionsService } from '../stores/versions.service.js';
import { FoldersBelow } from './folders-below.js';
import { admitLocked, depthProblem, type Arrived, type PlacedBytes, type Recording } from './recording.js';

/**
 * Writes down files whose bytes have arrived: names the bytes, then the versions that refer to them, in one
 * transaction.
 */
@Injectable()
export class Recorder {
  constructor(
    private readonly clock: Clock,
    private readonly versions: VersionsService,
    private readonly admission: AdmissionService,
    private readonly folders: FoldersBelow,
    private readonly keeper: BlobKeeper,
    private readonly ledger: LedgerService,
    private readonly events: Events,
    private readonly previews: PreviewsService,
  ) {}

  /** One file. @throws Problem name.taken and the faults of admission; the staged bytes are then still there */
  async one(
    by: Bringer,
    file: Arrived,
    how: Recording,
    also?: (tx: EntityManager, answer: UploadAnswer) => Promise<void>,
  ): Promise<UploadAnswer> {
    const answer = await this.events.change(async (tx) => {
      await lockAccess(tx, 'shared');
      await this.keeper.keep(tx, [file.blob]);
      const kept = how.replaces
        ? await this.replace(tx, by, file, how, how.replaces)
        : await this.recordBelow(tx, by, file, how);
      await also?.(tx, kept);
      await this.previews.want(tx, [kept]);
      const said = await by.writes?.(tx, kept);
      await this.ledger.append(tx, {
        kind: kept.version > 1 ? 'file.versioned' : 'file.uploaded',
        ...said,
        actor: by.actor,
        nodeId: kept.id,
        detail: {
          ...{ name: kept.name, sizeBytes: kept.sizeBytes, sha256: kept.sha256, version: kept.version },
          ...said?.detail,
        },
      });
      return kept;
    });
    this.previews.hurry();
    return answer;
  }

  private async recordBelow(tx: EntityManager, by: Bringer, file: Arrived, how: Recording): Promise<UploadAnswer> {
    const { folderId, storeId } = await admitLocked(tx, by, how.folderId, 'alone');
    const rules = await this.admission.rules(storeId, tx);
    const below = await this.folders.begin(tx, by, { folderId, storeId, lock: 'alone' });
    const to = await this.folders.folder(below, file.below);
    const fault = to instanceof Problem ? to : depthProblem(below.depth, [...file.below, file.name]);
    if (fault) throw fault;
    return this.record(tx, by, file, { ...how, folderId: to as string, storeId }, rules);
  }

  /** Puts another version on one file, which keeps its name. */
  private async replace(
    tx: EntityManager,
    by: Bringer,
    { blob, modifiedAt }: Arrived,
    { folderId, base }: Recording,
    nodeId: string,
  ): Promise<UploadAnswer> {
    const admission = await admitLocked(tx, by, folderId, 'alone');
    await lockNodes(tx, [nodeId]);
    const file = await tx.findOne(Node, { where: { id: nodeId, kind: 'file', trashedAt: IsNull() } });
    if (!file) throw notFound('This file');
    if (file.parentId !== admission.folderId)
      throw new Problem('conflict', 'conflict.busy', 'That file is being moved at this moment. Try again.');
    await by.requireChange(nodeId, tx);
    if (base) await requireBase(tx, file, base);
    const rules = await this.admission.rules(file.storeId, tx);
    const fault = fileFault({ name: file.name, sizeBytes: blob.sizeBytes }, rules);
    if (fault) throw invalidField('name', fault, admissionWords(fault, rules));
    await this.events.tell(tx, { topic: 'node', id: admission.folderId });
    return this.addVersion(tx, by, file, { blob, modifiedAt: modifiedAt ?? this.clock.date() });
  }

  private async addVersion(
    tx: EntityManager,
    by: Bringer,
    { id, storeId, name }: Node,
    { blob: { sha256, sizeBytes }, modifiedAt }: { blob: PlacedBytes['blob']; modifiedAt: Date },
  ): Promise<UploadAnswer> {
    const version = await this.versions.addVersion(tx, by, { nodeId: id, storeId, sha256, sizeBytes, modifiedAt });
    return { id, name, sizeBytes, sha256: sha256.toString('hex'), version };
  }

  /**
   * The live item of that name, held and then read again: it may have gone to the trash while its lock was waited for.
   */
  private async heldByName(tx: EntityManager, folderId: string, name: string): Promise<Node | null> {
    const where = { parentId: folderId, nameKey: nameKey(name), trashedAt: IsNull() };
    const present = await tx.findOne(Node, { where });
    if (!present) return null;
    await lockNodes(tx, [present.id]);
    return tx.findOne(Node, { where });
  }

  /** One file, in a transaction that holds the folder. For batches too. */
  async record(
    tx: EntityManager,
    by: Bringer,
    file: PlacedBytes,
    how: Recording & { storeId: string },
    rules: StoreRules,
  ): Promise<UploadAnswer> {
    const wished = normalizeName(file.name);
    const { blob } = file;
    const fault = fileFault({ name: wished, sizeBytes: blob.sizeBytes }, rules);
    if (fault) throw invalidField('name', fault, admissionWords(fault, rules));
    const modifiedAt = file.modifiedAt ?? this.clock.date();
    const present = await this.heldByName(tx, how.folderId, wished);
    const overtaken = present !== null && present.createdAt > how.beganAt && how.conflict === 'refuse';
    // Of what they do not see they are told nothing: both are kept.
    const beside = overtaken || (present !== null && !(await by.sees(present.id, tx)));
    if (present && !beside && (how.conflict === 'refuse' || (how.conflict === 'version' && present.kind === 'folder')))
      throw nameTaken(wished);
    await this.events.tell(tx, { topic: 'node', id: how.folderId });
    const facts = { sizeBytes: blob.sizeBytes, sha256: blob.sha256.toString('hex') };
    if (present && !beside && how.conflict === 'version') {
      // To replace what is there takes more than to add to it, unless one has brought it oneself.
      await by.requireChange(present.id, tx);
      if (how.base) await requireBase(tx, present, how.base);
      return this.addVersion(tx, by, present, { blob, modifiedAt });
    }
    const name = present ? ((await freeNames(tx, how.folderId, [wished]))[0] as string) : wished;
    const id = await this.insert(tx, by, how, { name, blob, modifiedAt });
    return { id, name, ...facts, version: 1 };
  }

  private async insert(
    tx: EntityManager,
    by: Bringer,
    how: { folderId: string; storeId: string },
    { name, blob, modifiedAt }: { name: string; blob: PlacedBytes['blob']; modifiedAt: Date },
  ): Promise<string> {
    const now = this.clock.date();
    const [id, versionId] = [uuidv7(), uuidv7()];
    await uniqueName(name, () =>
      tx.insert(Node, {
        id,
        storeId: how.storeId,
        parentId: how.folderId,
        kind: 'file',
        name,
        nameKey: nameKey(name),
        litter: isLitter(name),
        sizeBytes: blob.sizeBytes,
        mediaType: mediaTypeOf(name),
        versionId,
        createdAt: now,
        changedAt: now,
        changedBy: by.actor.id,
      }),
    );
    await tx.insert(FileVersion, {
      id: versionId,
      nodeId: id,
      number: 1,
      sha256: blob.sha256,
      sizeBytes: blob.sizeBytes,
      modifiedAt,
      createdAt: now,
      createdBy: by.actor.id,
      chargedTo: by.chargedTo,
    });
    return id;
  }
}

/** @throws Problem file.newer: another version was put there meanwhile, which is not to be covered unseen */
async function requireBase(tx: EntityManager, file: Node, base: Buffer): Promise<void> {
  const [now] = await tx.query<{ sha256: Buffer; number: number; at: Date; by: string | null }[]>(
    `SELECT v.sha256, v.number, v.created_at AS at, a.name AS by
       FROM file_version v LEFT JOIN actor a ON a.id = v.created_by WHERE v.id = $1`,
    [file.versionId],
  );
  if (!now || now.sha256.equals(base)) return;
  throw new Problem(
    'conflict',
    'file.newer',
    `${now.by ?? 'Somebody'} has put a newer version of ${file.name} there. Keep both, or put yours over it: theirs stays as a version.`,
    { by: now.by, at: now.at.toISOString(), version: now.number },
  );
}
