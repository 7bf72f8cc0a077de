import { Inject, Injectable } from '@nestjs/common';
import {
  backupChangeWords,
  backupFindings,
  countOf,
  formatSize,
  isBackupDue,
  isRehearsalDue,
  keptWords,
  liesIn,
  nextScheduled,
  scheduleWords,
  SYSTEM_ACTOR,
  type BackupFinding,
} from '@quay/core';
import type { BackupPlace, BackupPlan, Backups, Task, TaskReport } from '@quay/contract';
import { realpath } from 'node:fs/promises';
import { basename, dirname, join } from 'node:path';
import { DataSource, type EntityManager } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';
import { Stopped, TasksService, type TaskRow } from '../adopt/tasks.service.js';
import { LedgerService } from '../ledger/ledger.service.js';
import { thoseWhoRunIt } from '../people/people.queries.js';
import type { Who } from '../people/who.js';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Events } from '../platform/events/events.js';
import { Jobs } from '../platform/jobs/jobs.service.js';
import { Mail } from '../platform/mail.js';
import { blobRootOf, Office } from '../platform/office.js';
import { invalidField, notFound, Problem } from '../platform/problems/problem.js';
import { actorOf } from '../stores/names.js';
import { copy } from './copier.js';
import { sourceOf } from './source.js';
import { faultOf, type BackupFault } from './copying/fault.js';
import { claimFolder } from './copying/layout.js';
import type { Made } from './copying/make.js';
import type { Rehearsed } from './copying/rehearse.js';
import { recipientFault } from './copying/sealer.js';
import {
  deletePlace,
  holdPlace,
  insertPlace,
  loadPlace,
  loadPlaces,
  placeFailed,
  placeRehearsed,
  placeTried,
  placeWorked,
  updatePlace,
  type PlaceRow,
} from './places.queries.js';

const EVERY_MINUTE = '* * * * *';
/** Places of an office: each has its own copy of everything. */
const PLACES_MOST = 5;
/** What one rehearsal reads of the files' bytes; the next goes on there. */
const REHEARSAL_BYTES = 50e9;

type TellTask = (progress: Task['progress']) => Promise<void>;

