import { Inject, Injectable, type OnModuleInit } from '@nestjs/common';
import { fileRefusal, handedPath, kindOfName, roomFault, type IntakeRefusal } from '@quay/core';
import { handedMetadataSchema, type HandedMetadata, type ProblemKind } from '@quay/contract';
import { Upload } from '@tus/server';
import { randomUUID } from 'node:crypto';
import { Readable } from 'node:stream';
import { DataSource, type EntityManager } from 'typeorm';
import { BlobKeeper } from '../platform/blobs/blob-keeper.js';
import { BLOBS, type BlobStore } from '../platform/blobs/blob-store.js';
import { sourceOf } from '../platform/client-address.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { Housekeeping } from '../platform/housekeeping.js';
import { notFound, Problem } from '../platform/problems/problem.js';
import { valid } from '../platform/problems/valid.pipe.js';
import { RunningWork } from '../platform/running.js';
import { RoomService, type RoomFor } from '../stores/room.service.js';
import { PartsService } from '../transfers/parts.service.js';
import { metadataOf, PiecesStore } from '../transfers/pieces.js';
import { ContentService } from './content.service.js';
import { addTaken, arrivingAt, takenOf } from './deposits.queries.js';
import { begunBefore, IntakeDoorService, type Contributor, type Inside } from './door.service.js';
import { holdIntake, type IntakeRecord } from './intakes.queries.js';

/** A contributor who sends in pieces, and the path that they send to. */
export interface HandingIn {
  contributor: Contributor;
  path: string;
}

interface Row {
  id: string;
  depositId: string;
  path: string;
  sizeBytes: number;
  offsetBytes: number;
  isHere: boolean;
}

interface Announced {
  id: string;
  sizeBytes: number;
  asked: HandedMetadata;
  likelyBytes?: number;
}

const METADATA = ['name', 'path', 'modifiedAt'];

/**
 * Files that are handed in. They become bytes that wait, not files of a store: what becomes of them is decided by
 * whoever asked for them. Whether they may come is asked of the intake each time anew.
 */
