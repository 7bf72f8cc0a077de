import { Inject, Injectable, type OnModuleInit } from '@nestjs/common';
import { nameFault, NAME_FAULT_WORDS, normalizeName } from '@quay/core';
import {
  uploadMetadataSchema,
  type ConflictChoice,
  type OpenUpload,
  type UploadAnswer,
  type UploadMetadata,
} from '@quay/contract';
import { Upload } from '@tus/server';
import type { NextFunction, Request, Response } from 'express';
import { randomUUID } from 'node:crypto';
import { Readable } from 'node:stream';
import { DataSource } from 'typeorm';
import { AccessService } from '../access/access.service.js';
import type { Bringer, FolderAdmission } from '../access/folder-admission.js';
import { noSession, sessionSecret } from '../people/signed-in.guard.js';
import { clientAddress } from '../platform/client-address.js';
import { SessionService } from '../people/session.service.js';
import type { Who } from '../people/who.js';
import { BLOBS, type BlobStore } from '../platform/blobs/blob-store.js';
import { Clock } from '../platform/clock.js';
import { Housekeeping } from '../platform/housekeeping.js';
import { asProblem, sendProblem } from '../platform/problems/problem.filter.js';
import { invalidField, notFound, Problem } from '../platform/problems/problem.js';
import { RunningWork } from '../platform/running.js';
import { valid } from '../platform/problems/valid.pipe.js';
import { RoomService } from '../stores/room.service.js';
import { PartsService } from './parts.service.js';
import { metadataOf, PiecesStore } from './pieces.js';
import { Recorder } from './recorder.service.js';
import { UploadService } from './upload.service.js';

export const UPLOADS_PATH = '/api/uploads';
/** How long a part waits for the rest before it is removed. */
export const PART_KEPT_MS = 7 * 24 * 3600 * 1000;

/** Whoever sends in pieces, and the path that they send to. */
export interface Sender {
  bringer: Bringer;
  path: string;
}

interface Row {
  id: string;
  actor_id: string;
  folder_id: string;
  name: string;
  conflict: ConflictChoice;
  modified_at: Date | null;
  size_bytes: string;
  offset_bytes: string;
  writer: string | null;
  created_at: Date;
  touched_at: Date;
  answer: UploadAnswer | null;
  base_sha256: Buffer | null;
  below: string[];
  replaces: string | null;
}

