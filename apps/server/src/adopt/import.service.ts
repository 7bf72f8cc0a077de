import { Inject, Injectable } from '@nestjs/common';
import { countOf, formatSize, mendName } from '@quay/core';
import type { ServerFolder, Task, TaskReport } from '@quay/contract';
import { realpath, type FileHandle } from 'node:fs/promises';
import { basename, resolve, sep } from 'node:path';
import { DataSource } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';
import { LedgerService } from '../ledger/ledger.service.js';
import { hasDuty } from '../people/duties.js';
import type { Who } from '../people/who.js';
import { isSound } from '../platform/blobs/blob-keeper.js';
import { BLOBS, type AskRoom, type BlobStore } from '../platform/blobs/blob-store.js';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Events } from '../platform/events/events.js';
import { invalidField, Problem } from '../platform/problems/problem.js';
import type { Bringer } from '../access/folder-admission.js';
import { AccessService } from '../access/access.service.js';
import { RoomService } from '../stores/room.service.js';
import { actorOf } from '../stores/names.js';
import { BatchRecorder } from '../transfers/batch-recorder.service.js';
import type { Arrived } from '../transfers/recording.js';
import { TasksService, type TaskRow } from './tasks.service.js';
import { entriesOf, openBelow, walk, type FoundFile, type Note } from './walk.js';

const GROUP_FILES = 100;
const GROUP_BYTES = 64_000_000;
const NOTES_MOST = 1000;

/**
 * Adopts a directory of the server's disk: copies it into a folder, each file read once while its hashes are made and
 * again from the blob store to verify them. Symbolic links are not followed, special files are left out, and both are
 * reported. Started again after a crash it takes what is there already for done.
 */