@Injectable()
export class DepositUploads extends PiecesStore<HandingIn> implements OnModuleInit {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly events: Events,
    private readonly running: RunningWork,
    private readonly rooms: RoomService,
    private readonly keeper: BlobKeeper,
    private readonly housekeeping: Housekeeping,
    private readonly parts: PartsService,
    private readonly doors: IntakeDoorService,
    private readonly content: ContentService,
    @Inject(BLOBS) private readonly blobs: BlobStore,
  ) {
    super('/h');
  }

  onModuleInit(): void {
    this.housekeeping.add('what was begun and never handed in', () => this.expire());
    this.housekeeping.add('what was announced at intakes and never sent', () => this.dropAnnounced());
    this.parts.keep(async () => {
      const rows = await this.db.query<{ id: string }[]>('SELECT id FROM deposit_file WHERE sha256 IS NULL');
      return rows.map((r) => r.id);
    });
  }

  override async create(upload: Upload): Promise<Upload> {
    const { contributor } = this.sender();
    const asked = valid<HandedMetadata>(handedMetadataSchema).transform(metadataOf(upload, METADATA));
    const at = await this.announce(contributor, { id: upload.id, sizeBytes: upload.size ?? 0, asked });
    upload.creation_date = at.toISOString();
    return upload;
  }

  /**
   * Takes a file in whose size is only known when it has come, as from a form.
   * @param mostBytes it has at most; `likelyBytes` is what it is judged by before it has come
   * @throws Problem for every reason that it is not taken; nothing of it stays
   */
  async bringWhole(
    contributor: Contributor,
    { name, mostBytes, likelyBytes }: { name: string; mostBytes: number; likelyBytes: number },
    stream: Readable,
  ): Promise<void> {
    const id = randomUUID();
    const asked = valid<HandedMetadata>(handedMetadataSchema).transform({ name });
    await this.announce(contributor, { id, sizeBytes: mostBytes, asked, likelyBytes });
    try {
      const length = await this.writeTo(contributor, stream, id, 0);
      if (!stream.readableEnded)
        throw new Problem('invalid', 'upload.cut', 'The file did not arrive whole. Try again.');
      const row = await this.shorten(contributor, id, length);
      await this.settle(contributor, row);
    } catch (error) {
      await this.undo(id);
      throw error;
    }
  }

  /** Nothing of what was being brought stays, also where its contributor may do nothing any more. */
  private async undo(id: string): Promise<void> {
    await this.db.transaction(async (tx) => {
      const [found] = await tx.query<{ intakeId: string }[]>(
        'SELECT d.intake_id AS "intakeId" FROM deposit_file f JOIN deposit d ON d.id = f.deposit_id WHERE f.id = $1',
        [id],
      );
      if (!found) return;
      await holdIntake(tx, found.intakeId);
      const [row] = await tx.query<Row[]>(`SELECT ${ROW} WHERE f.id = $1 AND f.sha256 IS NULL FOR UPDATE OF f`, [id]);
      if (row) await this.take(tx, found.intakeId, row);
    });
    await this.blobs.parts.remove(id);
  }

  /** What was announced as longer is as long as what has come. */
  private async shorten(contributor: Contributor, id: string, length: number): Promise<Row> {
    await this.db.transaction(async (tx) => {
      const { intake, deposit } = await this.doors.insideIn(tx, contributor);
      const before = await this.mine({ intake, deposit }, id, tx);
      const nothing = { files: 0, bytes: 0, sourceBytes: 0, allBytes: 0 };
      const refusal = fileRefusal(intake.limits, nothing, { sizeBytes: length, kind: kindOfName(before.path) });
      if (refusal) throw refused(refusal);
      await tx.query('UPDATE deposit_file SET size_bytes = $2 WHERE id = $1 AND sha256 IS NULL', [id, length]);
      const more = { files: 0, bytes: length - before.sizeBytes, at: this.clock.date() };
      await addTaken(tx, deposit, more);
    });
    return this.mine(await this.doors.inside(contributor), id);
  }

  /** Writes down what is to come, if it may. */
  private async announce(
    contributor: Contributor,
    { id, sizeBytes, asked, likelyBytes = sizeBytes }: Announced,
  ): Promise<Date> {
    const found = handedPath(asked.path ?? '', asked.name);
    if ('fault' in found) throw new Problem('invalid', 'intake.path', found.fault);
    const { path } = found;
    const now = this.clock.date();
    const replaced = await this.db.transaction(async (tx) => {
      const { intake, deposit } = await this.doors.insideIn(tx, contributor);
      const gone = await this.makeWay(tx, { intakeId: intake.id, depositId: deposit.id, path });
      const before = await takenOf(tx, deposit.contributorId);
      const allBytes = intake.takenBytes - (gone?.sizeBytes ?? 0);
      const sourceBytes = await this.arrivingFrom(tx, intake.id, contributor.fromAddress);
      const refusal = fileRefusal(
        intake.limits,
        { ...before, allBytes, sourceBytes },
        {
          ...{ sizeBytes: likelyBytes, kind: kindOfName(asked.name) },
        },
      );
      if (refusal) throw refused(refusal);
      if (roomFault(sizeBytes, await this.rooms.room(roomOf(intake), null, tx)) !== null) throw noRoom();
      await tx.query(
        `INSERT INTO deposit_file (id, deposit_id, path, modified_at, size_bytes, created_at)
         VALUES ($1, $2, $3, $4, $5, $6)`,
        [
          ...[id, deposit.id, path, asked.modifiedAt === undefined ? null : new Date(asked.modifiedAt)],
          ...[sizeBytes, now],
        ],
      );
      await addTaken(tx, deposit, { files: 1, bytes: sizeBytes, at: now });
      return gone?.id ?? null;
    });
    if (replaced !== null) await this.blobs.parts.remove(replaced);
    return now;
  }

  override write(stream: Readable, id: string, offset: number): Promise<number> {
    return this.writeTo(this.sender().contributor, stream, id, offset);
  }

  private async writeTo(contributor: Contributor, stream: Readable, id: string, offset: number): Promise<number> {
    const inside = await this.doors.inside(contributor);
    const row = await this.mine(inside, id);
    // Asked again after its end, as when the answer was lost: everything is there.
    if (offset === row.sizeBytes) {
      await this.settle(contributor, row);
      return row.sizeBytes;
    }
    const writer = randomUUID();
    const [, begun] = (await this.db.query('UPDATE deposit_file SET writer = $2 WHERE id = $1 AND sha256 IS NULL', [
      id,
      writer,
    ])) as [unknown, number];
    if (begun === 0) throw notFound('This upload');
    const flushedTo = async (safe: number) => {
      const [, changed] = (await this.db.query(
        `WITH f AS (
           UPDATE deposit_file SET offset_bytes = $3 WHERE id = $1 AND writer = $2 AND $3::bigint >= offset_bytes
           RETURNING deposit_id
         ) UPDATE deposit d SET touched_at = $4 FROM f WHERE d.id = f.deposit_id`,
        [id, writer, safe, this.clock.date()],
      )) as [unknown, number];
      // Another request has taken over: what still comes here is not wanted any more.
      if (changed === 0) stream.destroy();
    };
    const by = { ...roomOf(inside.intake), lasting: { kind: 'deposit' as const, id } };
    const appending = () =>
      this.rooms.whileBringing(
        by,
        row.sizeBytes,
        ({ ask }) => this.blobs.parts.append(id, offset, stream, row.sizeBytes, flushedTo, ask),
        offset,
      );
    const going = {
      decide: () => this.goesOn(contributor),
      wakes: ({ topic, id: about }: { topic: string; id: string }) =>
        topic === 'access' || (topic === 'intake' && about === inside.intake.id),
    };
    const length = await this.running
      .while(going, null, () => stream.destroy(), appending)
      .catch((error: unknown) => {
        throw forOutsiders(error);
      });
    if (length === row.sizeBytes) await this.settle(contributor, { ...row, offsetBytes: length });
    return length;
  }

  override async getUpload(id: string): Promise<Upload> {
    const row = await this.mine(await this.doors.inside(this.sender().contributor), id);
    return new Upload({ id, size: row.sizeBytes, offset: row.offsetBytes, metadata: { name: row.path } });
  }

  /** Takes back what was not handed in yet, arrived or not. */
  override remove(id: string): Promise<void> {
    return this.drop(this.sender().contributor, id);
  }

  /** The same, of somebody who sends in no pieces. */
  async drop(contributor: Contributor, id: string): Promise<void> {
    await this.events.change(async (tx) => {
      const inside = await this.doors.insideIn(tx, contributor);
      const row = await this.mine(inside, id, tx);
      await this.take(tx, inside.intake.id, row);
    });
    await this.blobs.parts.remove(id);
  }

  protected override async whole({ id }: Upload): Promise<void> {
    const { contributor } = this.sender();
    await this.settle(contributor, await this.mine(await this.doors.inside(contributor), id));
  }

  /** Keeps the bytes of a file that is here; the second time nothing happens. */
  private async settle(contributor: Contributor, row: Row): Promise<void> {
    if (row.isHere) return;
    if (row.sizeBytes === 0) await this.blobs.parts.append(row.id, 0, Readable.from([]), 0, () => Promise.resolve());
    const blob = await this.blobs.parts.finish(row.id, row.sizeBytes);
    await this.events.change(async (tx) => {
      await this.keeper.keep(tx, [blob]);
      const { deposit } = await this.doors.insideIn(tx, contributor);
      await tx.query(
        `UPDATE deposit_file SET sha256 = $3, blob_sha256 = $3, offset_bytes = size_bytes
          WHERE id = $1 AND deposit_id = $2 AND sha256 IS NULL`,
        [row.id, deposit.id, blob.sha256],
      );
    });
    await this.blobs.parts.remove(row.id);
    this.content.lookSoon(row.depositId);
  }

  /** What is on its way from one source, whatever number of contributors it comes as. */
  private async arrivingFrom(tx: EntityManager, intakeId: string, fromAddress: string): Promise<number> {
    const source = sourceOf(fromAddress);
    const theirs = (await arrivingAt(tx, intakeId)).filter(({ from }) => sourceOf(from) === source);
    return theirs.reduce((sum, { bytes }) => sum + bytes, 0);
  }

  /** What was begun under the same name and never arrived makes way. @throws Problem intake.same-name */
  private async makeWay(
    tx: EntityManager,
    { intakeId, depositId, path }: { intakeId: string; depositId: string; path: string },
  ): Promise<Row | null> {
    const [there] = await tx.query<Row[]>(`SELECT ${ROW} WHERE f.deposit_id = $1 AND f.path = $2`, [depositId, path]);
    if (!there) return null;
    if (there.isHere)
      throw new Problem(
        'conflict',
        'intake.same-name',
        `${path} is here already. Take that one back, or give this one another name.`,
      );
    await this.take(tx, intakeId, there);
    return there;
  }

  private async take(tx: EntityManager, intakeId: string, { id, depositId, sizeBytes }: Row): Promise<void> {
    await tx.query('DELETE FROM deposit_file WHERE id = $1', [id]);
    await addTaken(tx, { id: depositId, intakeId }, { files: -1, bytes: -sizeBytes, at: this.clock.date() });
  }

  private async goesOn(contributor: Contributor): Promise<{ may: boolean; until: Date | null }> {
    try {
      await this.doors.inside(contributor);
      return { may: true, until: null };
    } catch (error) {
      if (error instanceof Problem) return { may: false, until: null };
      throw error;
    }
  }

  private async mine({ deposit }: Inside, id: string, m: EntityManager = this.db.manager): Promise<Row> {
    const [row] = /^[0-9a-f-]{36}$/.test(id)
      ? await m.query<Row[]>(`SELECT ${ROW} WHERE f.id = $1 AND f.deposit_id = $2`, [id, deposit.id])
      : [];
    if (!row) throw notFound('This upload');
    return row;
  }

  /** What is only announced takes room from everybody: it goes soon. */
  private async dropAnnounced(): Promise<void> {
    const before = new Date(this.clock.now() - ANNOUNCED_KEPT_MS);
    const intakes = await this.db.query<{ id: string }[]>(
      `SELECT DISTINCT d.intake_id AS id FROM deposit_file f JOIN deposit d ON d.id = f.deposit_id
        WHERE d.state = 'arriving' AND ${IS_ANNOUNCED}`,
      [before],
    );
    for (const { id: intakeId } of intakes)
      await this.db.transaction(async (tx) => {
        await holdIntake(tx, intakeId);
        const rows = await tx.query<Row[]>(
          `SELECT ${ROW} JOIN deposit d ON d.id = f.deposit_id
            WHERE d.intake_id = $2 AND d.state = 'arriving' AND ${IS_ANNOUNCED} FOR UPDATE OF f`,
          [before, intakeId],
        );
        for (const row of rows) await this.take(tx, intakeId, row);
      });
  }

  private async expire(): Promise<void> {
    const old = await this.db.query<{ id: string; intakeId: string }[]>(
      `SELECT id, intake_id AS "intakeId" FROM deposit WHERE state = 'arriving' AND touched_at < $1 LIMIT 10000`,
      [begunBefore(this.clock.now())],
    );
    for (const { id, intakeId } of old) {
      const files = await this.db.transaction(async (tx) => {
        await holdIntake(tx, intakeId);
        // Asked again now that it is held: what is gone on with at this moment stays.
        const [gone] = await tx.query<{ bytes: number }[]>(
          `SELECT bytes::float8 AS bytes FROM deposit WHERE id = $1 AND state = 'arriving' AND touched_at < $2`,
          [id, begunBefore(this.clock.now())],
        );
        if (!gone) return [];
        const parts = await tx.query<{ id: string }[]>('SELECT id FROM deposit_file WHERE deposit_id = $1', [id]);
        await tx.query('UPDATE intake SET taken_bytes = taken_bytes - $2 WHERE id = $1', [intakeId, gone.bytes]);
        // Others of the same contributor stay: the first of them stands for all.
        await tx.query(
          `UPDATE deposit SET contributor_id = (SELECT id FROM deposit o WHERE o.contributor_id = $1 AND o.id <> $1
             ORDER BY began_at, id LIMIT 1) WHERE contributor_id = $1 AND id <> $1`,
          [id],
        );
        await tx.query('DELETE FROM deposit WHERE id = $1', [id]);
        return parts;
      });
      for (const part of files) await this.blobs.parts.remove(part.id);
    }
  }
}

