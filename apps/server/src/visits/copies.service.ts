import { Inject, Injectable } from '@nestjs/common';
import { markKind, markLines, visitName, VISIT_LIFETIME_SECONDS, type MarkKind } from '@quay/core';
import { Readable } from 'node:stream';
import { DataSource } from 'typeorm';
import { BlobKeeper } from '../platform/blobs/blob-keeper.js';
import { BLOBS, type BlobStore, type StagedBlob } from '../platform/blobs/blob-store.js';
import { Clock } from '../platform/clock.js';
import { Housekeeping } from '../platform/housekeeping.js';
import { Office } from '../platform/office.js';
import { Problem } from '../platform/problems/problem.js';
import { Turns } from '../platform/turns.js';
import { Workshop } from '../previews/workshop.js';
import type { ShareRecord } from '../shares/shares.queries.js';
import { RoomService } from '../stores/room.service.js';
import { copiesFor, copyKey, forgetBeyond, forgetOver, keepCopy, wholeOf, type Copy } from './copies.queries.js';
import { cannotBeMarked } from './given.js';
import type { VisitRow } from './visits.queries.js';

/** Copies of one share, all visits together; the oldest beyond that are made again when they are wanted. */
const MOST_COPIES_BYTES = 5_000_000_000;
/** So much is made for a share before it is asked how much there is of it. */
const LOOK_AFTER_BYTES = 500_000_000;
/** Small ones are held in memory until they are named. */
const SMALL_BYTES = 4_000_000;
/** What is made at once, and what may wait for one visit. */
const MADE = { atOnce: 2, waitingPerVisit: 20 } as const;

/** What is marked: bytes that are at hand, or those of a file; and whether a copy of it is of all the file. */
interface Wanted {
  sha256: Buffer;
  what: string;
  of: MarkKind;
  /** What it is made of, or what makes that once it is needed; null: the bytes themselves. */
  from: Buffer | (() => Promise<Buffer>) | null;
}

/** More than a page that is drawn takes. */
const DRAWN_BYTES = 2 * 1024 * 1024;

/** Makes and keeps the copies of files, and of pictures of them, that are marked for a visit. */
@Injectable()
export class CopiesService {
  private readonly turns = new Turns(MADE.atOnce, MADE.waitingPerVisit);
  /** Bytes made for a share since it was last asked how much there is. */
  private readonly since = new Map<string, number>();

  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly workshop: Workshop,
    private readonly keeper: BlobKeeper,
    private readonly rooms: RoomService,
    private readonly office: Office,
    housekeeping: Housekeeping,
    @Inject(BLOBS) private readonly blobs: BlobStore,
  ) {
    housekeeping.add('marked copies of visits that are over', () => this.tidy());
  }

  /** Which copies of files there are for a visit ({@link copyKey}); null: that file cannot be marked. */
  known(visit: VisitRow, files: readonly { path: string; sha256: string }[]): Promise<Map<string, Copy | null>> {
    const what = [...new Set(files.map((f) => wholeOf(f.path)))];
    const of = [...new Set(files.map((f) => f.sha256))].map((hex) => Buffer.from(hex, 'hex'));
    return copiesFor(this.db.manager, visit.id, what, of);
  }

  /** The copy of a file, made if it is not there. @throws Problem share.cannot-be-marked, disk.full, turns.too-many */
  async whole(share: ShareRecord, visit: VisitRow, file: { name: string; sha256: Buffer; sizeBytes: number }) {
    const of = markKind(file.name);
    const wanted = of && { sha256: file.sha256, what: wholeOf(file.name), of, from: null };
    const copy = wanted && (await this.copy(share, visit, wanted, file.sizeBytes));
    if (!copy) throw cannotBeMarked();
    return copy;
  }

  /** A picture with the marks of a visit over it. @throws Problem share.cannot-be-marked, disk.full, turns.too-many */
  async picture(
    share: ShareRecord,
    visit: VisitRow,
    { sha256, what }: { sha256: Buffer; what: string },
    picture: Buffer | (() => Promise<Buffer>),
  ): Promise<Buffer> {
    const sizeBytes = Buffer.isBuffer(picture) ? picture.length : DRAWN_BYTES;
    const copy = await this.copy(share, visit, { sha256, what, of: 'image', from: picture }, sizeBytes);
    const blob = copy && (await this.blobs.open(copy.sha256));
    if (!blob) throw cannotBeMarked();
    try {
      const bytes = Buffer.alloc(blob.sizeBytes);
      await blob.read(bytes, 0, bytes.length);
      return bytes;
    } finally {
      await blob.close();
    }
  }

  private async copy(share: ShareRecord, visit: VisitRow, wanted: Wanted, sizeBytes: number): Promise<Copy | null> {
    const { what, sha256 } = wanted;
    const key = copyKey(what, sha256.toString('hex'));
    const there = async () => (await copiesFor(this.db.manager, visit.id, [what], [sha256])).get(key);
    const found = await there();
    if (found !== undefined) return found;
    return this.turns.run(visit.id, async () => {
      // Whoever asked before may have had it made.
      const meanwhile = await there();
      return meanwhile === undefined ? this.make(share, visit, wanted, sizeBytes) : meanwhile;
    });
  }

  private async make(share: ShareRecord, visit: VisitRow, wanted: Wanted, sizeBytes: number): Promise<Copy | null> {
    if ((await this.rooms.diskFree()) < 2 * sizeBytes)
      throw new Problem('no-space', 'disk.full', 'The server has no room left for marked copies. Tell the sender.');
    const { name: office, zone } = await this.office.toVisitors();
    const who = visit.who ?? visitName(visit.id);
    const lines = markLines({ who, office, at: visit.beganAt.getTime() }, zone);
    const from = typeof wanted.from === 'function' ? await wanted.from() : wanted.from;
    const made = await this.workshop.make({ kind: 'mark', of: wanted.of, lines }, from ?? wanted);
    if ('failed' in made) {
      if (!made.lasts) throw cannotBeMarked();
      await keepCopy(this.db.manager, { visitId: visit.id, ...wanted }, null, this.clock.date());
      return null;
    }
    const bytes = made.pictures.get('copy');
    if (!bytes) throw new Error('nothing was made');
    const staged = await this.staged(bytes);
    try {
      await this.db.transaction(async (tx) => {
        await this.keeper.keep(tx, [staged]);
        await keepCopy(tx, { visitId: visit.id, ...wanted }, staged.sha256, this.clock.date());
      });
    } finally {
      await staged.discard();
    }
    const { sha256, sizeBytes: madeBytes, crc32 } = staged;
    await this.keepWithin(share.id, madeBytes);
    return { sha256, sizeBytes: madeBytes, crc32 };
  }

  private async staged(bytes: Buffer): Promise<StagedBlob> {
    if (bytes.length > SMALL_BYTES) return this.blobs.stage(Readable.from([bytes]), bytes.length);
    const [staged] = await this.blobs.stageEach([bytes]);
    return staged as StagedBlob;
  }

  /** What whoever holds a link has made must not fill the disk. */
  private async keepWithin(shareId: string, madeBytes: number): Promise<void> {
    const since = (this.since.get(shareId) ?? 0) + madeBytes;
    this.since.set(shareId, since);
    if (since < LOOK_AFTER_BYTES) return;
    this.since.delete(shareId);
    await forgetBeyond(this.db.manager, shareId, MOST_COPIES_BYTES);
    await this.keeper.collect();
  }

  private async tidy(): Promise<void> {
    this.since.clear();
    await forgetOver(this.db.manager, new Date(this.clock.now() - VISIT_LIFETIME_SECONDS * 1000));
  }
}
