import { Inject, Injectable } from '@nestjs/common';
import { createHash } from 'node:crypto';
import { Readable } from 'node:stream';
import { DataSource, type EntityManager } from 'typeorm';
import { Clock } from '../clock.js';
import { LOCKS } from '../locks.js';
import { log } from '../log/log.js';
import { BLOBS, BLOB_COPY, type BlobStore, type OpenBlob, type StagedBlob } from './blob-store.js';

const READ_BYTES = 1024 * 1024;
/** Whether something refers to a blob `b`: a version of a file, a copy that is marked for a visit, or what was handed in. */
const IS_NAMED = `(EXISTS (SELECT 1 FROM file_version v WHERE v.sha256 = b.sha256)
  OR EXISTS (SELECT 1 FROM deposit_file d WHERE d.blob_sha256 = b.sha256)
  OR EXISTS (SELECT 1 FROM marked_copy c WHERE c.copy_sha256 = b.sha256))`;

export interface ScrubAnswer {
  checked: number;
  damaged: number;
  restored: number;
  bytes: number;
  /** The blob that was read last; null when there was none. */
  last: Buffer | null;
}

/**
 * Keeps the table of blobs and the bytes in step. The row of a blob is its lock: whoever names bytes holds it until
 * their transaction ends, whoever removes bytes holds it too, so that neither can pass the other.
 */