/** Where backups go, and that they are made, kept and rehearsed by themselves. */
@Injectable()
export class BackupsService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly office: Office,
    private readonly events: Events,
    private readonly ledger: LedgerService,
    private readonly tasks: TasksService,
    private readonly mail: Mail,
    @Inject(CONFIG) private readonly config: Config,
    jobs: Jobs,
  ) {
    tasks.define(
      'backup',
      (d) => `Back up to ${d['folder']}`,
      (task, tell) => this.backUp(task, tell),
    );
    tasks.define(
      'rehearsal',
      (d) => `Rehearse bringing back from ${d['folder']}`,
      (task, tell) => this.rehearse(task, tell),
    );
    jobs.define(
      'backups',
      () => 'See which backups are due',
      () => this.askWhatIsDue(),
    );
    jobs.regularly('backups', EVERY_MINUTE);
  }

  async list(): Promise<Backups> {
    const [rows, open, { zone }] = await Promise.all([
      loadPlaces(this.db),
      this.tasks.open(['backup', 'rehearsal']),
      this.office.settings(),
    ]);
    const now = this.clock.now();
    const places = rows.map((row): BackupPlace => {
      const task = open.find((o) => o.detail['placeId'] === row.id)?.task ?? null;
      return { ...shown(row), nextAt: new Date(nextScheduled(row, zone, now)).toISOString(), task };
    });
    return { places, findings: findingsOf(rows, now, zone) };
  }

  /** What is wrong with the backups now. */
  async findings(): Promise<BackupFinding[]> {
    const [rows, { zone }] = await Promise.all([loadPlaces(this.db), this.office.settings()]);
    return findingsOf(rows, this.clock.now(), zone);
  }

  /** Adds a place; the first backup is made at once. */
  async add(who: Who, plan: BackupPlan): Promise<Backups> {
    await this.requireSound(plan, null);
    const id = uuidv7();
    await this.events.change(async (tx) => {
      await requireFree(tx, plan.folder, null);
      await insertPlace(tx, id, plan, this.clock.date());
      await this.ledger.append(tx, {
        kind: 'backup.place-added',
        actor: actorOf(who),
        detail: { folder: plan.folder, when: scheduleWords(plan), kept: keptWords(plan) },
      });
    });
    await this.now(who, id);
    return this.list();
  }

  async change(who: Who, id: string, plan: BackupPlan): Promise<Backups> {
    await this.requireSound(plan, id);
    await this.events.change(async (tx) => {
      const before = await holdPlace(tx, id);
      if (!before) throw notFound('This place for backups');
      await requireFree(tx, plan.folder, id);
      await updatePlace(tx, id, plan, before.folder !== plan.folder);
      const what = backupChangeWords(before, plan).join(' ');
      await this.ledger.append(tx, {
        kind: 'backup.place-changed',
        actor: actorOf(who),
        detail: { folder: plan.folder, what },
      });
    });
    return this.list();
  }

  /** Backups that lie there stay. */
  async remove(who: Who, id: string): Promise<Backups> {
    await this.events.change(async (tx) => {
      const place = await holdPlace(tx, id);
      if (!place) throw notFound('This place for backups');
      await deletePlace(tx, id);
      await this.ledger.append(tx, {
        kind: 'backup.place-removed',
        actor: actorOf(who),
        detail: { folder: place.folder },
      });
    });
    return this.list();
  }

  async now(who: Who | null, id: string): Promise<Backups> {
    await this.ask(who, id, 'backup', () => true);
    return this.list();
  }

  async rehearseNow(who: Who | null, id: string): Promise<Backups> {
    await this.ask(who, id, 'rehearsal', () => true);
    return this.list();
  }

  /** Hands in what is due by the office's clock, and does not wait or run already. */
  async askWhatIsDue(): Promise<void> {
    const { zone } = await this.office.settings();
    const now = this.clock.now();
    const dueOf = (row: PlaceRow): 'backup' | 'rehearsal' | null => {
      const past = { triedAt: row.triedAt?.getTime() ?? null, worked: row.faultCode === null };
      const rehearsed = { triedAt: row.rehearsedAt?.getTime() ?? null, worked: row.rehearsalFault === null };
      if (isBackupDue(row, zone, past, now)) return 'backup';
      return row.goodAt !== null && isRehearsalDue(row.rehearse, rehearsed, now) ? 'rehearsal' : null;
    };
    for (const row of await loadPlaces(this.db)) {
      const kind = dueOf(row);
      if (kind) await this.ask(null, row.id, kind, (held) => dueOf(held) === kind);
    }
  }

  /**
   * Hands it in, unless it waits or runs already. The place is held meanwhile, and whoever begins the work writes there:
   * so nothing that ended between two looks is taken for still due.
   */
  private async ask(
    who: Who | null,
    id: string,
    kind: 'backup' | 'rehearsal',
    isWanted: (place: PlaceRow) => boolean,
  ): Promise<void> {
    await this.tasks.askIf(who, kind, async (tx) => {
      const place = await holdPlace(tx, id);
      if (!place) throw notFound('This place for backups');
      // By the program one at a time; what a person asks for waits its turn.
      const open = await this.tasks.open(who ? [kind] : ['backup', 'rehearsal'], tx);
      const isOpen = open.some((o) => o.detail['placeId'] === id);
      return isOpen || !isWanted(place) ? null : { placeId: id, folder: place.folder };
    });
  }

  private async backUp(task: TaskRow, tell: TellTask): Promise<TaskReport> {
    const place = await this.placeOf(task);
    const at = this.clock.date();
    const { zone } = await this.office.settings();
    await placeTried(this.db, place.id, at);
    const { folder: target, recipients, days, weeks, months } = place;
    const make = { target, recipients, kept: { days, weeks, months }, zone, mayClaim: false, verifyAll: false };
    const done = await copy<Made>(
      { kind: 'make', source: sourceOf(this.config), make: { ...make, at: at.toISOString() } },
      tell,
    ).catch((error: unknown) => this.failed(place, error));
    const { stamp, files, bytes, copied, copiedBytes, damaged, removed } = done;
    await this.events.change(async (tx) => {
      await placeWorked(tx, place.id, { at, stamp, files, bytes, lacking: damaged.length });
      await this.ledger.append(tx, {
        kind: 'backup.made',
        actor: SYSTEM_ACTOR,
        detail: { folder: target, files: String(files), copied: String(copied), removed: String(removed.length) },
      });
    });
    const gone = removed.length > 0 ? ` ${countOf(removed.length, 'earlier backup')} went.` : '';
    return {
      words: `Backed up: ${countOf(files, 'file')} (${formatSize(bytes)}). New, and read back: ${countOf(copied, 'file')} (${formatSize(copiedBytes)}).${gone}`,
      files,
      bytes,
      verified: copied,
      notes: damaged.map((path) => ({ path, why: 'is damaged or missing here' })),
    };
  }

  private async failed(place: PlaceRow, error: unknown): Promise<never> {
    const fault = faultToTell(error);
    await this.events.change(async (tx) => {
      await placeFailed(tx, place.id, fault.code, fault.message);
      // Tried again every hour, it is told once.
      if (place.faultCode === fault.code) return;
      await this.tell(tx, 'backup.failed', place.folder, fault, 'A backup failed');
    });
    this.mail.hurry();
    throw new Problem('conflict', fault.code, `It failed: ${fault.message}`);
  }

  private async rehearse(task: TaskRow, tell: TellTask): Promise<TaskReport> {
    const place = await this.placeOf(task);
    const at = this.clock.date();
    const order = { target: place.folder, after: place.readAfter, mostBytes: REHEARSAL_BYTES };
    const done = await copy<Rehearsed>(
      { kind: 'rehearse', source: sourceOf(this.config), rehearse: order },
      tell,
    ).catch((error: unknown) => this.rehearsalFailed(place, at, error));
    await this.events.change(async (tx) => {
      await placeRehearsed(tx, place.id, { at, fault: null, words: done.words, after: done.after });
      await this.ledger.append(tx, {
        kind: 'backup.rehearsed',
        actor: SYSTEM_ACTOR,
        detail: { folder: place.folder, files: String(done.files), read: String(done.read) },
      });
    });
    return { words: done.words, files: done.files, bytes: done.readBytes, verified: done.read, notes: [] };
  }

  private async rehearsalFailed(place: PlaceRow, at: Date, error: unknown): Promise<never> {
    const fault = faultToTell(error);
    await this.events.change(async (tx) => {
      await placeRehearsed(tx, place.id, { at, fault: fault.message, words: fault.message, after: null });
      if (place.rehearsalFault !== null) return;
      await this.tell(
        tx,
        'backup.rehearsal-failed',
        place.folder,
        fault,
        'A backup could not be brought back for trial',
      );
    });
    this.mail.hurry();
    throw new Problem('conflict', fault.code, `It could not be brought back: ${fault.message}`);
  }

  private async tell(
    tx: EntityManager,
    kind: string,
    folder: string,
    fault: BackupFault,
    subject: string,
  ): Promise<void> {
    for (const { name, email } of await thoseWhoRunIt(tx))
      await this.mail.handIn(tx, {
        to: email,
        subject,
        text: `Hello ${name},\n\n${subject.toLowerCase()} (${folder}): ${fault.message}\nWhat to do about it stands in Settings, Backups.\n`,
      });
    await this.ledger.append(tx, { kind, actor: SYSTEM_ACTOR, detail: { folder, reason: fault.message } });
  }

  private async placeOf(task: TaskRow): Promise<PlaceRow> {
    const place = await loadPlace(this.db, task.detail['placeId'] ?? '');
    if (!place) throw new Problem('not-found', 'not-found', 'This place for backups was removed meanwhile.');
    return place;
  }

  /** @throws Problem naming the field: where backups cannot go, and whom they cannot be encrypted to */
  private async requireSound({ folder, recipients }: BackupPlan, id: string | null): Promise<void> {
    for (const [index, recipient] of recipients.entries()) {
      const fault = recipientFault(recipient);
      if (fault !== null)
        throw invalidField(
          `recipients.${index}`,
          'backup.recipient',
          `Nothing can be encrypted to that key (${fault}).`,
        );
    }
    const words = await this.folderFault(folder);
    if (words !== null) throw invalidField('folder', 'backup.folder-among-files', words);
    // Before anything is written there.
    await requireFree(this.db.manager, folder, id);
    const [office] = await this.db.query<{ id: string }[]>('SELECT uid AS id FROM office');
    try {
      await claimFolder(folder, office?.id ?? '');
    } catch (error) {
      const fault = faultOf(error);
      throw invalidField('folder', fault.code, `Backups cannot go to ${folder}: ${fault.message}`);
    }
  }

  /** Backups among the files, or the other way round, are lost with them, and back up each other. */
  async folderFault(folder: string): Promise<string | null> {
    const bytes = (await blobRootOf(this.db.manager)) ?? this.config.blobRoot;
    // By whatever links it is reached.
    const [there, held] = await Promise.all([realOf(folder), realOf(bytes)]);
    return liesIn(there, held) || liesIn(held, there)
      ? `The bytes of the office lie in ${bytes}. Choose a folder elsewhere, best on another disk.`
      : null;
  }
}