/** Files for folders that come in pieces. */
@Injectable()
export class ResumableService extends PiecesStore<Sender> implements OnModuleInit {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly sessions: SessionService,
    private readonly access: AccessService,
    private readonly running: RunningWork,
    private readonly uploads: UploadService,
    private readonly recorder: Recorder,
    private readonly rooms: RoomService,
    private readonly housekeeping: Housekeeping,
    @Inject(BLOBS) private readonly blobs: BlobStore,
    private readonly parts: PartsService,
  ) {
    super(UPLOADS_PATH);
  }

  onModuleInit(): void {
    this.housekeeping.add('parts of uploads', () => this.expire());
    this.parts.keep(() => this.goingOn());
  }

  /** Takes what the protocol asks at {@link UPLOADS_PATH}; other requests go on. */
  handler() {
    return async (req: Request, res: Response, next: NextFunction): Promise<void> => {
      if (!req.path.startsWith(UPLOADS_PATH) || req.method === 'GET' || req.path.endsWith('/finish')) {
        next();
        return;
      }
      try {
        const secret = sessionSecret(req.headers.cookie);
        const who = secret ? await this.sessions.whoHolds(secret, clientAddress(req)) : null;
        if (!who) throw noSession();
        await this.handle({ bringer: this.access.bringer(who), path: UPLOADS_PATH }, req, res);
      } catch (error) {
        sendProblem(asProblem(error), req, res);
      }
    };
  }

  /** Somebody's uploads that have not ended. */
  async open(who: Who): Promise<OpenUpload[]> {
    const rows = await this.db.query<(Row & { folder_name: string })[]>(
      `SELECT u.*, n.name AS folder_name FROM upload u JOIN node n ON n.id = u.folder_id
        WHERE u.actor_id = $1 AND u.share_id IS NULL AND u.answer IS NULL ORDER BY u.created_at`,
      [who.personId],
    );
    return rows.map((r) => ({
      id: r.id,
      folderId: r.folder_id,
      folderName: r.folder_name,
      name: r.name,
      sizeBytes: Number(r.size_bytes),
      offsetBytes: Number(r.offset_bytes),
      touchedAt: r.touched_at.toISOString(),
      removedAt: new Date(r.touched_at.getTime() + PART_KEPT_MS).toISOString(),
    }));
  }

  /** What became of an upload: its answer, or that it has not ended. */
  async outcome(by: Bringer, id: string): Promise<{ answer: UploadAnswer | null; offsetBytes: number }> {
    const row = await this.mine(by, id);
    return { answer: row.answer, offsetBytes: Number(row.offset_bytes) };
  }

  /** Ends a complete upload whose name was taken, by another decision. */
  async finish(by: Bringer, id: string, conflict: ConflictChoice): Promise<UploadAnswer> {
    const row = await this.mine(by, id);
    if (Number(row.offset_bytes) < Number(row.size_bytes))
      throw new Problem('conflict', 'upload.incomplete', 'Not all of this upload has arrived yet.');
    return this.settle(by, id, conflict);
  }

  // What the protocol asks of its store.

  override async create(upload: Upload): Promise<Upload> {
    const { bringer } = this.sender();
    const asked = valid<UploadMetadata>(uploadMetadataSchema).transform(metadataOf(upload, METADATA));
    const sizeBytes = upload.size ?? 0;
    const { folderId } = await this.admitted(bringer, asked, sizeBytes);
    const now = this.clock.date();
    await this.db.query(
      `INSERT INTO upload (id, actor_id, folder_id, name, conflict, modified_at, size_bytes, created_at, touched_at, share_id,
         base_sha256, below, replaces) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $8, $9, $10, $11, $12)`,
      [
        upload.id,
        bringer.actor.id,
        folderId,
        normalizeName(asked.name),
        asked.replaces === undefined ? asked.conflict : 'version',
        asked.modifiedAt === undefined ? null : new Date(asked.modifiedAt),
        sizeBytes,
        now,
        bringer.shareId ?? null,
        asked.base === undefined ? null : Buffer.from(asked.base, 'hex'),
        belowOf(asked),
        asked.replaces ?? null,
      ],
    );
    upload.creation_date = now.toISOString();
    return upload;
  }

  /** @throws Problem what can be known before a byte moves */
  private async admitted(by: Bringer, asked: UploadMetadata, sizeBytes: number): Promise<FolderAdmission> {
    const { folderId = '', replaces, name, conflict } = asked;
    if (replaces !== undefined) return this.uploads.admitFor(replacing(by, replaces), { folderId, name, sizeBytes });
    const below = belowOf(asked);
    if (below.length === 0) return this.uploads.admit(by, { folderId, name, conflict, sizeBytes });
    for (const each of below) requireFolderName(each);
    return this.uploads.admitFor(by, { folderId, name, sizeBytes });
  }

  override async write(stream: Readable, id: string, offset: number): Promise<number> {
    const { bringer: sender } = this.sender();
    const row = await this.mine(sender, id);
    const bringer = row.replaces ? replacing(sender, row.replaces) : sender;
    const size = Number(row.size_bytes);
    // Asked again after its end, as when the answer was lost: everything is there.
    if (offset === size) {
      await this.settle(bringer, id);
      return size;
    }
    const admission = await bringer.admit(row.folder_id, undefined, { trashedToo: true });
    const writer = randomUUID();
    const [, begun] = (await this.db.query(
      'UPDATE upload SET writer = $2, touched_at = $3 WHERE id = $1 AND answer IS NULL',
      [id, writer, this.clock.date()],
    )) as [unknown, number];
    if (begun === 0) throw notFound('This upload');
    const flushedTo = async (safe: number) => {
      const [, changed] = (await this.db.query(
        `UPDATE upload SET offset_bytes = $3, touched_at = $4
          WHERE id = $1 AND writer = $2 AND $3::bigint >= offset_bytes`,
        [id, writer, safe, this.clock.date()],
      )) as [unknown, number];
      // Another request has taken over: what still comes here is not wanted any more.
      if (changed === 0) stream.destroy();
    };
    const by = { ...admission, lasting: { kind: 'upload' as const, id } };
    const appending = () =>
      this.rooms.whileBringing(
        by,
        size,
        ({ ask }) => this.blobs.parts.append(id, offset, stream, size, flushedTo, ask),
        offset,
      );
    const length = await this.running
      .while(this.access.bringing(bringer, row.folder_id), admission.validUntil, () => stream.destroy(), appending)
      .catch((error: unknown) => {
        throw noRoomForMore(error);
      });
    if (length === size) await this.settle(bringer, id);
    return length;
  }

  override async getUpload(id: string): Promise<Upload> {
    const row = await this.mine(this.sender().bringer, id);
    return new Upload({
      id,
      size: Number(row.size_bytes),
      offset: Number(row.offset_bytes),
      creation_date: row.touched_at.toISOString(),
      metadata: { name: row.name },
    });
  }

  override async remove(id: string): Promise<void> {
    await this.mine(this.sender().bringer, id);
    await this.forget(id);
  }

  protected override async whole({ id }: Upload): Promise<void> {
    await this.settle(this.sender().bringer, id);
  }

  /** Records a complete upload; the second time it answers what it answered before. */
  private async settle(by: Bringer, id: string, conflict?: ConflictChoice): Promise<UploadAnswer> {
    const row = await this.mine(by, id);
    if (row.answer) return row.answer;
    if (row.replaces && conflict === 'keep-both') throw onlyReplaces();
    const blob = await this.blobs.parts.finish(id, Number(row.size_bytes)).catch((error: NodeJS.ErrnoException) => {
      // An empty file never gets a part.
      if (error.code === 'ENOENT' && Number(row.size_bytes) === 0) return this.emptyPart(id);
      throw error;
    });
    try {
      const answer = await this.recorder.one(
        row.replaces ? replacing(by, row.replaces) : by,
        { below: row.below, name: row.name, modifiedAt: row.modified_at, blob },
        {
          ...{ folderId: row.folder_id, replaces: row.replaces },
          conflict: conflict ?? row.conflict,
          beganAt: row.created_at,
          // Whoever decides anew has been told what is there by now.
          base: conflict ? null : row.base_sha256,
        },
        async (tx, told) => {
          const [, changed] = (await tx.query(
            'UPDATE upload SET answer = $2, touched_at = $3 WHERE id = $1 AND answer IS NULL',
            [id, JSON.stringify(told), this.clock.date()],
          )) as [unknown, number];
          if (changed === 0)
            throw new Problem('conflict', 'conflict.busy', 'This upload is being ended by another request.');
          await this.rooms.giveBack(tx, [id]);
        },
      );
      await this.blobs.parts.remove(id);
      return answer;
    } catch (error) {
      const again = await this.mine(by, id);
      if (again.answer) return again.answer;
      throw error;
    }
  }

  private async emptyPart(id: string) {
    await this.blobs.parts.append(id, 0, Readable.from([]), 0, async () => undefined);
    return this.blobs.parts.finish(id, 0);
  }

  private async expire(): Promise<void> {
    const before = new Date(this.clock.now() - PART_KEPT_MS);
    // Asked for in the same statement that removes it: what is gone on with at this moment stays.
    const [gone] = (await this.db.query('DELETE FROM upload WHERE touched_at < $1 RETURNING id', [before])) as [
      { id: string }[],
      number,
    ];
    for (const { id } of gone) await this.blobs.parts.remove(id);
    await this.db.query('DELETE FROM upload_batch WHERE at < $1', [before]);
  }

  private async goingOn(): Promise<string[]> {
    const rows = await this.db.query<{ id: string }[]>('SELECT id FROM upload WHERE answer IS NULL');
    return rows.map((r) => r.id);
  }

  private async forget(id: string): Promise<void> {
    await this.db.query('DELETE FROM upload WHERE id = $1', [id]);
    await this.blobs.parts.remove(id);
  }

  private async mine({ actor, shareId }: Bringer, id: string): Promise<Row> {
    const [row] = /^[0-9a-f-]{36}$/.test(id)
      ? await this.db.query<Row[]>(
          'SELECT * FROM upload WHERE id = $1 AND actor_id = $2 AND share_id IS NOT DISTINCT FROM $3::uuid',
          [id, actor.id, shareId ?? null],
        )
      : [];
    if (!row) throw notFound('This upload');
    return row;
  }
}

