import { Inject, Injectable } from '@nestjs/common';
import { countOf, formatSize, keepBothName, nameKey, SYSTEM_ACTOR } from '@quay/core';
import type { Damaged, DamagedVersion, Task, TaskReport } from '@quay/contract';
import { createHash } from 'node:crypto';
import { mkdir, open, rename, rm, utimes, type FileHandle } from 'node:fs/promises';
import { join } from 'node:path';
import { DataSource } from 'typeorm';
import { LedgerService } from '../ledger/ledger.service.js';
import type { Who } from '../people/who.js';
import { BlobKeeper, bytesOf, type ScrubAnswer } from '../platform/blobs/blob-keeper.js';
import { BLOBS, type BlobStore } from '../platform/blobs/blob-store.js';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Events } from '../platform/events/events.js';
import { Problem } from '../platform/problems/problem.js';
import { isSeen } from '../access/access.queries.js';
import { AccessService } from '../access/access.service.js';
import { childrenOf, type ContentFile } from '../stores/branch.queries.js';
import { newExportName } from './import.service.js';
import { TasksService, type TaskRow } from './tasks.service.js';

/** limits.h: what Linux opens at the most. */
const PATH_MAX = 4096;
const NOTES_MOST = 1000;
const SCRUB_AT_ONCE = 50;
const SCRUB_BYTES = 2_000_000_000;

/**
 * Writes a store out as plain folders with a manifest: SHA256SUMS, which `sha256sum -c` checks, and manifest.jsonl with
 * sizes, times and versions. Also the scrubber, which reads every blob and compares it with its name.
 */
