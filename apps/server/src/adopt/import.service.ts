import { Inject, Injectable } from '@nestjs/common';
import { countOf, formatSize, mendName } from '@quay/core';
import type { ServerFolder, Task, TaskReport } from '@quay/contract';
import { constants } from 'node:fs';
import { lstat, open, readdir, realpath } from 'node:fs/promises';
import { basename, join, resolve, sep } from 'node:path';
import { DataSource } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';
import { LedgerService } from '../ledger/ledger.service.js';
import type { Who } from '../people/who.js';
import { isSound } from '../platform/blobs/blob-keeper.js';
import { BLOBS, type BlobStore } from '../platform/blobs/blob-store.js';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Events } from '../platform/events/events.js';
import { invalidField, Problem } from '../platform/problems/problem.js';
import { AccessService } from '../stores/access.service.js';
import { AdmissionService } from '../stores/admission.service.js';
import { requireAdmin } from '../stores/labels.service.js';
import { actorOf } from '../stores/names.js';
import { Recorder, type Arrived } from '../transfers/recorder.service.js';
import { TasksService, type TaskRow } from './tasks.service.js';

const GROUP_FILES = 100;
const GROUP_BYTES = 64_000_000;
const NOTES_MOST = 1000;

interface Found {
  /** On the server's disk. */
  path: string;
  below: string[];
  name: string;
  sizeBytes: number;
}

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
    private readonly admission: AdmissionService,
    private readonly recorder: Recorder,
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
    requireAdmin(who);
    if (path === undefined) return { path: '', roots: this.config.importRoots, folders: [], files: 0 };
    const real = await this.allowed(path);
    const entries = await readdir(real, { withFileTypes: true });
    return {
      path: real,
      roots: this.config.importRoots,
      folders: entries
        .filter((e) => e.isDirectory())
        .map((e) => e.name)
        .sort(),
      files: entries.filter((e) => e.isFile()).length,
    };
  }

  async ask(who: Who, path: string, folderId: string): Promise<Task> {
    requireAdmin(who);
    const real = await this.allowed(path);
    const folder = await this.access.requireNode(who, folderId, 'edit');
    return this.tasks.ask(who, 'import', { path: real, folderId, folder: folder.name, personName: who.name });
  }

  /** The real path, when it lies within one of the allowed roots. @throws Problem import.not-allowed, import.no-folder */
  private async allowed(path: string): Promise<string> {
    const real = await realpath(resolve('/', path)).catch(() => null);
    const roots = await Promise.all(this.config.importRoots.map((root) => realpath(root).catch(() => null)));
    if (!roots.some((root) => root !== null && real !== null && (real === root || real.startsWith(root + sep))))
      throw new Problem(
        'forbidden',
        'import.not-allowed',
        this.config.importRoots.length
          ? `Only folders below ${this.config.importRoots.join(' or ')} can be adopted.`
          : 'No folder of the server is set up for adopting.',
      );
    const info = await lstat(real as string);
    if (!info.isDirectory()) throw invalidField('path', 'import.no-folder', 'That is not a folder.');
    return real as string;
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
    const root = await this.allowed(path);
    let group: Found[] = [];
    let [groupBytes, done, seen] = [0, 0, 0];
    const words = () => `${countOf(done, 'file')}, ${formatSize(report.bytes)}`;
    const flush = async () => {
      if (group.length === 0) return;
      await this.take(who, folderId, group, report, note);
      done += group.length;
      [group, groupBytes] = [[], 0];
      await tell({ done, total: null, bytes: report.bytes, words: words() });
    };
    for await (const found of walk(root, [mendName(basename(root))], note)) {
      seen += 1;
      group.push(found);
      groupBytes += found.sizeBytes;
      if (group.length >= GROUP_FILES || groupBytes >= GROUP_BYTES) await flush();
    }
    await flush();
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

  private async take(
    who: Who,
    folderId: string,
    group: Found[],
    report: TaskReport,
    note: (path: string, why: string) => void,
  ): Promise<void> {
    const files: (Arrived & { from: string })[] = [];
    try {
      for (const found of group) {
        const staged = await this.stage(found).catch((error: NodeJS.ErrnoException) => {
          if (error.code === 'ENOSPC') throw error;
          note(
            found.path,
            error.code === 'EACCES' ? 'cannot be read' : error.code === 'ELOOP' ? 'is a symbolic link' : error.message,
          );
          return null;
        });
        if (staged) files.push(staged);
      }
      if (files.length === 0) return;
      const entries = await this.recorder.many(
        who,
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
        report.files += 1;
        report.bytes += file.blob.sizeBytes;
        if (await isSound(this.blobs, file.blob.sha256, file.blob.sizeBytes)) report.verified += 1;
        else note(file.from, 'does not read back as it was written');
      }
    } finally {
      await Promise.all(files.map((f) => f.blob.discard()));
    }
  }

  /** Copies one file; a change under the hands is noticed by size and time. */
  private async stage(found: Found): Promise<Arrived & { from: string }> {
    // Never through a symbolic link, also not one that came after the folder was read.
    const file = await open(found.path, constants.O_RDONLY | constants.O_NOFOLLOW | constants.O_NONBLOCK);
    try {
      const before = await file.stat();
      if (!before.isFile()) throw new Error('is not a regular file');
      const blob = await this.blobs.stage(
        file.createReadStream({ autoClose: false, highWaterMark: 1024 * 1024 }),
        null,
        false,
      );
      const after = await file.stat();
      if (after.size !== before.size || after.mtimeMs !== before.mtimeMs || blob.sizeBytes !== before.size) {
        await blob.discard();
        throw new Error('was changed while it was read');
      }
      return { below: found.below, name: found.name, modifiedAt: before.mtime, blob, from: found.path };
    } finally {
      await file.close();
    }
  }

  private async asker(personId: string, name: string): Promise<Who> {
    const [row] = await this.db.query<{ role: Who['role']; groups: string[] }[]>(
      'SELECT role, ARRAY(SELECT group_id::text FROM group_member WHERE person_id = $1) AS groups FROM person WHERE id = $1 AND disabled_at IS NULL',
      [personId],
    );
    if (!row) throw new Problem('forbidden', 'admin.only', 'Whoever asked for this is not there any more.');
    return { personId, name, role: row.role, groupIds: row.groups };
  }
}

export const newExportName = (store: string, now: Date): string =>
  `${mendName(store)} ${now.toISOString().slice(0, 19).replace(/[:T]/g, '-')} ${uuidv7().slice(-4)}`;

/** Every regular file below a directory, in the order of names; what is something else is noted. */
async function* walk(
  folder: string,
  below: string[],
  note: (path: string, why: string) => void,
): AsyncGenerator<Found> {
  const entries = await readdir(folder, { withFileTypes: true }).catch(() => null);
  if (!entries) {
    note(folder, 'cannot be read');
    return;
  }
  for (const entry of entries.sort((a, b) => (a.name < b.name ? -1 : 1))) {
    const path = join(folder, entry.name);
    const name = mendName(entry.name);
    if (name !== entry.name.normalize('NFC')) note(path, `is called "${name}" here, so that every desktop can hold it`);
    if (entry.isSymbolicLink()) note(path, 'is a symbolic link, which is not followed');
    else if (entry.isDirectory()) yield* walk(path, [...below, name], note);
    else if (entry.isFile())
      yield { path, below, name, sizeBytes: (await lstat(path).catch(() => ({ size: 0 }))).size };
    else note(path, 'is a special file');
  }
}
