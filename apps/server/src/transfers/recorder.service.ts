import { Injectable } from '@nestjs/common';
import {
  fileFault,
  admissionWords,
  isLitter,
  nameFault,
  NAME_FAULT_WORDS,
  nameKey,
  normalizeName,
  pathFault,
  PATH_FAULT_WORDS,
  type PathExtent,
  utf8Bytes,
} from '@quay/core';
import type { BatchEntry, ConflictChoice, UploadAnswer } from '@quay/contract';
import { createHash } from 'node:crypto';
import { IsNull, type EntityManager } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';
import { LedgerService } from '../ledger/ledger.service.js';
import { BlobKeeper } from '../platform/blobs/blob-keeper.js';
import type { StagedBlob } from '../platform/blobs/blob-store.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { invalidField, Problem } from '../platform/problems/problem.js';
import { PreviewsService } from '../previews/previews.service.js';
import { lockAccess } from '../access/access-lock.js';
import type { Bringer, FolderAdmission } from '../access/folder-admission.js';
import { AdmissionService, type StoreRules } from '../stores/admission.service.js';
import { lostRace, mediaTypeOf, nameTaken, uniqueName } from '../stores/names.js';
import { FileVersion, Node } from '../stores/stores.entity.js';
import {
  extentTo,
  freeNames,
  lockNodes,
  lockNodeShared,
  insertNodeIfFree,
  insertNodes,
  insertVersions,
  namesIn,
  type NodeRow,
} from '../stores/stores.queries.js';
import { VersionsService } from '../stores/versions.service.js';

export interface Arrived {
  /** Folders below the one that was named, made where they are not there. */
  below: string[];
  name: string;
  modifiedAt: Date | null;
  blob: StagedBlob;
}