@Injectable()
export class BlobKeeper {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    @Inject(BLOBS) private readonly blobs: BlobStore,
    @Inject(BLOB_COPY) private readonly copy: BlobStore | null,
  ) {}

  /** Names staged bytes inside the transaction that will refer to them. Call it before other locks are taken. */
  async keep(tx: EntityManager, staged: readonly StagedBlob[]): Promise<void> {
    // In the order of their names, so that two that keep the same ones cannot wait for each other.
    const ordered = [...staged].sort((a, b) => a.sha256.compare(b.sha256));
    const rows = await tx.query<{ sha256: Buffer; fresh: boolean; damaged: boolean }[]>(
      `INSERT INTO blob AS b (sha256, size_bytes, crc32, created_at)
       SELECT DISTINCT ON (sha) sha, size, crc, $4::timestamptz
         FROM unnest($1::bytea[], $2::bigint[], $3::bigint[]) AS t (sha, size, crc) ORDER BY sha
       ON CONFLICT (sha256) DO UPDATE SET size_bytes = b.size_bytes
         RETURNING sha256, xmax = 0 AS fresh, damaged_at IS NOT NULL AS damaged`,
      [ordered.map((b) => b.sha256), ordered.map((b) => b.sizeBytes), ordered.map((b) => b.crc32), this.clock.date()],
    );
    // Bytes that lie there without a row were left by a crash, and those of a damaged blob are wrong: neither is
    // trusted.
    const distrusted = new Map(rows.map((r) => [r.sha256.toString('hex'), r.fresh || r.damaged]));
    await this.blobs.adopt(
      ordered.map((blob) => {
        const hex = blob.sha256.toString('hex');
        const overwrite = distrusted.get(hex) ?? false;
        distrusted.set(hex, false);
        return { blob, overwrite };
      }),
    );
    if (rows.some((r) => r.damaged))
      await tx.query('UPDATE blob SET damaged_at = NULL, checked_at = $2 WHERE sha256 = ANY($1)', [
        rows.filter((r) => r.damaged).map((r) => r.sha256),
        this.clock.date(),
      ]);
  }

  /** Removes blobs that nothing refers to any more. @returns how many, and their bytes */
  async collect(atMost = 1000): Promise<{ removed: number; bytes: number }> {
    return this.db.transaction(async (tx) => {
      const [free] = await tx.query<{ free: boolean }[]>('SELECT pg_try_advisory_xact_lock($1) AS free', [
        LOCKS.blobsStay,
      ]);
      if (!free?.free) return { removed: 0, bytes: 0 };
      const held = await tx.query<{ sha256: Buffer }[]>(
        `SELECT sha256 FROM blob b WHERE NOT ${IS_NAMED} LIMIT $1 FOR UPDATE SKIP LOCKED`,
        [atMost],
      );
      if (held.length === 0) return { removed: 0, bytes: 0 };
      // Asked again now that the rows are held: a version may have come between the question and the lock.
      const gone = await tx.query<{ sha256: Buffer; size_bytes: string }[]>(
        `SELECT sha256, size_bytes FROM blob b
          WHERE sha256 = ANY($1) AND NOT ${IS_NAMED}`,
        [held.map((h) => h.sha256)],
      );
      for (const { sha256 } of gone) await this.blobs.remove(sha256);
      await tx.query('DELETE FROM blob WHERE sha256 = ANY($1)', [gone.map((g) => g.sha256)]);
      return { removed: gone.length, bytes: gone.reduce((sum, g) => sum + Number(g.size_bytes), 0) };
    });
  }

  /** Removes bytes that have a name and no row, which a crash can leave. The row that is tried in vain is the lock. */
  async sweepStrays(): Promise<number> {
    let removed = 0;
    for await (const batch of inBatches(this.blobs.names(), 500)) {
      const known = await this.db.query<{ sha256: Buffer }[]>('SELECT sha256 FROM blob WHERE sha256 = ANY($1)', [
        batch,
      ]);
      const rows = new Set(known.map((k) => k.sha256.toString('hex')));
      for (const sha256 of batch)
        if (!rows.has(sha256.toString('hex')) && (await this.removeStray(sha256))) removed += 1;
    }
    return removed;
  }

  private async removeStray(sha256: Buffer): Promise<boolean> {
    const runner = this.db.createQueryRunner();
    await runner.connect();
    try {
      await runner.startTransaction();
      // Waits for an upload that is naming these bytes just now; when it commits, they are no stray.
      const mine = (await runner.query(
        `INSERT INTO blob (sha256, size_bytes, crc32, created_at) VALUES ($1, 0, 0, $2) ON CONFLICT DO NOTHING
          RETURNING 1 AS mine`,
        [sha256, this.clock.date()],
      )) as unknown[];
      if (mine.length > 0) await this.blobs.remove(sha256);
      await runner.rollbackTransaction();
      return mine.length > 0;
    } finally {
      await runner.release();
    }
  }

  /**
   * Reads blobs and compares them with their names. What is damaged or missing is restored from the second copy where
   * there is one, and marked otherwise.
   * @param which those that have waited longest, or those that come after one, in the order of their names (null: from
   * the first), so that a walk through all reads each once
   */
  async scrub(which: 'longest' | { after: Buffer | null }, atMost: number, mostBytes: number): Promise<ScrubAnswer> {
    const [order, bound] =
      which === 'longest'
        ? ['ORDER BY checked_at NULLS FIRST', [atMost]]
        : ['WHERE sha256 > $2 ORDER BY sha256', [atMost, which.after ?? Buffer.alloc(0)]];
    const rows = await this.db.query<{ sha256: Buffer; size_bytes: string; damaged_at: Date | null }[]>(
      `SELECT sha256, size_bytes, damaged_at FROM blob ${order} LIMIT $1`,
      bound,
    );
    const answer: ScrubAnswer = { checked: 0, damaged: 0, restored: 0, bytes: 0, last: null };
    for (const row of rows) {
      if (answer.bytes > mostBytes) break;
      answer.checked += 1;
      answer.last = row.sha256;
      answer.bytes += Number(row.size_bytes);
      const sound = await isSound(this.blobs, row.sha256, Number(row.size_bytes));
      if (sound)
        await this.db.query('UPDATE blob SET checked_at = $2, damaged_at = NULL WHERE sha256 = $1', [
          row.sha256,
          this.clock.date(),
        ]);
      else if (await this.restore(row.sha256)) answer.restored += 1;
      else {
        // Collected meanwhile is not damaged.
        const marked = await this.db.query<unknown[]>(
          `WITH u AS (UPDATE blob SET checked_at = $2, damaged_at = coalesce(damaged_at, $2) WHERE sha256 = $1
            RETURNING 1) SELECT * FROM u`,
          [row.sha256, this.clock.date()],
        );
        answer.damaged += marked.length;
        if (marked.length && row.damaged_at === null)
          log.error({ blob: row.sha256.toString('hex') }, 'a blob is missing or damaged');
      }
    }
    return answer;
  }

  /** Puts the second copy's bytes in place of damaged ones. @returns false when there is no sound copy */
  private async restore(sha256: Buffer): Promise<boolean> {
    const source = await this.copy?.open(sha256);
    if (!source) return false;
    const staged = await this.blobs.stage(Readable.from(bytesOf(source)), source.sizeBytes).catch(() => null);
    await source.close();
    if (!staged) return false;
    try {
      return staged.sha256.equals(sha256) && (await this.replace(staged));
    } finally {
      await staged.discard();
    }
  }

  private replace(sound: StagedBlob): Promise<boolean> {
    return this.db.transaction(async (tx) => {
      const [row] = await tx.query<unknown[]>('SELECT 1 FROM blob WHERE sha256 = $1 FOR UPDATE', [sound.sha256]);
      // Collected meanwhile: nothing is left that could be damaged.
      if (!row) return true;
      await this.blobs.adopt([{ blob: sound, overwrite: true }]);
      await tx.query('UPDATE blob SET checked_at = $2, damaged_at = NULL WHERE sha256 = $1', [
        sound.sha256,
        this.clock.date(),
      ]);
      log.info({ blob: sound.sha256.toString('hex') }, 'a damaged blob was restored from the second copy');
      return true;
    });
  }
}

/** Whether the bytes under a name are those that the name says. */
export async function isSound(blobs: BlobStore, sha256: Buffer, sizeBytes: number): Promise<boolean> {
  const blob = await blobs.open(sha256);
  if (!blob) return false;
  try {
    if (blob.sizeBytes !== sizeBytes) return false;
    const hash = createHash('sha256');
    for await (const piece of bytesOf(blob)) hash.update(piece);
    return hash.digest().equals(sha256);
  } catch {
    return false;
  } finally {
    await blob.close();
  }
}

/** The bytes of an open blob, or some of them, piece by piece. */
export async function* bytesOf(blob: OpenBlob, { from = 0, to = blob.sizeBytes } = {}): AsyncGenerator<Buffer> {
  for (let at = from; at < to;) {
    const piece = Buffer.allocUnsafe(Math.min(READ_BYTES, to - at));
    const read = await blob.read(piece, at, piece.length);
    if (read === 0) return;
    at += read;
    yield piece.subarray(0, read);
  }
}

async function* inBatches<T>(source: AsyncIterable<T>, size: number): AsyncGenerator<T[]> {
  let batch: T[] = [];
  for await (const item of source) {
    batch.push(item);
    if (batch.length === size) {
      yield batch;
      batch = [];
    }
  }
  if (batch.length) yield batch;
}
