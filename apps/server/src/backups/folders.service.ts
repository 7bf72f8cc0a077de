import { Inject, Injectable } from '@nestjs/common';
import { formatSize } from '@quay/core';
import type { BackupCopies, BackupCopy, BackupFolderFacts } from '@quay/contract';
import { access, constants, stat, statfs } from 'node:fs/promises';
import { join } from 'node:path';
import { DataSource } from 'typeorm';
import { CONFIG, type Config } from '../platform/config.js';
import { blobRootOf } from '../platform/office.js';
import { notFound } from '../platform/problems/problem.js';
import { inTime, nearest, refusalWords } from '../setup/places.js';
import { BackupsService } from './backups.service.js';
import { faultOf } from './copying/fault.js';
import { backupsIn, momentOf, readManifest } from './copying/layout.js';
import { loadPlace } from './places.queries.js';

/** Of the newest backups, whose contents are read to be shown. */
const SHOWN = 60;

/** Looks at the folders themselves: what they are like, and which backups lie there. */
@Injectable()
export class BackupFolders {
  constructor(
    private readonly db: DataSource,
    private readonly backups: BackupsService,
    @Inject(CONFIG) private readonly config: Config,
  ) {}

  async look(folder: string): Promise<BackupFolderFacts> {
    const neededBytes = await this.neededBytes();
    const base = { folder, freeBytes: null, neededBytes };
    const among = await this.backups.folderFault(folder);
    if (among !== null) return { ...base, mark: 'fail', words: among };
    return inTime(this.judge(folder, neededBytes), { ...base, mark: 'fail', words: 'It does not answer.' });
  }

  private async judge(folder: string, neededBytes: number): Promise<BackupFolderFacts> {
    try {
      const there = await nearest(folder);
      await access(there, constants.W_OK | constants.X_OK);
      const { bavail, bsize } = await statfs(there);
      const freeBytes = bavail * bsize;
      const base = { folder, freeBytes, neededBytes };
      const free = `${formatSize(freeBytes)} are free; the first backup takes about ${formatSize(neededBytes)}.`;
      if (freeBytes < neededBytes) return { ...base, mark: 'fail', words: `Too little room: ${free}` };
      const bytes = (await blobRootOf(this.db.manager)) ?? this.config.blobRoot;
      if ((await stat(there)).dev === (await stat(bytes)).dev)
        return {
          ...base,
          mark: 'warn',
          words: `On the same disk as the files: it helps against mistakes, not when the disk fails. ${free}`,
        };
      return { ...base, mark: 'ok', words: `On another disk. ${free}` };
    } catch (error) {
      const words = `Nothing can be kept there: ${refusalWords(error as NodeJS.ErrnoException)}.`;
      return { folder, freeBytes: null, neededBytes, mark: 'fail', words };
    }
  }

  private async neededBytes(): Promise<number> {
    const [row] = await this.db.query<{ bytes: number }[]>(
      `SELECT (pg_database_size(current_database()) + coalesce((SELECT sum(size_bytes) FROM blob), 0))::float8 AS bytes`,
    );
    return row?.bytes ?? 0;
  }

  async copies(id: string): Promise<BackupCopies> {
    const place = await loadPlace(this.db, id);
    if (!place) throw notFound('This place for backups');
    return inTime(found(place.folder), { copies: [], freeBytes: null, fault: 'The folder does not answer.' });
  }
}

async function found(folder: string): Promise<BackupCopies> {
  try {
    const stamps = (await backupsIn(folder)).reverse();
    const { bavail, bsize } = await statfs(folder);
    const copies: BackupCopy[] = [];
    for (const stamp of stamps.slice(0, SHOWN)) {
      const manifest = await readManifest(join(folder, stamp)).catch(() => null);
      copies.push({
        stamp,
        at: new Date(momentOf(stamp) ?? 0).toISOString(),
        files: manifest?.blobs ?? 0,
        bytes: manifest?.bytes ?? 0,
        encrypted: (manifest?.recipients.length ?? 0) > 0,
      });
    }
    return { copies, freeBytes: bavail * bsize, fault: null };
  } catch (error) {
    return { copies: [], freeBytes: null, fault: `${folder} cannot be read: ${faultOf(error).message}` };
  }
}