export interface Recording {
  folderId: string;
  conflict: ConflictChoice;
  /** When the upload began: what took the name since then was faster, and both are kept. */
  beganAt: Date;
}

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
      const folder = await admitHeld(tx, by, how.folderId, 'alone');
      const rules = await this.admission.rules(folder.storeId, tx);
      const below = { levels: 1, bytes: utf8Bytes(file.name).length };
      await this.admission.requireDepth(tx, folder.folderId, below);
      const kept = await this.record(tx, by, file, { ...how, storeId: folder.storeId }, rules);
      await also?.(tx, kept);
      await this.previews.want(tx, [kept]);
      await this.ledger.append(tx, {
        kind: kept.version > 1 ? 'file.versioned' : 'file.uploaded',
        actor: by.actor,
        nodeId: kept.id,
        detail: { name: kept.name, sizeBytes: kept.sizeBytes, sha256: kept.sha256, version: kept.version },
      });
      return kept;
    });
    this.previews.hurry();
    return answer;
  }

  /**
   * Many small files at once: each is kept or refused by itself, all that are kept commit together. Several batches go
   * into one folder beside each other; one that finds a name taken, or is overtaken, begins again and has the folder
   * to itself.
   */
  async many(
    by: Bringer,
    files: Arrived[],
    how: Recording,
    also: (tx: EntityManager, entries: BatchEntry[]) => Promise<void>,
  ): Promise<BatchEntry[]> {
    try {
      return await this.recordBatch(by, files, how, 'shared', also);
    } catch (error) {
      if (!lostRace(error) && !(error instanceof NameIsTaken)) throw error;
      return this.recordBatch(by, files, how, 'alone', also);
    }
  }

  private async recordBatch(
    by: Bringer,
    files: Arrived[],
    how: Recording,
    lock: LockMode,
    also: (tx: EntityManager, entries: BatchEntry[]) => Promise<void>,
  ): Promise<BatchEntry[]> {
    const entries = await this.events.change(async (tx) => {
      await lockAccess(tx, 'shared');
      await this.keeper.keep(
        tx,
        files.map((f) => f.blob),
      );
      const folder = await admitHeld(tx, by, how.folderId, lock);
      const rules = await this.admission.rules(folder.storeId, tx);
      const told = await this.recordMany(tx, by, files, { ...how, storeId: folder.storeId, lock }, rules);
      await also(tx, told);
      const kept = told.flatMap((e) => ('answer' in e ? [e.answer] : []));
      await this.previews.want(tx, kept);
      if (kept.length > 0) await this.noteBatch(tx, by, kept, { id: how.folderId, name: folder.folderName });
      return told;
    });
    this.previews.hurry();
    return entries;
  }

  private async noteBatch(
    tx: EntityManager,
    by: Bringer,
    kept: UploadAnswer[],
    folder: { id: string; name: string },
  ): Promise<void> {
    const lines = kept.map((a) => `${a.sha256} ${a.id}\n`).sort();
    await this.ledger.append(tx, {
      kind: 'files.uploaded',
      actor: by.actor,
      nodeId: folder.id,
      detail: {
        count: kept.length,
        folder: folder.name,
        sizeBytes: kept.reduce((sum, a) => sum + a.sizeBytes, 0),
        digest: createHash('sha256').update(lines.join('')).digest('hex'),
      },
    });
  }

  /** The files of a batch in a few statements; each that is refused says so and leaves no trace. */
  private async recordMany(
    tx: EntityManager,
    by: Bringer,
    files: Arrived[],
    how: BatchRecording,
    rules: StoreRules,
  ): Promise<BatchEntry[]> {
    const told: BatchEntry[] = [];
    const depth = await extentTo(tx, how.folderId);
    const made = new Set<string>();
    const folders = new Map<string, string | Problem>([['', how.folderId]]);
    const placed: { index: number; file: Arrived; folderId: string; name: string; key: string }[] = [];
    for (const [index, file] of files.entries()) {
      const path = [...file.below, file.name].join('/');
      const name = normalizeName(file.name);
      const fault = fileFault({ name, sizeBytes: file.blob.sizeBytes }, rules);
      const folderId = await this.folderBelow(tx, by, file.below, how, { folders, made, depth });
      const tooDeep = depthProblem(depth, [...file.below, name]);
      const refused =
        folderId instanceof Problem
          ? folderId
          : fault
            ? invalidField('name', fault, admissionWords(fault, rules))
            : tooDeep;
      if (refused) told[index] = { path, code: refused.code, words: refused.message };
      else placed.push({ index, file, folderId: folderId as string, name, key: nameKey(name) });
    }
    const present = await namesIn(tx, placed);
    const fresh: typeof placed = [];
    const taken: typeof placed = [];
    for (const place of placed) {
      const key = `${place.folderId} ${place.key}`;
      if (present.has(key)) taken.push(place);
      else {
        present.add(key);
        made.add(key);
        fresh.push(place);
      }
    }
    if (taken.length > 0 && how.lock === 'shared') throw new NameIsTaken();
    const answers = await this.insertMany(tx, by, fresh, how.storeId);
    fresh.forEach(
      (place, i) =>
        (told[place.index] = {
          path: [...place.file.below, place.file.name].join('/'),
          answer: answers[i] as UploadAnswer,
        }),
    );
    // A name that is taken is decided one by one: by somebody's file as was asked for, by a twin in this batch so that
    // both are kept.
    for (const place of taken) {
      const path = [...place.file.below, place.file.name].join('/');
      const twin = made.has(`${place.folderId} ${place.key}`);
      const decided = { ...how, folderId: place.folderId, conflict: twin ? ('keep-both' as const) : how.conflict };
      told[place.index] = await this.record(tx, by, place.file, decided, rules).then(
        (answer) => ({ path, answer }),
        (error: unknown) => {
          if (error instanceof Problem) return { path, code: error.code, words: error.message };
          throw error;
        },
      );
    }
    for (const id of new Set(placed.map((p) => p.folderId))) await this.events.tell(tx, { topic: 'node', id });
    return told;
  }

  private async insertMany(
    tx: EntityManager,
    by: Bringer,
    files: { file: Arrived; folderId: string; name: string; key: string }[],
    storeId: string,
  ): Promise<UploadAnswer[]> {
    const now = this.clock.date();
    const rows = files.map(({ file, folderId, name, key }) => ({
      node: {
        id: uuidv7(),
        store_id: storeId,
        parent_id: folderId,
        kind: 'file',
        name,
        name_key: key,
        litter: isLitter(name),
        size_bytes: file.blob.sizeBytes,
        media_type: mediaTypeOf(name),
        version_id: uuidv7(),
        created_at: now,
        changed_at: now,
        changed_by: by.actor.id,
      },
      modifiedAt: file.modifiedAt ?? now,
      sha256: file.blob.sha256.toString('hex'),
    }));
    await insertNodes(
      tx,
      rows.map((r) => r.node),
    );
    await insertVersions(
      tx,
      rows.map(({ node, modifiedAt, sha256 }) => ({
        id: node.version_id,
        node_id: node.id,
        number: 1,
        sha256: `\\x${sha256}`,
        size_bytes: node.size_bytes,
        modified_at: modifiedAt,
        created_at: now,
        created_by: by.actor.id,
        charged_to: by.chargedTo,
      })),
    );
    return rows.map(({ node, sha256 }) => ({
      id: node.id,
      name: node.name,
      sizeBytes: node.size_bytes,
      sha256,
      version: 1,
    }));
  }

  /** The folder a file of a batch goes into, made where it is not there; a Problem when it cannot be. */
  private async folderBelow(
    tx: EntityManager,
    by: Bringer,
    below: string[],
    how: BatchRecording,
    batch: { folders: Map<string, string | Problem>; made: Set<string>; depth: PathExtent },
  ): Promise<string | Problem> {
    const { folders, made } = batch;
    let [at, id] = ['', how.folderId];
    for (const [level, part] of below.entries()) {
      const name = normalizeName(part);
      at = `${at}/${nameKey(name)}`;
      let known = folders.get(at);
      if (known === undefined) {
        known =
          depthProblem(batch.depth, below.slice(0, level + 1)) ??
          (await this.makeFolder(tx, by, id, name, how, made).catch((error: unknown) => {
            if (error instanceof Problem) return error;
            throw error;
          }));
        folders.set(at, known);
      }
      if (known instanceof Problem) return known;
      id = known;
    }
    return id;
  }

  private async makeFolder(
    tx: EntityManager,
    by: Bringer,
    parentId: string,
    wished: string,
    how: BatchRecording,
    made: Set<string>,
  ): Promise<string> {
    const fault = nameFault(wished);
    if (fault) throw invalidField('name', fault, `${NAME_FAULT_WORDS[fault]} (the folder "${wished}")`);
    for (;;) {
      const present = await tx.findOne(Node, { where: { parentId, nameKey: nameKey(wished), trashedAt: IsNull() } });
      // Held, so that it stays where it is until this is done. It may be less theirs than what it is in.
      const there = present?.kind === 'folder' ? await unlessHidden(admitHeld(tx, by, present.id, how.lock)) : null;
      if (there) return there.folderId;
      const hidden = present !== null && (present.kind === 'folder' || !(await by.sees(present.id, tx)));
      if (present && !hidden) throw nameTaken(wished);
      const name = hidden ? ((await freeNames(tx, parentId, [wished]))[0] as string) : wished;
      const id = uuidv7();
      // Somebody may be making the same one just now: then it is there, and looked at again.
      if (
        !(await insertNodeIfFree(
          tx,
          folderRow(by, { id, parentId, storeId: how.storeId, name, at: this.clock.date() }),
        ))
      )
        continue;
      made.add(`${parentId} ${nameKey(name)}`);
      await this.events.tell(tx, { topic: 'node', id: parentId });
      return id;
    }
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

  private async record(
    tx: EntityManager,
    by: Bringer,
    file: Arrived,
    how: Recording & { storeId: string },
    rules: StoreRules,
  ): Promise<UploadAnswer> {
    const wished = normalizeName(file.name);
    const { blob } = file;
    const fault = fileFault({ name: wished, sizeBytes: blob.sizeBytes }, rules);
    if (fault) throw invalidField('name', fault, admissionWords(fault, rules));
    const now = this.clock.date();
    const modifiedAt = file.modifiedAt ?? now;
    const present = await this.heldByName(tx, how.folderId, wished);
    const overtaken = present !== null && present.createdAt > how.beganAt && how.conflict === 'refuse';
    // Of what they do not see they are told nothing: both are kept.
    const beside = overtaken || (present !== null && !(await by.sees(present.id, tx)));
    if (present && !beside && (how.conflict === 'refuse' || (how.conflict === 'version' && present.kind === 'folder')))
      throw nameTaken(wished);
    await this.events.tell(tx, { topic: 'node', id: how.folderId });
    const told = { sizeBytes: blob.sizeBytes, sha256: blob.sha256.toString('hex') };
    if (present && !beside && how.conflict === 'version') {
      // To replace what is there takes more than to add to it, unless one has brought it oneself.
      await by.requireChange(present.id, tx);
      const version = await this.versions.addVersion(tx, by, {
        nodeId: present.id,
        storeId: how.storeId,
        sha256: blob.sha256,
        sizeBytes: blob.sizeBytes,
        modifiedAt,
      });
      return { id: present.id, name: present.name, ...told, version };
    }
    const name = present ? ((await freeNames(tx, how.folderId, [wished]))[0] as string) : wished;
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
    return { id, name, ...told, version: 1 };
  }
}

