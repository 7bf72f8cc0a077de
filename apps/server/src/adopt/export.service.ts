import { Inject, Injectable } from '@nestjs/common';
import { countOf, formatSize } from '@quay/core';
import type { Task, TaskReport } from '@quay/contract';
import { createHash } from 'node:crypto';
import { mkdir, open, rename, rm, utimes, writeFile } from 'node:fs/promises';
import { dirname, join } from 'node:path';
import { DataSource } from 'typeorm';
import { LedgerService, SYSTEM_ACTOR } from '../ledger/ledger.service.js';
import type { Who } from '../people/who.js';
import { BlobKeeper, bytesOf } from '../platform/blobs/blob-keeper.js';
import { BLOBS, type BlobStore } from '../platform/blobs/blob-store.js';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Events } from '../platform/events/events.js';
import { Problem } from '../platform/problems/problem.js';
import { AccessService } from '../stores/access.service.js';
import { requireAdmin } from '../stores/labels.service.js';
import { contents } from '../stores/stores.queries.js';
import { newExportName } from './import.service.js';
import { TasksService, type TaskRow } from './tasks.service.js';

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
    requireAdmin(who);
    await this.access.requireStore(who, storeId, 'manage');
    if (!this.config.exportRoot)
      throw new Problem('conflict', 'export.not-set-up', 'No folder of the server is set up for exports.');
    const [store] = await this.db.query<{ name: string }[]>('SELECT name FROM store WHERE id = $1', [storeId]);
    return this.tasks.ask(who, 'export', { storeId, store: store?.name ?? '' });
  }

  private async run(task: TaskRow, tell: (progress: Task['progress']) => Promise<void>): Promise<TaskReport> {
    const { storeId, store } = task.detail as { storeId: string; store: string };
    const target = join(this.config.exportRoot as string, newExportName(store, this.clock.date()));
    const making = `${target}.making`;
    await mkdir(making, { recursive: true, mode: 0o700 });
    const report: TaskReport = { words: '', files: 0, bytes: 0, verified: 0, notes: [] };
    try {
      const top = await this.db.query<{ id: string }[]>(
        'SELECT n.id FROM node n JOIN node root ON root.id = n.parent_id WHERE root.store_id = $1 AND root.parent_id IS NULL AND n.trashed_at IS NULL AND NOT n.litter',
        [storeId],
      );
      const found = await contents(
        this.db.manager,
        top.map((t) => t.id),
      );
      const sums: string[] = [];
      const lines: string[] = [];
      for (const [index, item] of found.entries()) {
        const path = join(making, item.path);
        if (item.kind === 'folder') await mkdir(path, { recursive: true, mode: 0o700 });
        else {
          await mkdir(dirname(path), { recursive: true, mode: 0o700 });
          if (!(await this.write(path, item))) {
            report.notes.push({ path: item.path, why: 'its bytes are missing or damaged' });
            continue;
          }
          report.files += 1;
          report.verified += 1;
          report.bytes += item.sizeBytes;
          sums.push(`${item.sha256}  ${item.path}`);
          lines.push(
            JSON.stringify({
              path: item.path,
              sizeBytes: item.sizeBytes,
              sha256: item.sha256,
              modifiedAt: new Date(item.modifiedAt).toISOString(),
            }),
          );
        }
        await tell({
          done: index + 1,
          total: found.length,
          bytes: report.bytes,
          words: `${index + 1} of ${countOf(found.length, 'item')}`,
        });
      }
      await writeFile(join(making, 'SHA256SUMS'), `${sums.join('\n')}\n`);
      await writeFile(join(making, 'manifest.jsonl'), `${lines.join('\n')}\n`);
      await rename(making, target);
    } catch (error) {
      await rm(making, { recursive: true, force: true });
      throw error;
    }
    await this.events.change((tx) =>
      this.ledger.append(tx, {
        kind: 'store.exported',
        actor: { kind: 'person', id: task.asked_by, name: task.asker ?? 'The admin' },
        detail: { store, files: report.files, path: target },
      }),
    );
    report.words = `${countOf(report.files, 'file')} (${formatSize(report.bytes)}) written to ${target}, each compared with its checksum. "sha256sum -c SHA256SUMS" checks them again.`;
    return report;
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
    requireAdmin(who);
    return this.tasks.ask(who, 'scrub', {});
  }

  /** Files whose bytes are damaged or missing now. */
  async damaged(who: Who): Promise<{ nodeId: string; name: string; version: number; since: string }[]> {
    requireAdmin(who);
    const rows = await this.db.query<{ nodeId: string; name: string; version: number; since: Date }[]>(
      'SELECT n.id AS "nodeId", n.name, v.number AS version, b.damaged_at AS since FROM blob b JOIN file_version v ON v.sha256 = b.sha256 JOIN node n ON n.id = v.node_id WHERE b.damaged_at IS NOT NULL ORDER BY b.damaged_at LIMIT 500',
    );
    return rows.map((r) => ({ ...r, since: r.since.toISOString() }));
  }

  /** Reads what has waited longest; used every hour for a part, and as a task for all. */
  async scrubSome(): Promise<void> {
    await this.told(await this.keeper.scrub(SCRUB_AT_ONCE, SCRUB_BYTES));
  }

  private async scrub(tell: (progress: Task['progress']) => Promise<void>): Promise<TaskReport> {
    const [all] = await this.db.query<{ n: string }[]>('SELECT count(*) AS n FROM blob');
    const total = Number(all?.n ?? 0);
    const report: TaskReport = { words: '', files: 0, bytes: 0, verified: 0, notes: [] };
    let [damaged, restored] = [0, 0];
    while (report.files < total) {
      const part = await this.keeper.scrub(Math.min(SCRUB_AT_ONCE, total - report.files), SCRUB_BYTES);
      if (part.checked === 0) break;
      report.files += part.checked;
      report.bytes += part.bytes;
      damaged += part.damaged;
      restored += part.restored;
      await this.told(part);
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

  private async told(part: { damaged: number; restored: number }): Promise<void> {
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
