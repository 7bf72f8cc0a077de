import { Injectable } from '@nestjs/common';
import { admissionWords, fileFault, isLitter, nameKey, normalizeName } from '@quay/core';
import type { BatchEntry, UploadAnswer } from '@quay/contract';
import { createHash } from 'node:crypto';
import { type EntityManager } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';
import { LedgerService } from '../ledger/ledger.service.js';
import { BlobKeeper } from '../platform/blobs/blob-keeper.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { invalidField, Problem } from '../platform/problems/problem.js';
import { PreviewsService } from '../previews/previews.service.js';
import { lockAccess } from '../access/access-lock.js';
import type { Bringer, FolderAdmission } from '../access/folder-admission.js';
import { AdmissionService, type StoreRules } from '../stores/admission.service.js';
import { lostRace, mediaTypeOf } from '../stores/names.js';
import { insertNodes, insertVersions, namesIn } from '../stores/names.queries.js';
import { FoldersBelow, placeKey, type Below } from './folders-below.js';
import { Recorder } from './recorder.service.js';
import {
  admitLocked,
  depthProblem,
  type Arrived,
  type LockMode,
  type PlacedBytes,
  type Recording,
} from './recording.js';

type BatchRecording = Recording & { storeId: string; lock: LockMode };

/** A file of a batch with its place: where it goes, under which name. */
interface Placed {
  index: number;
  path: string;
  file: PlacedBytes;
  folderId: string;
  name: string;
  key: string;
}

/** What a batch has met so far. */
interface Batch extends Below {
  how: BatchRecording;
  rules: StoreRules;
  entries: BatchEntry[];
}

/** Records many small files at once: as {@link Recorder} would each, in a few statements. */
@Injectable()
export class BatchRecorder {
  constructor(
    private readonly clock: Clock,
    private readonly recorder: Recorder,
    private readonly admission: AdmissionService,
    private readonly folders: FoldersBelow,
    private readonly keeper: BlobKeeper,
    private readonly ledger: LedgerService,
    private readonly events: Events,
    private readonly previews: PreviewsService,
  ) {}

  /**
   * Many small files at once: each is kept or refused by itself, all that are kept commit together. Several batches go
   * into one folder beside each other; one that finds a name taken, or is overtaken, begins again and has the folder
   * to itself.
   */
  async record(
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
      const { recorded, folder } = await this.recordIn(tx, by, files, how, lock);
      await also(tx, recorded);
      const kept = recorded.flatMap((e) => ('answer' in e ? [e.answer] : []));
      if (kept.length > 0) await this.noteBatch(tx, by, kept, { id: how.folderId, name: folder.folderName });
      return recorded;
    });
    this.previews.hurry();
    return entries;
  }

  /** The same of files whose bytes are kept, within a transaction that began with the access lock and tells of it. */
  async recordIn(
    tx: EntityManager,
    by: Bringer,
    files: PlacedBytes[],
    how: Recording,
    lock: LockMode,
  ): Promise<{ recorded: BatchEntry[]; folder: FolderAdmission }> {
    const folder = await admitLocked(tx, by, how.folderId, lock);
    const rules = await this.admission.rules(folder.storeId, tx);
    const recording = { ...how, storeId: folder.storeId, lock };
    const batch: Batch = {
      ...(await this.folders.begin(tx, by, recording)),
      ...{ rules, how: recording, entries: [] },
    };
    const recorded = await this.recordMany(batch, files);
    await this.previews.want(
      tx,
      recorded.flatMap((e) => ('answer' in e ? [e.answer] : [])),
    );
    return { recorded, folder };
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
  private async recordMany(batch: Batch, files: PlacedBytes[]): Promise<BatchEntry[]> {
    const { tx, how, entries } = batch;
    const placed = await this.place(batch, files);
    const present = await namesIn(tx, placed);
    const fresh: Placed[] = [];
    const taken: Placed[] = [];
    for (const place of placed) {
      const key = placeKey(place);
      if (present.has(key)) taken.push(place);
      else {
        present.add(key);
        batch.made.add(key);
        fresh.push(place);
      }
    }
    if (taken.length > 0 && how.lock === 'shared') throw new NameIsTaken();
    const answers = await this.insertMany(batch, fresh);
    for (const [i, { index, path }] of fresh.entries()) entries[index] = { path, answer: answers[i] as UploadAnswer };
    for (const place of taken) entries[place.index] = await this.decide(batch, place);
    for (const id of new Set(placed.map((p) => p.folderId))) await this.events.tell(tx, { topic: 'node', id });
    return entries;
  }

  /** Where each file goes; of those that are refused the entry is written. */
  private async place(batch: Batch, files: PlacedBytes[]): Promise<Placed[]> {
    const placed: Placed[] = [];
    for (const [index, file] of files.entries()) {
      const path = [...file.below, file.name].join('/');
      const name = normalizeName(file.name);
      const folderId = await this.folders.folder(batch, file.below);
      const refused = folderId instanceof Problem ? folderId : faultOf(batch, file, name);
      if (refused) batch.entries[index] = { path, code: refused.code, words: refused.message };
      else placed.push({ index, path, file, folderId: folderId as string, name, key: nameKey(name) });
    }
    return placed;
  }

  /**
   * A name that is taken is decided one by one: by somebody's file as was asked for, by a twin in this batch so that
   * both are kept.
   */
  private async decide({ tx, by, how, rules, made }: Batch, place: Placed): Promise<BatchEntry> {
    const { path, folderId, file } = place;
    const conflict = made.has(placeKey(place)) ? 'keep-both' : how.conflict;
    try {
      return { path, answer: await this.recorder.record(tx, by, file, { ...how, folderId, conflict }, rules) };
    } catch (error) {
      if (error instanceof Problem) return { path, code: error.code, words: error.message };
      throw error;
    }
  }

  private async insertMany({ tx, by, how }: Batch, files: Placed[]): Promise<UploadAnswer[]> {
    const now = this.clock.date();
    const rows = files.map(({ file, folderId, name, key }) => ({
      node: {
        id: uuidv7(),
        store_id: how.storeId,
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
}

function faultOf({ rules, depth }: Batch, file: PlacedBytes, name: string): Problem | null {
  const fault = fileFault({ name, sizeBytes: file.blob.sizeBytes }, rules);
  return fault ? invalidField('name', fault, admissionWords(fault, rules)) : depthProblem(depth, [...file.below, name]);
}

/**
 * A batch that shares its folder with others has met a name that is taken; what is done then needs it alone.
 */
class NameIsTaken extends Error {}
