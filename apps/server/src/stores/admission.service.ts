import { Inject, Injectable } from '@nestjs/common';
import {
  admissionWords,
  fileFault,
  quotaLeft,
  roomFault,
  type AdmissionFault,
  type Room,
  type StorePolicy,
  type VersionPolicy,
} from '@quay/core';
import { DataSource, type EntityManager } from 'typeorm';
import type { Who } from '../people/who.js';
import { BLOBS, type BlobStore } from '../platform/blobs/blob-store.js';
import { CONFIG, type Config } from '../platform/config.js';
import { invalidField, Problem } from '../platform/problems/problem.js';

export interface StoreRules extends StorePolicy, VersionPolicy {
  quotaBytes: number | null;
  usedBytes: number;
  trashDays: number | null;
}

/** Decides whether new bytes are let in: names, types, sizes, quotas, the disk. */
@Injectable()
export class AdmissionService {
  /** Bytes that uploads now under way in this process have announced and not yet written. */
  private announced = 0;

  constructor(
    private readonly db: DataSource,
    @Inject(BLOBS) private readonly blobs: BlobStore,
    @Inject(CONFIG) private readonly config: Config,
  ) {}

  async rules(storeId: string, m: EntityManager = this.db.manager): Promise<StoreRules> {
    const [row] = await m.query<
      {
        quota: string | null;
        used: string;
        largest: string | null;
        types: string[];
        kept: number;
        thin: number | null;
        trash: number | null;
      }[]
    >(
      'SELECT quota_bytes AS quota, used_bytes AS used, largest_file_bytes AS largest, allowed_types AS types, versions_kept AS kept, thin_after_days AS thin, trash_days AS trash FROM store WHERE id = $1',
      [storeId],
    );
    if (!row) throw new Error(`store ${storeId} is not there`);
    return {
      quotaBytes: numberOrNull(row.quota),
      usedBytes: Number(row.used),
      largestFileBytes: numberOrNull(row.largest),
      allowedTypes: row.types,
      versionsKept: row.kept,
      thinAfterDays: row.thin,
      trashDays: row.trash,
    };
  }

  /** What room there is for somebody's new bytes in a store. Parts of uploads that have arrived are counted to their person. */
  async room(who: Who, storeId: string, m: EntityManager = this.db.manager): Promise<Room> {
    const [store, [person]] = await Promise.all([
      this.rules(storeId, m),
      m.query<{ quota: string | null; used: string }[]>(
        'SELECT quota_bytes AS quota, used_bytes + coalesce((SELECT sum(offset_bytes) FROM upload WHERE person_id = $1 AND answer IS NULL), 0) AS used FROM person WHERE id = $1',
        [who.personId],
      ),
    ]);
    return {
      storeLeftBytes: quotaLeft(store.quotaBytes, store.usedBytes),
      personLeftBytes: quotaLeft(numberOrNull(person?.quota ?? null), Number(person?.used ?? 0)),
      diskFreeBytes: await this.diskFree(),
    };
  }

  async diskFree(): Promise<number> {
    return Math.max(0, (await this.blobs.freeBytes()) - this.config.keepFreeBytes - this.announced);
  }

  /** One file, before a byte of it moves. @throws Problem with the fault's code */
  async requireFile(
    who: Who,
    storeId: string,
    file: { name: string; sizeBytes: number },
    arrivedBytes = 0,
  ): Promise<void> {
    const rules = await this.rules(storeId);
    const fault = fileFault(file, rules);
    if (fault) throw refusal(fault, rules);
    await this.requireRoom(who, storeId, file.sizeBytes - arrivedBytes);
  }

  async requireRoom(who: Who, storeId: string, bytes: number): Promise<void> {
    const room = await this.room(who, storeId);
    const fault = roomFault(bytes, room);
    if (fault) throw refusal(fault, { allowedTypes: [], largestFileBytes: null }, room);
  }

  /** As {@link requireRoom}, for bytes that are on the disk already. */
  async requireQuota(tx: EntityManager, who: Who, storeId: string, bytes: number): Promise<void> {
    const room = { ...(await this.room(who, storeId, tx)), diskFreeBytes: Infinity };
    const fault = roomFault(bytes, room);
    if (fault) throw refusal(fault, { allowedTypes: [], largestFileBytes: null }, room);
  }

  /** Runs work whose announced bytes are set aside meanwhile. */
  async settingAside<T>(bytes: number, work: () => Promise<T>): Promise<T> {
    this.announced += bytes;
    try {
      return await work();
    } finally {
      this.announced -= bytes;
    }
  }
}

const numberOrNull = (text: string | null): number | null => (text === null ? null : Number(text));

function refusal(fault: AdmissionFault, policy: StorePolicy, room?: Room): Problem {
  const words = admissionWords(fault, policy, room);
  switch (fault) {
    case 'disk.full':
      return new Problem('no-space', 'disk.full', words, { freeBytes: room?.diskFreeBytes ?? 0 });
    case 'quota.person':
    case 'quota.store':
      return new Problem('no-space', fault, words, {
        leftBytes: (fault === 'quota.store' ? room?.storeLeftBytes : room?.personLeftBytes) ?? 0,
      });
    case 'file.too-large':
      return new Problem('too-large', fault, words);
    default:
      return invalidField('name', fault, words);
  }
}