/** Where a folder really lies, by the nearest part of its path that is there. */
async function realOf(folder: string): Promise<string> {
  const parent = dirname(folder);
  return realpath(folder).catch(async () =>
    parent === folder ? folder : join(await realOf(parent), basename(folder)),
  );
}

/** @param id the place that is to be there; null: another one. @throws Problem backup.folder-taken, backup.too-many */
async function requireFree(m: EntityManager, folder: string, id: string | null): Promise<void> {
  const rows = (await loadPlaces(m)).filter((row) => row.id !== id);
  if (id === null && rows.length >= PLACES_MOST)
    throw new Problem('conflict', 'backup.too-many', `An office has ${PLACES_MOST} places for backups at most.`);
  const near = rows.find((row) => liesIn(row.folder, folder) || liesIn(folder, row.folder));
  if (near) throw invalidField('folder', 'backup.folder-taken', `Backups go to ${near.folder} already.`);
}

/** What stopped the work is no fault of the backup. */
function faultToTell(error: unknown): BackupFault {
  if (error instanceof Stopped) throw error;
  return faultOf(error);
}

const findingsOf = (rows: PlaceRow[], now: number, zone: string): BackupFinding[] =>
  backupFindings(
    rows.map((row) => ({
      folder: row.folder,
      every: row.every,
      goodAt: row.goodAt?.getTime() ?? null,
      since: row.madeAt.getTime(),
      fault: row.faultCode === null ? null : { code: row.faultCode, words: row.faultWords ?? '' },
      lacking: row.lacking,
      rehearsalFault: row.rehearsalFault,
    })),
    now,
    zone,
  );

function shown(row: PlaceRow): Omit<BackupPlace, 'nextAt' | 'task'> {
  const { id, folder, every, atMinute, weekday, days, weeks, months, recipients, rehearse, files, bytes } = row;
  return {
    ...{ id, folder, every, atMinute, weekday, days, weeks, months, recipients, rehearse, files, bytes },
    triedAt: row.triedAt?.toISOString() ?? null,
    fault: row.faultWords,
    goodAt: row.goodAt?.toISOString() ?? null,
    rehearsedAt: row.rehearsedAt?.toISOString() ?? null,
    rehearsalWords: row.rehearsalWords,
    rehearsalWorked: row.rehearsalFault === null,
  };
}
