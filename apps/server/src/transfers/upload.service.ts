import { Inject, Injectable } from '@nestjs/common';
import { admissionWords, fileFault, nameKey, normalizeName, roomFault } from '@quay/core';
import {
  BATCH_BYTES,
  BATCH_FILE_BYTES,
  BATCH_FILES,
  type BatchAnswer,
  type BatchEntry,
  type CheckAnswer,
  type ConflictChoice,
  type FilesToCheck,
  type UploadAnswer,
} from '@quay/contract';
import { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { extract, type Header } from 'tar-stream';
import { DataSource } from 'typeorm';
import { BLOBS, type AskRoom, type BlobStore, type StagedBlob } from '../platform/blobs/blob-store.js';
import { Clock } from '../platform/clock.js';
import { invalidField, Problem } from '../platform/problems/problem.js';
import { RunningWork } from '../platform/running.js';
import { AccessService } from '../access/access.service.js';
import type { Bringer, FolderAdmission } from '../access/folder-admission.js';
import { AdmissionService } from '../stores/admission.service.js';
import { RoomService } from '../stores/room.service.js';
import { nameTaken } from '../stores/names.js';
import { refusal } from '../stores/refusal.js';
import { takenNames } from '../stores/names.queries.js';
import { BatchRecorder } from './batch-recorder.service.js';
import { Recorder } from './recorder.service.js';
import type { Arrived } from './recording.js';

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
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly access: AccessService,
    private readonly running: RunningWork,
    private readonly admission: AdmissionService,
    private readonly rooms: RoomService,
    private readonly recorder: Recorder,
    private readonly batches: BatchRecorder,
    @Inject(BLOBS) private readonly blobs: BlobStore,
  ) {}

  /** Takes a file in as one stream: bytes first (flushed), then the transaction that names them and refers to them. */
  async upload(by: Bringer, asked: UploadAsked, body: Readable): Promise<UploadAnswer> {
    const beganAt = this.clock.date();
    const { storeId, validUntil } = await this.admit(by, { ...asked, sizeBytes: asked.sizeBytes ?? 0 });
    const largest = (await this.admission.rules(storeId)).largestFileBytes;
    const to = { chargedTo: by.chargedTo, storeId, folderId: asked.folderId };
    return this.rooms.whileBringing(to, asked.sizeBytes, async ({ ask }) => {
      const staging = () => this.blobs.stage(body, asked.sizeBytes, { ask: upToLargest(largest, ask) });
      const going = this.access.bringing(by, asked.folderId);
      const blob = await this.running.while(going, validUntil, () => body.destroy(), staging);
      try {
        return await this.recorder.one(
          by,
          {
            below: [],
            name: asked.name,
            modifiedAt: asked.modifiedAt === null ? null : new Date(asked.modifiedAt),
            blob,
          },
          { folderId: asked.folderId, conflict: asked.conflict, beganAt },
        );
      } finally {
        await blob.discard();
      }
    });
  }

  /** Everything that can be known before a byte moves. */
  async admit(
    by: Bringer,
    asked: { folderId: string; name: string; conflict: ConflictChoice; sizeBytes: number },
  ): Promise<FolderAdmission> {
    const admission = await this.admitFor(by, asked);
    const key = nameKey(asked.name);
    if (asked.conflict === 'refuse' && (await takenNames(this.db.manager, by.actor.id, asked.folderId, [key])).get(key))
      throw nameTaken(asked.name);
    return admission;
  }

  /** The same of one whose name may be taken where it goes: in a folder below, or because it replaces what is there. */
  async admitFor(by: Bringer, asked: { folderId: string; name: string; sizeBytes: number }): Promise<FolderAdmission> {
    const admission = await by.admit(asked.folderId);
    await this.admission.requireFile(admission, asked);
    return admission;
  }

  /** Looks at a whole list before any of it is sent: names, types, sizes, and room for all together. */
  async check(by: Bringer, folderId: string, { files, totalBytes = 0 }: FilesToCheck): Promise<CheckAnswer> {
    const admission = await by.admit(folderId);
    const { storeId } = admission;
    const rules = await this.admission.rules(storeId);
    const taken = await takenNames(
      this.db.manager,
      by.actor.id,
      folderId,
      files.map((f) => nameKey(normalizeName(f.name))),
    );
    const room = await this.rooms.room(admission);
    const full = roomFault(
      Math.max(
        totalBytes,
        files.reduce((sum, f) => sum + f.sizeBytes, 0),
      ),
      room,
    );
    return {
      faults: files.flatMap((file, index) => {
        const code = fileFault(file, rules);
        return code ? [{ index, code, words: admissionWords(code, rules) }] : [];
      }),
      taken: files.flatMap((file, index) => (taken.get(nameKey(normalizeName(file.name))) ? [index] : [])),
      room: full && { code: full, words: admissionWords(full, rules, room) },
    };
  }

  /**
   * Takes many small files in as one tar archive (POSIX.1-2001 pax), all recorded in one transaction. Sent again with
   * the same id, as after a broken connection, it answers what it answered before.
   */
  async batch(
    by: Bringer,
    folderId: string,
    query: { batchId: string; conflict: ConflictChoice },
    body: Readable,
  ): Promise<BatchAnswer> {
    const beganAt = this.clock.date();
    const before = await this.answerTo(by, query.batchId);
    if (before) {
      body.resume();
      return before;
    }
    const admission = await by.admit(folderId);
    const taking = () =>
      this.rooms.whileBringing(admission, null, ({ ask }) => this.takeBatch(by, folderId, query, body, beganAt, ask));
    const going = this.access.bringing(by, folderId);
    try {
      return await this.running.while(going, admission.validUntil, () => body.destroy(), taking);
    } catch (error) {
      // The same batch, sent twice at once: the other one was first, and what it was told holds for both.
      const told = await this.answerTo(by, query.batchId);
      if (told) return told;
      throw error;
    }
  }

  private async answerTo(by: Bringer, batchId: string): Promise<BatchAnswer | null> {
    const [row] = await this.db.query<{ answer: BatchAnswer }[]>(
      'SELECT answer FROM upload_batch WHERE id = $1 AND person_id = $2',
      [batchId, by.actor.id],
    );
    return row?.answer ?? null;
  }

  private async takeBatch(
    by: Bringer,
    folderId: string,
    query: { batchId: string; conflict: ConflictChoice },
    body: Readable,
    beganAt: Date,
    ask: AskRoom,
  ): Promise<BatchAnswer> {
    const files: Arrived[] = [];
    try {
      await this.unpack(body, files, ask);
      const entries = await this.batches.record(
        by,
        files,
        { folderId, conflict: query.conflict, beganAt },
        async (tx, told) => {
          await tx.query('INSERT INTO upload_batch (id, person_id, answer, at) VALUES ($1, $2, $3, $4)', [
            query.batchId,
            by.actor.id,
            JSON.stringify({ entries: told } satisfies BatchAnswer),
            beganAt,
          ]);
        },
      );
      return { entries: entries satisfies BatchEntry[] };
    } finally {
      await Promise.all(files.map((file) => file.blob.discard()));
    }
  }

  private async unpack(body: Readable, files: Arrived[], ask: AskRoom): Promise<void> {
    const archive = extract();
    const entries: { below: string[]; name: string; modifiedAt: Date | null; bytes: Buffer }[] = [];
    let bytes = 0;
    const take = async (entry: AsyncIterable<unknown> & { header: Header }) => {
      const { name: path, size = 0, type, mtime } = entry.header;
      const parts = path.split('/').filter((p) => p !== '' && p !== '.');
      const name = parts.pop();
      if (type !== 'file' || name === undefined || parts.includes('..'))
        throw new Problem('invalid', 'batch.entry', 'A batch holds files only, with paths below its folder.');
      bytes += size;
      if (entries.length >= BATCH_FILES || bytes > BATCH_BYTES * 1.1 || size > BATCH_FILE_BYTES * 1.1)
        throw new Problem(
          'too-large',
          'batch.too-large',
          `A batch holds at most ${BATCH_FILES} files of up to ${BATCH_FILE_BYTES.toLocaleString('en-GB')} bytes.`,
        );
      // None of it is on the disk before all of it is.
      await ask(bytes, 0);
      const pieces: Buffer[] = [];
      for await (const piece of entry) pieces.push(piece as Buffer);
      entries.push({ below: parts, name, modifiedAt: mtime ? new Date(mtime) : null, bytes: Buffer.concat(pieces) });
    };
    const taking = (async () => {
      for await (const entry of archive) await take(entry);
    })();
    try {
      await Promise.all([pipeline(body, archive), taking]);
    } catch (error) {
      archive.destroy();
      await Promise.allSettled([taking]);
      if (error instanceof Problem) throw error;
      throw new Problem(
        'invalid',
        'batch.cut',
        'The batch ended before all of it had arrived, or is no archive. Nothing of it was kept; send it again.',
      );
    }
    if (entries.length === 0) throw invalidField('body', 'batch.empty', 'There is no file in this batch.');
    const blobs = await this.blobs.stageEach(entries.map((e) => e.bytes));
    for (const [i, { bytes: _, ...entry }] of entries.entries()) files.push({ ...entry, blob: blobs[i] as StagedBlob });
  }
}

/** A stream of unknown length is ended where it passes what the store takes. */
function upToLargest(largestFileBytes: number | null, ask: AskRoom): AskRoom {
  if (largestFileBytes === null) return ask;
  return async (upTo, written) => {
    if (upTo > largestFileBytes) throw refusal('file.too-large', { allowedTypes: [], largestFileBytes });
    return Math.min(await ask(upTo, written), largestFileBytes);
  };
}
