import { Inject, Injectable, type OnApplicationShutdown } from '@nestjs/common';
import { quotaLeft, roomFault, type Room } from '@quay/core';
import { randomUUID } from 'node:crypto';
import { DataSource, type EntityManager } from 'typeorm';
import { aside } from '../platform/aside.js';
import { BLOBS, type BlobStore } from '../platform/blobs/blob-store.js';
import { CONFIG, type Config } from '../platform/config.js';
import { LOCKS } from '../platform/locks.js';
import { ANCESTORS } from '../access/access.queries.js';
import { refusal } from './refusal.js';
import { wholeWeights } from './weights.queries.js';

/** Room is set aside in steps of this size as bytes come, so that nobody holds what they only announce. */
const STEP_BYTES = 16 * 1024 * 1024;
/** A process says this often that it lives, and what it held ends when it has been silent for the longer time. */
const BEAT_MS = 20_000;
const SILENT_MS = 90_000;

/** What is left in the folder for what goes out, of those that the bytes come into; null: they do not. */
async function outgoingLeft(
  m: EntityManager,
  by: { folderId: string; storeId: string },
  exceptId: string | null,
): Promise<number | null> {
  const [outgoing] = await m.query<{ folderId: string; limit: string; coming: string }[]>(
    `${ANCESTORS} SELECT o.folder_id AS "folderId", o.limit_bytes AS "limit",
            -- What comes into the same home meanwhile could be for there too.
            (SELECT coalesce(sum(held_bytes), 0) FROM room_held
              WHERE store_id = $2 AND (ends_at IS NULL OR ends_at > now()) AND id IS DISTINCT FROM $3::uuid) AS coming
       FROM up JOIN outgoing o ON o.folder_id = up.id ORDER BY up.height LIMIT 1`,
    [[by.folderId], by.storeId, exceptId],
  );
  if (!outgoing) return null;
  const used = (await wholeWeights(m, [outgoing.folderId])).get(outgoing.folderId)?.bytes ?? 0;
  return quotaLeft(Number(outgoing.limit), used + Number(outgoing.coming));
}

/** A resumable upload, or a file that is being handed in. */
export interface Lasting {
  kind: 'upload' | 'deposit';
  id: string;
}

/** What each has arrived of, by the row that holds its room. */
const arrivedOf = (table: string, column: string): string =>
  `UPDATE room_held h SET held_bytes = u.offset_bytes, written_bytes = u.offset_bytes FROM ${table} u
    WHERE u.id = h.${column}`;
const ARRIVED: Record<Lasting['kind'], string> = {
  upload: arrivedOf('upload', 'upload_id'),
  deposit: arrivedOf('deposit_file', 'deposit_file_id'),
};

/** Whose bytes come, and where to. */
export interface RoomFor {
  /** The person whose quota they count against. */
  chargedTo: string;
  storeId: string;
  /** The folder that they come into, where it is known: it may lie in one that has a limit of its own. */
  folderId?: string;
  /** What they belong to where they come in pieces; what has been set aside for it stays as long as it does. */
  lasting?: Lasting;
}

/** Room for bytes that are on their way. */
export interface HeldRoom {
  /**
   * Sees to it that there is room for so many bytes from the beginning on.
   * @param written how many of them are on the disk, so that they are not counted twice
   * @returns up to where bytes may come before it is asked again
   * @throws Problem quota.person, quota.store, disk.full
   */
  ask: (upTo: number, written: number) => Promise<number>;
}

/**
 * Sets room aside for bytes on their way, in the database, so that streams of unknown length, parallel uploads and
 * several processes together never pass a quota or the reserve of the disk. What is set aside is given back when the
 * work ends in whatever way; what a process that died held ends by itself.
 */
@Injectable()
export class RoomService implements OnApplicationShutdown {
  private readonly process = randomUUID();
  private readonly held = new Set<string>();
  private beat: NodeJS.Timeout | null = null;

  constructor(
    private readonly db: DataSource,
    @Inject(BLOBS) private readonly blobs: BlobStore,
    @Inject(CONFIG) private readonly config: Config,
  ) {}

  onApplicationShutdown(): void {
    if (this.beat) clearInterval(this.beat);
  }

  /** What room there is for somebody's new bytes in a store, with what others are bringing counted in. */
  async room(by: RoomFor, exceptId: string | null = null, m: EntityManager = this.db.manager): Promise<Room> {
    const [row] = await m.query<Record<'storeQuota' | 'storeUsed' | 'personQuota' | 'personUsed', string | null>[]>(
      `WITH coming AS (SELECT * FROM room_held WHERE (ends_at IS NULL OR ends_at > now())
        AND id IS DISTINCT FROM $3::uuid)
       SELECT s.quota_bytes AS "storeQuota",
         s.used_bytes + (SELECT coalesce(sum(held_bytes), 0) FROM coming WHERE store_id = s.id) AS "storeUsed",
              p.quota_bytes AS "personQuota",
                p.used_bytes + (SELECT coalesce(sum(held_bytes), 0) FROM coming WHERE person_id = p.id) AS "personUsed"
         FROM store s, person p WHERE s.id = $1 AND p.id = $2`,
      [by.storeId, by.chargedTo, exceptId],
    );
    if (!row) throw new Error(`store ${by.storeId} or person ${by.chargedTo} is not there`);
    const left = (quota: string | null, used: string | null) =>
      quotaLeft(quota === null ? null : Number(quota), Number(used));
    return {
      storeLeftBytes: left(row.storeQuota, row.storeUsed),
      personLeftBytes: left(row.personQuota, row.personUsed),
      outgoingLeftBytes: by.folderId ? await outgoingLeft(m, { ...by, folderId: by.folderId }, exceptId) : null,
      diskFreeBytes: await this.diskFree(exceptId, m),
    };
  }

