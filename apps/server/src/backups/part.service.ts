import { Inject, Injectable } from '@nestjs/common';
import { countOf, formatSize, mendName, momentInWords, SYSTEM_ACTOR } from '@quay/core';
import { existsSync } from 'node:fs';
import { join } from 'node:path';
import { DataSource } from 'typeorm';
import { ensureReach } from '../access/access-reach.js';
import { AccessService } from '../access/access.service.js';
import type { Bringer } from '../access/folder-admission.js';
import { LedgerService } from '../ledger/ledger.service.js';
import { BLOBS, type BlobStore } from '../platform/blobs/blob-store.js';
import { Clock } from '../platform/clock.js';
import { migrate, trialOptions } from '../platform/database/database.js';
import { Events } from '../platform/events/events.js';
import { Office } from '../platform/office.js';
import { RoomService } from '../stores/room.service.js';
import { BatchRecorder } from '../transfers/batch-recorder.service.js';
import type { Arrived } from '../transfers/recording.js';
import { openFile } from './copying/bring.js';
import { read } from './copying/bytes.js';
import { restore, withScratch } from './copying/database.js';
import { BackupFault } from './copying/fault.js';
import { blobPath, momentOf, readManifest } from './copying/layout.js';
import { listOf, requireFiles, withLocks } from './copying/make.js';
import type { Opener } from './copying/sealer.js';
import { bringerOf, filesBelow, partAt, type FoundPart, type PartFile } from './part.queries.js';

export interface PartOrder {
  databaseUrl: string;
  /** The folder of backups, and which of them. */
  source: string;
  stamp: string;
  /** What is wanted: "Projects/Weir House". */
  path: string;
  /** The folder to put it into; null: where it was. */
  into: string | null;
}

export interface PartBrought {
  words: string;
  files: number;
  /** What could not be brought, each with the reason. */
  notes: string[];
}

const GROUP_FILES = 100;
const GROUP_BYTES = 64_000_000;

/**
 * Brings a store, a folder or a file of a backup into the office as it is now, beside what is there: into a folder that
 * says of when it is. Nothing that is there is changed; asked again, what is there already is left out.
 */