@Injectable()
export class ImportService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly access: AccessService,
    private readonly rooms: RoomService,
    private readonly recorder: BatchRecorder,
    private readonly ledger: LedgerService,
    private readonly events: Events,
    private readonly tasks: TasksService,
    @Inject(BLOBS) private readonly blobs: BlobStore,
    @Inject(CONFIG) private readonly config: Config,
  ) {
    tasks.define(
      'import',
      (d) => `Adopt ${d['path']} into ${d['folder']}`,
      (task, tell) => this.run(task, tell),
    );
  }

  /** One directory below the allowed roots; without a path the roots themselves. */
  async browse(who: Who, path: string | undefined): Promise<ServerFolder> {
    if (path === undefined) return { path: '', roots: this.config.importRoots, folders: [], files: 0 };
    const { folder, real } = await this.openAllowed(path);
    try {
      const entries = await entriesOf(folder);
      return {
        path: real,
        roots: this.config.importRoots,
        folders: entries.filter((e) => e.isDirectory()).map((e) => e.name),
        files: entries.filter((e) => e.isFile()).length,
      };
    } finally {
      await folder.close();
    }
  }

  async ask(who: Who, path: string, folderId: string): Promise<Task> {
    const { folder: opened, real } = await this.openAllowed(path);
    await opened.close();
    const folder = await this.access.requireNode(who, folderId, 'add');
    return this.tasks.ask(who, 'import', { path: real, folderId, folder: folder.name, personName: who.name });
  }

  /**
   * A folder within one of the allowed roots, opened.
   * @throws Problem import.not-allowed, import.no-folder
   */
  private async openAllowed(path: string): Promise<{ folder: FileHandle; real: string }> {
    const real = path.includes('\0') ? null : await realpath(resolve('/', path)).catch(() => null);
    const known = await Promise.all(this.config.importRoots.map((root) => realpath(root).catch(() => null)));
    const roots = known.filter((root) => root !== null);
    if (real === null || !roots.some((root) => real === root || real.startsWith(root + sep)))
      throw new Problem(
        'forbidden',
        'import.not-allowed',
        this.config.importRoots.length
          ? `Only folders below ${this.config.importRoots.join(' or ')} can be adopted.`
          : 'No folder of the server is set up for adopting.',
      );
    const folder = await openBelow(real, roots);
    if (!folder) throw invalidField('path', 'import.no-folder', 'That is not a folder.');
    return { folder, real };
  }

  private async run(task: TaskRow, tell: (progress: Task['progress']) => Promise<void>): Promise<TaskReport> {
    const { path, folderId, personName } = task.detail as {
      path: string;
      folderId: string;
      folder: string;
      personName: string;
    };
    const who = await this.asker(task.asked_by as string, personName);
    const report: TaskReport = { words: '', files: 0, bytes: 0, verified: 0, notes: [] };
    const note = (at: string, why: string) => report.notes.length < NOTES_MOST && report.notes.push({ path: at, why });
    const { folder: top, real: root } = await this.openAllowed(path);
    let group: FoundFile[] = [];
    let [groupBytes, done, seen] = [0, 0, 0];
    const words = () => `${countOf(done, 'file')}, ${formatSize(report.bytes)}`;
    const flush = async () => {
      if (group.length === 0) return;
      const taken = group;
      [group, groupBytes] = [[], 0];
      await this.takeAll(who, folderId, taken, report, note);
      done += taken.length;
      await tell({ done, total: null, bytes: report.bytes, words: words() });
    };
    try {
      for await (const found of walk(top, root, [mendName(basename(root))], note)) {
        seen += 1;
        group.push(found);
        groupBytes += found.sizeBytes;
        if (group.length >= GROUP_FILES || groupBytes >= GROUP_BYTES) await flush();
      }
      await flush();
    } finally {
      await Promise.all([top.close(), ...group.map((found) => found.file.close())]);
    }
    await this.events.change((tx) =>
      this.ledger.append(tx, {
        kind: 'store.imported',
        actor: actorOf(who),
        nodeId: folderId,
        detail: { files: report.files, folder: task.detail['folder'] ?? '', path: root },
      }),
    );
    report.words = `${countOf(report.files, 'file')} adopted (${formatSize(report.bytes)}), ${report.verified} verified against their checksums${report.notes.length ? `, ${countOf(report.notes.length, 'note')}` : ''}. ${countOf(seen, 'file')} were found.`;
    return report;
  }

  private async takeAll(who: Who, folderId: string, group: FoundFile[], report: TaskReport, note: Note): Promise<void> {
    try {
      const by = this.access.bringer(who);
      const room = await by.admit(folderId);
      await this.rooms.whileBringing(room, null, ({ ask }) => this.take(by, folderId, group, report, note, ask));
    } finally {
      await Promise.all(group.map((found) => found.file.close()));
    }
  }

  private async take(
    by: Bringer,
    folderId: string,
    group: FoundFile[],
    report: TaskReport,
    note: Note,
    ask: AskRoom,
  ): Promise<void> {
    const files: (Arrived & { from: string })[] = [];
    let bytes = 0;
    try {
      for (const found of group) {
        // Before anything of it is written; what it grows by meanwhile is noticed and not kept.
        await ask(bytes + found.sizeBytes, bytes);
        const staged = await this.stage(found).catch((error: NodeJS.ErrnoException) => {
          if (error.code === 'ENOSPC') throw error;
          note(found.path, error.message);
          return null;
        });
        if (!staged) continue;
        files.push(staged);
        bytes += staged.blob.sizeBytes;
      }
      if (files.length === 0) return;
      const entries = await this.recorder.record(
        by,
        files,
        { folderId, conflict: 'refuse', beganAt: new Date(8.64e15) },
        async () => undefined,
      );
      for (const [i, entry] of entries.entries()) {
        const file = files[i] as (typeof files)[number];
        if (!('answer' in entry)) {
          note(file.from, entry.code === 'name.taken' ? 'is there already' : entry.words);
          continue;
        }
        if (entry.answer.name !== file.name)
          note(file.from, `is called "${entry.answer.name}" here, because of a twin`);
        report.files += 1;
        report.bytes += file.blob.sizeBytes;
        if (await isSound(this.blobs, file.blob.sha256, file.blob.sizeBytes)) report.verified += 1;
        else note(file.from, 'does not read back as it was written');
      }
    } finally {
      await Promise.all(files.map((f) => f.blob.discard()));
    }
  }

  /** Copies one opened file; a change under the hands is noticed by size and time. */
  private async stage(found: FoundFile): Promise<Arrived & { from: string }> {
    const { file } = found;
    const before = await file.stat();
    const stream = file.createReadStream({ autoClose: false, start: 0, end: Infinity, highWaterMark: 1024 * 1024 });
    const blob = await this.blobs.stage(stream, null, { flush: false });
    const after = await file.stat();
    if (after.size !== before.size || after.mtimeMs !== before.mtimeMs || blob.sizeBytes !== before.size) {
      await blob.discard();
      throw new Error('was changed while it was read');
    }
    return { below: found.below, name: found.name, modifiedAt: before.mtime, blob, from: found.path };
  }

  private async asker(personId: string, name: string): Promise<Who> {
    const [row] = await this.db.query<Pick<Who, 'role' | 'duties'>[]>(
      'SELECT role, duties FROM person WHERE id = $1 AND disabled_at IS NULL',
      [personId],
    );
    if (!row || !hasDuty(row, 'run-server'))
      throw new Problem(
        'forbidden',
        'duty.missing',
        'Whoever asked for this has left, or does not run the server any more.',
      );
    return { personId, name, ...row };
  }
}

export const newExportName = (store: string, now: Date): string =>
  `${mendName(store)} ${now.toISOString().slice(0, 19).replace(/[:T]/g, '-')} ${uuidv7().slice(-4)}`;