/** How long a file may be announced without a byte of it being sent. */
const ANNOUNCED_KEPT_MS = 15 * 60_000;
const IS_ANNOUNCED = 'f.sha256 IS NULL AND f.writer IS NULL AND f.created_at < $1';

const KIND_OF: Record<IntakeRefusal, ProblemKind> = {
  ...{ 'intake.file-too-large': 'too-large', 'intake.too-many-files': 'too-large', 'intake.too-much': 'too-large' },
  ...{ 'intake.full': 'no-space', 'intake.source-full': 'no-space', 'intake.kind': 'invalid' },
};

const ROW = `f.id, f.deposit_id AS "depositId", f.path, f.size_bytes::float8 AS "sizeBytes",
  f.offset_bytes::float8 AS "offsetBytes", f.sha256 IS NOT NULL AS "isHere" FROM deposit_file f`;

const refused = ({ code, words }: { code: IntakeRefusal; words: string }): Problem =>
  new Problem(KIND_OF[code], code, words);

/** Room for it is that of whoever asks for it, in the store that it goes into. */
const roomOf = ({ createdBy, storeId, folderId }: IntakeRecord): RoomFor => ({
  chargedTo: createdBy,
  storeId,
  folderId,
});

const noRoom = (): Problem =>
  new Problem('no-space', 'intake.full', 'No more fits in here at the moment. Tell whoever sent you the link.');

/** How full the office's disk and quotas are is nothing for outsiders. */
function forOutsiders(error: unknown): unknown {
  const isRoom = error instanceof Problem && /^(quota|disk|outgoing)\./.test(error.code);
  return isRoom ? noRoom() : error;
}
