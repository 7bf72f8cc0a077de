import { Injectable } from '@nestjs/common';
import {
  fileFault,
  pathFault,
  PATH_FAULT_WORDS,
  roomFault,
  type PathExtent,
  type StorePolicy,
  type VersionPolicy,
} from '@quay/core';
import { DataSource, type EntityManager } from 'typeorm';
import { invalidField } from '../platform/problems/problem.js';
import { refusal } from './refusal.js';
import { RoomService, type RoomFor } from './room.service.js';
import { extentTo } from './branch.queries.js';

export interface StoreRules extends StorePolicy, VersionPolicy {
  quotaBytes: number | null;
  usedBytes: number;
  trashDays: number | null;
}

/** Decides whether new bytes are let in: names, types, sizes, quotas, the disk. */
@Injectable()
export class AdmissionService {
  constructor(
    private readonly db: DataSource,
    private readonly rooms: RoomService,
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
      `SELECT quota_bytes AS quota, used_bytes AS used, largest_file_bytes AS largest, allowed_types AS types,
        versions_kept AS kept, thin_after_days AS thin, trash_days AS trash FROM store WHERE id = $1`,
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

  /** One file, before a byte of it moves. @throws Problem with the fault's code */
  async requireFile(to: RoomFor, file: { name: string; sizeBytes: number }): Promise<void> {
    const rules = await this.rules(to.storeId);
    const unfit = fileFault(file, rules);
    if (unfit) throw refusal(unfit, rules);
    const room = await this.rooms.room(to);
    const fault = roomFault(file.sizeBytes, room);
    if (fault) throw refusal(fault, ANY, room);
  }

  /**
   * Something comes into a folder: its path stays one that every desktop opens.
   * @param from the folders it comes from, if any: what is too deep already may still go where it lies no deeper
   * @throws Problem path.too-deep, path.too-long
   */
  async requireDepth(m: EntityManager, folderId: string, below: PathExtent, from: string[] = []): Promise<void> {
    const to = await extentTo(m, folderId);
    const before: PathExtent[] = [];
    for (const id of from) before.push(await extentTo(m, id));
    if (before.length > 0 && before.every((b) => to.levels <= b.levels && to.bytes <= b.bytes)) return;
    const fault = pathFault({ levels: to.levels + below.levels, bytes: to.bytes + below.bytes });
    if (fault) throw invalidField('name', fault, PATH_FAULT_WORDS[fault]);
  }

  /**
   * Files that come into a store in whatever way (moved, copied, put back, restored, renamed): its rules for types and
   * sizes hold for each, its quota for all. Their bytes are on the disk already.
   * @param addedBytes what the store does not hold yet
   */
  async requireFits(
    tx: EntityManager,
    chargedTo: string,
    storeId: string,
    files: readonly { name: string; sizeBytes: number }[],
    addedBytes: number,
  ): Promise<void> {
    const rules = await this.rules(storeId, tx);
    for (const file of files) {
      const fault = fileFault(file, rules);
      if (fault) throw refusal(fault, rules, undefined, file.name);
    }
    if (addedBytes === 0) return;
    const room = { ...(await this.rooms.room({ chargedTo, storeId }, null, tx)), diskFreeBytes: Infinity };
    const fault = roomFault(addedBytes, room);
    if (fault) throw refusal(fault, ANY, room);
  }
}

const ANY: StorePolicy = { allowedTypes: [], largestFileBytes: null };
const numberOrNull = (text: string | null): number | null => (text === null ? null : Number(text));