/** What of the metadata is ours. */
const METADATA = ['folderId', 'path', 'replaces', 'name', 'conflict', 'modifiedAt', 'base'];

const belowOf = ({ path = '' }: UploadMetadata): string[] => path.split('/').filter(Boolean).map(normalizeName);

function requireFolderName(name: string): void {
  const fault = nameFault(name);
  if (fault) throw invalidField('path', fault, `${NAME_FAULT_WORDS[fault]} (the folder "${name}")`);
}

/** Somebody who brings another version of one file, wherever it lies by then. */
function replacing(by: Bringer, nodeId: string): Bringer {
  const { admitReplacing } = by;
  if (!admitReplacing) throw onlyReplaces();
  return { ...by, admit: (_folderId, m, how) => admitReplacing(nodeId, m, how) };
}

const onlyReplaces = (): Problem =>
  invalidField(
    'replaces',
    'upload.replaces',
    'A file is replaced by itself through a share alone, and then not kept beside.',
  );

/** A disk or a quota that is full while an upload arrives: what came before is kept, and the words say so. */
function noRoomForMore(error: unknown): unknown {
  const problem = asProblem(error);
  if (problem.kind !== 'no-space') return error;
  const words =
    'There is no room for the rest. What has arrived is kept for a week, and goes on from there once there is room.';
  return new Problem('no-space', problem.code, words, problem.more);
}