  /** Bytes that the disk can take beside its reserve and what others are bringing. */
  async diskFree(exceptId: string | null = null, m: EntityManager = this.db.manager): Promise<number> {
    const [row] = await m.query<{ coming: string }[]>(
      `SELECT coalesce(sum(greatest(held_bytes - written_bytes, 0)), 0) AS coming FROM room_held
        WHERE (ends_at IS NULL OR ends_at > now()) AND id IS DISTINCT FROM $1::uuid`,
      [exceptId],
    );
    return Math.max(0, (await this.blobs.freeBytes()) - this.config.keepFreeBytes - Number(row?.coming ?? 0));
  }

  /**
   * Runs work that brings bytes.
   * @param totalBytes as announced; null when it is not known: then no more is set aside than has come, and a step
   * @param from where an upload goes on: what came before is counted already
   */
  async whileBringing<T>(
    by: RoomFor,
    totalBytes: number | null,
    work: (held: HeldRoom) => Promise<T>,
    from = 0,
  ): Promise<T> {
    const id = by.lasting?.id ?? randomUUID();
    let granted = from;
    const ask = async (upTo: number, written: number): Promise<number> => {
      if (upTo <= granted) return granted;
      const ahead = Math.max(upTo, Math.min(granted + STEP_BYTES, totalBytes ?? Infinity));
      // Near a limit, what is needed now is asked for alone.
      granted = await this.grow(id, by, ahead, written).catch((error: unknown) => {
        if (ahead === upTo) throw error;
        return this.grow(id, by, upTo, written);
      });
      return granted;
    };
    this.keepAlive(id, by);
    try {
      return await work({ ask });
    } finally {
      this.held.delete(id);
      if (by.lasting) aside(this.settle(by.lasting), 'what an upload holds could not be counted');
      else if (granted > from) await this.db.query('DELETE FROM room_held WHERE id = $1', [id]);
    }
  }

  /** What uploads had set aside, once their bytes count as files, or are not wanted. */
  async giveBack(tx: EntityManager, ids: readonly string[]): Promise<void> {
    await tx.query('DELETE FROM room_held WHERE id = ANY($1) AND ends_at IS NULL', [ids]);
  }

  /** What dead processes left: rows that nobody speaks for, and what uploads held beyond what has arrived. */
  async tidy(): Promise<void> {
    await this.db.query('DELETE FROM room_held h WHERE h.ends_at < now()');
    for (const arrived of [
      `${ARRIVED.upload} AND u.touched_at < now() - interval '1 hour'`,
      `${ARRIVED.deposit} AND u.created_at < now() - interval '1 day'`,
    ])
      await this.db.query(`${arrived} AND h.held_bytes > u.offset_bytes`);
  }

  /** In turn with all others: what is asked for is compared with what is there and what others hold, then held. */
  private async grow(id: string, by: RoomFor, heldBytes: number, writtenBytes: number): Promise<number> {
    await this.db.transaction(async (tx) => {
      await tx.query('SELECT pg_advisory_xact_lock($1)', [LOCKS.room]);
      const room = await this.room(by, id, tx);
      // What is written already is not free any more, and was asked for before.
      const fault = roomFault(heldBytes, { ...room, diskFreeBytes: room.diskFreeBytes + writtenBytes });
      if (fault) throw refusal(fault, { allowedTypes: [], largestFileBytes: null }, room);
      await tx.query(
        `INSERT INTO room_held (id, process, person_id, store_id, upload_id, deposit_file_id, held_bytes, written_bytes,
           ends_at)
         VALUES ($1, $2, $3, $4, $5, $6, $7, $8, now() + $9::int * interval '1 millisecond')
         ON CONFLICT (id) DO UPDATE SET process = $2, store_id = $4, held_bytes = $7, written_bytes = $8`,
        [
          ...[id, this.process, by.chargedTo, by.storeId],
          ...(['upload', 'deposit'] as const).map((kind) => (by.lasting?.kind === kind ? id : null)),
          ...[heldBytes, writtenBytes, by.lasting ? null : SILENT_MS],
        ],
      );
    });
    return heldBytes;
  }

  private async settle({ kind, id }: Lasting): Promise<void> {
    await this.db.query(`${ARRIVED[kind]} AND u.id = $1`, [id]);
  }

  private keepAlive(id: string, by: RoomFor): void {
    if (by.lasting) return;
    this.held.add(id);
    this.beat ??= setInterval(() => {
      if (this.held.size === 0) return;
      const ends = `UPDATE room_held SET ends_at = now() + $2::int * interval '1 millisecond'
        WHERE process = $1 AND ends_at IS NOT NULL`;
      aside(this.db.query(ends, [this.process, SILENT_MS]), 'what is set aside could not be kept');
    }, BEAT_MS).unref();
  }
}