@Injectable()
export class BringPart {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly office: Office,
    private readonly access: AccessService,
    private readonly rooms: RoomService,
    private readonly recorder: BatchRecorder,
    private readonly ledger: LedgerService,
    private readonly events: Events,
    @Inject(BLOBS) private readonly blobs: BlobStore,
  ) {}

  /** @throws BackupFault backup.no-such-path, backup.nowhere, backup.damaged */
  async bring(order: PartOrder, open: Opener, tell: (words: string) => void): Promise<PartBrought> {
    const folder = join(order.source, order.stamp);
    const manifest = await readManifest(folder);
    await requireFiles(folder, manifest);
    const names = new Map((await listOf(folder, open)).map((b) => [b.sha256, b.name]));
    const { part, files } = await withLocks(order.databaseUrl, () =>
      withScratch(order.databaseUrl, async (scratchUrl) => {
        tell('Reads the database of the backup');
        await restore(scratchUrl, await openFile(folder, manifest, 'database.dump', open));
        return looked(scratchUrl, order.path);
      }),
    );
    const target = await this.targetOf(part, order.into);
    const who = await bringerOf(this.db, target.storeId);
    if (!who) throw new BackupFault('backup.nowhere', 'nobody is there who could bring it into that store.');
    await ensureReach(this.db.manager, [who.personId], this.clock.date());
    const { zone } = await this.office.settings();
    const at = momentInWords(momentOf(order.stamp) ?? 0, this.clock.now(), zone);
    const top = mendName(`${part.name} (as of ${at})`);
    const from = (file: PartFile) => blobPath(order.source, names.get(file.sha256) ?? file.sha256);
    const work = { by: this.access.bringer(who), folderId: target.id, top, open, from, notes: [] as string[] };
    let done = 0;
    for (const group of grouped(files)) {
      done += await this.take(work, group);
      tell(`${done} of ${countOf(files.length, 'file')}`);
    }
    await this.events.change((tx) =>
      this.ledger.append(tx, {
        kind: 'backup.part-brought',
        actor: { ...SYSTEM_ACTOR, name: 'Whoever has the machine' },
        nodeId: target.id,
        detail: { path: order.path, at, files: String(done), as: top },
      }),
    );
    const bytes = files.reduce((sum, f) => sum + f.sizeBytes, 0);
    return {
      words: `${countOf(done, 'file')} of ${files.length} (${formatSize(bytes)}) are in "${top}" in ${target.name}.`,
      files: done,
      notes: work.notes,
    };
  }

  /** Where it was, if that is there still; otherwise its store. */
  private async targetOf(part: FoundPart, into: string | null): Promise<FoundPart> {
    if (into !== null) {
      const asked = await partAt(this.db, into);
      if (!asked) throw new BackupFault('backup.nowhere', `there is no folder ${into}.`);
      return asked;
    }
    const [there] = await this.db.query<FoundPart[]>(
      `SELECT n.id, coalesce(nullif(n.name, ''), s.name) AS name, n.parent_id AS "parentId", n.store_id AS "storeId"
         FROM node n JOIN store s ON s.id = n.store_id
        WHERE n.kind = 'folder' AND n.purged_at IS NULL AND n.trashed_at IS NULL
          AND (n.id = coalesce($1::uuid, $2::uuid) OR (n.store_id = $3 AND n.parent_id IS NULL))
        ORDER BY n.parent_id IS NULL LIMIT 1`,
      [part.parentId, part.id, part.storeId],
    );
    if (!there)
      throw new BackupFault('backup.nowhere', 'its store is not there any more. Say where to, as in --to "Projects".');
    return there;
  }

  private async take(work: Taking, group: PartFile[]): Promise<number> {
    const room = await work.by.admit(work.folderId);
    return this.rooms.whileBringing(room, null, async ({ ask }) => {
      const arrived: Arrived[] = [];
      let bytes = 0;
      try {
        for (const file of group) {
          await ask(bytes + file.sizeBytes, bytes);
          const staged = await this.stage(work, file);
          if (!staged) continue;
          arrived.push(staged);
          bytes += file.sizeBytes;
        }
        if (arrived.length === 0) return 0;
        const how = { folderId: work.folderId, conflict: 'refuse' as const, beganAt: new Date(8.64e15) };
        const entries = await this.recorder.record(work.by, arrived, how, async () => undefined);
        return entries.filter((entry, i) => {
          if ('answer' in entry) return true;
          const path = [...(arrived[i]?.below ?? []), arrived[i]?.name].join('/');
          work.notes.push(`${path}: ${entry.code === 'name.taken' ? 'is there already' : entry.words}`);
          return false;
        }).length;
      } finally {
        await Promise.all(arrived.map((f) => f.blob.discard()));
      }
    });
  }

  private async stage({ top, open, from, notes }: Taking, file: PartFile): Promise<Arrived | null> {
    const path = from(file);
    const note = (why: string) => {
      notes.push(`${[...file.below, file.name].join('/')}: ${why}`);
      return null;
    };
    if (!existsSync(path)) return note('is missing in the backup');
    const blob = await this.blobs.stage(await open(path, read(path)), null, { flush: false });
    if (blob.sha256.toString('hex') !== file.sha256) {
      await blob.discard();
      return note('is damaged in the backup');
    }
    return { below: [top, ...file.below], name: file.name, modifiedAt: file.modifiedAt, blob };
  }
}

interface Taking {
  by: Bringer;
  folderId: string;
  /** The folder that everything goes into. */
  top: string;
  open: Opener;
  from: (file: PartFile) => string;
  notes: string[];
}

async function looked(scratchUrl: string, path: string): Promise<{ part: FoundPart; files: PartFile[] }> {
  const db = await new DataSource(trialOptions(scratchUrl)).initialize();
  try {
    await migrate(db);
    const part = await partAt(db, path);
    if (!part)
      throw new BackupFault('backup.no-such-path', `there is no "${path}" in that backup. Paths begin with the store.`);
    return { part, files: await filesBelow(db, part.id) };
  } finally {
    await db.destroy();
  }
}

function* grouped(files: PartFile[]): Generator<PartFile[]> {
  let group: PartFile[] = [];
  let bytes = 0;
  for (const file of files) {
    group.push(file);
    bytes += file.sizeBytes;
    if (group.length < GROUP_FILES && bytes < GROUP_BYTES) continue;
    yield group;
    [group, bytes] = [[], 0];
  }
  if (group.length > 0) yield group;
}