@Injectable()
export class ExportService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly access: AccessService,
    private readonly ledger: LedgerService,
    private readonly events: Events,
    private readonly keeper: BlobKeeper,
    private readonly tasks: TasksService,
    @Inject(BLOBS) private readonly blobs: BlobStore,
    @Inject(CONFIG) private readonly config: Config,
  ) {
    tasks.define(
      'export',
      (d) => `Export ${d['store']}`,
      (task, tell) => this.run(task, tell),
    );
    tasks.define(
      'scrub',
      () => 'Read every file against its checksum',
      (_task, tell) => this.scrub(tell),
    );
  }

  async ask(who: Who, storeId: string): Promise<Task> {
    await this.access.requireStore(who, storeId, 'manage');
    if (!this.config.exportRoot)
      throw new Problem('conflict', 'export.not-set-up', 'No folder of the server is set up for exports.');
    const [store] = await this.db.query<{ name: string }[]>('SELECT name FROM store WHERE id = $1', [storeId]);
    return this.tasks.ask(who, 'export', { storeId, store: store?.name ?? '' });
  }

  private async run(task: TaskRow, tell: (progress: Task['progress']) => Promise<void>): Promise<TaskReport> {
    const { storeId, store } = task.detail as { storeId: string; store: string };
    const personId = task.asked_by as string;
    await this.access.requireStore({ personId }, storeId, 'manage');
    const target = join(this.config.exportRoot as string, newExportName(store, this.clock.date()));
    const making = `${target}.making`;
    await mkdir(making, { recursive: true, mode: 0o700 });
    const report: TaskReport = { words: '', files: 0, bytes: 0, verified: 0, notes: [] };
    try {
      const [root] = await this.db.query<{ id: string }[]>(
        'SELECT id FROM node WHERE store_id = $1 AND parent_id IS NULL',
        [storeId],
      );
      const top = new Set<string>();
      for await (const item of childrenOf(this.db.manager, personId, root?.id as string)) top.add(nameKey(item.path));
      const lists = [new Listing(making, 'SHA256SUMS', top), new Listing(making, 'manifest.jsonl', top)] as const;
      let done = 0;
      try {
        for await (const item of this.below(personId, root?.id as string, '')) {
          done += 1;
          await this.writeOut(making, item, report, lists);
          const words = `${countOf(done, 'item')}, ${formatSize(report.bytes)}`;
          await tell({ done, total: null, bytes: report.bytes, words });
        }
      } finally {
        for (const list of lists) await list.close();
      }
      await rename(making, target);
      await this.told(task, store, report.files, target);
      const sums = lists[0].name;
      report.words = `${countOf(report.files, 'file')} (${formatSize(report.bytes)}) written to ${target}, each compared with its checksum. "sha256sum -c ${sums.includes(' ') ? `'${sums}'` : sums}" checks them again.`;
      return report;
    } catch (error) {
      await rm(making, { recursive: true, force: true });
      throw error;
    }
  }

  /** Everything live in a folder and below that whoever asked may read, each with its path. */
  private async *below(personId: string, folderId: string, path: string): AsyncGenerator<ContentFile> {
    await this.access.ensure({ personId });
    for await (const item of childrenOf(this.db.manager, personId, folderId)) {
      const at = { ...item, path: path === '' ? item.path : `${path}/${item.path}` };
      yield at;
      if (item.kind === 'folder') yield* this.below(personId, item.id, at.path);
    }
  }

  /** One item; what cannot be written is named in the report and stops nothing. */
  private async writeOut(
    making: string,
    item: ContentFile,
    report: TaskReport,
    [sums, manifest]: readonly [Listing, Listing],
  ): Promise<void> {
    const note = (why: string) => {
      if (report.notes.length < NOTES_MOST) report.notes.push({ path: item.path.slice(0, 300), why });
    };
    const path = join(making, item.path);
    if (Buffer.byteLength(path) >= PATH_MAX)
      return note(`its path is longer than ${PATH_MAX} bytes, which this disk cannot hold`);
    if (item.kind === 'folder') {
      await mkdir(path, { mode: 0o700 });
      return;
    }
    if (!(await this.write(path, item))) return note('its bytes are missing or damaged');
    report.files += 1;
    report.verified += 1;
    report.bytes += item.sizeBytes;
    await sums.add(`${item.sha256}  ${item.path}`);
    const { sizeBytes, sha256 } = item;
    await manifest.add(
      JSON.stringify({ path: item.path, sizeBytes, sha256, modifiedAt: new Date(item.modifiedAt).toISOString() }),
    );
  }

  private async told(task: TaskRow, store: string, files: number, path: string): Promise<void> {
    await this.events.change((tx) =>
      this.ledger.append(tx, {
        kind: 'store.exported',
        actor: { kind: 'person', id: task.asked_by, name: task.asker ?? 'Somebody who has left' },
        detail: { store, files, path },
      }),
    );
  }

  private async write(path: string, item: { sha256: string; modifiedAt: number }): Promise<boolean> {
    const blob = await this.blobs.open(Buffer.from(item.sha256, 'hex'));
    if (!blob) return false;
    const file = await open(path, 'wx', 0o600);
    const hash = createHash('sha256');
    try {
      for await (const piece of bytesOf(blob)) {
        hash.update(piece);
        await file.write(piece);
      }
    } finally {
      await file.close();
      await blob.close();
    }
    if (hash.digest('hex') !== item.sha256) {
      await rm(path);
      return false;
    }
    await utimes(path, new Date(item.modifiedAt), new Date(item.modifiedAt));
    return true;
  }

  async askScrub(who: Who): Promise<Task> {
    return this.tasks.ask(who, 'scrub', {});
  }

  /** Files whose bytes are damaged or missing now. */
  async damaged(who: Who): Promise<Damaged> {
    await this.access.ensure(who);
    const rows = await this.db.query<(Omit<DamagedVersion, 'since'> & { since: Date; total: number })[]>(
      `SELECT n.id AS "nodeId",
        CASE WHEN ${isSeen('n', '$1')} THEN n.name ELSE 'A file that is closed to you' END AS name,
              v.number AS version, b.damaged_at AS since, count(*) OVER ()::int AS total
         FROM blob b JOIN file_version v ON v.sha256 = b.sha256 JOIN node n ON n.id = v.node_id
        WHERE b.damaged_at IS NOT NULL ORDER BY b.damaged_at LIMIT 500`,
      [who.personId],
    );
    const versions = rows.map(({ total: _, since, ...r }) => ({ ...r, since: since.toISOString() }));
    return { versions, total: rows[0]?.total ?? 0 };
  }

  /** Reads what has waited longest; used every hour for a part, and as a task for all. */
  async scrubSome(): Promise<void> {
    await this.scrubbed(await this.keeper.scrub('longest', SCRUB_AT_ONCE, SCRUB_BYTES));
  }

  private async scrub(tell: (progress: Task['progress']) => Promise<void>): Promise<TaskReport> {
    const [all] = await this.db.query<{ n: string }[]>('SELECT count(*) AS n FROM blob');
    let total = Number(all?.n ?? 0);
    const report: TaskReport = { words: '', files: 0, bytes: 0, verified: 0, notes: [] };
    let [damaged, restored] = [0, 0];
    let after: Buffer | null = null;
    for (;;) {
      const part: ScrubAnswer = await this.keeper.scrub({ after }, SCRUB_AT_ONCE, SCRUB_BYTES);
      after = part.last;
      if (after === null) break;
      report.files += part.checked;
      report.bytes += part.bytes;
      damaged += part.damaged;
      restored += part.restored;
      await this.scrubbed(part);
      // Those that came meanwhile are read too.
      total = Math.max(total, report.files);
      await tell({
        done: report.files,
        total,
        bytes: report.bytes,
        words: `${report.files} of ${countOf(total, 'blob')}`,
      });
    }
    report.verified = report.files - damaged;
    report.words = `${countOf(report.files, 'blob')} read (${formatSize(report.bytes)}): ${damaged === 0 ? 'all sound' : `${damaged} damaged`}${restored ? `, ${restored} restored from the second copy` : ''}.`;
    return report;
  }

  private async scrubbed(part: { damaged: number; restored: number }): Promise<void> {
    for (const [kind, count] of [
      ['blob.damaged', part.damaged],
      ['blob.restored', part.restored],
    ] as const) {
      if (count > 0)
        await this.events.change((tx) =>
          this.ledger.append(tx, { kind, actor: SYSTEM_ACTOR, detail: { count: countOf(count, 'file') } }),
        );
    }
  }
}

/** A list that is written beside what is exported, line by line, under a name that nothing else there has. */
class Listing {
  readonly name: string;
  private file: FileHandle | null = null;

  constructor(
    private readonly folder: string,
    wished: string,
    taken: ReadonlySet<string>,
  ) {
    this.name = taken.has(nameKey(wished)) ? keepBothName(wished, (key) => taken.has(key)) : wished;
  }

  async add(line: string): Promise<void> {
    this.file ??= await open(join(this.folder, this.name), 'wx', 0o600);
    await this.file.write(`${line}\n`);
  }

  /** A list of nothing is there, too. */
  async close(): Promise<void> {
    this.file ??= await open(join(this.folder, this.name), 'wx', 0o600);
    await this.file.close();
  }
}