/** Whether others may bring something into the same folder meanwhile. */
type LockMode = 'shared' | 'alone';
type BatchRecording = Recording & { storeId: string; lock: LockMode };

/**
 * A batch that holds its folder together with others has met a name that is taken; what is done then needs it alone.
 */
class NameIsTaken extends Error {}

const folderRow = (
  by: Bringer,
  { id, parentId, storeId, name, at }: { id: string; parentId: string; storeId: string; name: string; at: Date },
): NodeRow => ({
  id,
  store_id: storeId,
  parent_id: parentId,
  kind: 'folder',
  name,
  name_key: nameKey(name),
  litter: isLitter(name),
  size_bytes: 0,
  media_type: null,
  version_id: null,
  created_at: at,
  changed_at: at,
  changed_by: by.actor.id,
});

/**
 * A folder held until the transaction ends, so that it cannot be trashed meanwhile, and what was decided about it then.
 */
async function admitHeld(tx: EntityManager, by: Bringer, folderId: string, lock: LockMode): Promise<FolderAdmission> {
  await (lock === 'alone' ? lockNodes(tx, [folderId]) : lockNodeShared(tx, folderId));
  return by.admit(folderId, tx);
}

/** Null when that is not there for whoever asked; every other refusal stands. */
async function unlessHidden<T>(asked: Promise<T>): Promise<T | null> {
  try {
    return await asked;
  } catch (error) {
    if (error instanceof Problem && error.code === 'not-found') return null;
    throw error;
  }
}

/** Why names one below the other go too deep from there; null when they do not. */
function depthProblem(from: PathExtent, names: readonly string[]): Problem | null {
  const bytes = from.bytes + names.reduce((sum, name) => sum + utf8Bytes(name).length + 1, 0) - 1;
  const fault = pathFault({ levels: from.levels + names.length, bytes });
  return fault && invalidField('name', fault, PATH_FAULT_WORDS[fault]);
}
