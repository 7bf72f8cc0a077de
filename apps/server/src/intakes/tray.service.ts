import { Inject, Injectable } from '@nestjs/common';
import {
  ACCEPT_FAULT_WORDS,
  acceptFault,
  depositState,
  folderName,
  goesStraightIn,
  isDoubtful,
  placeOfHanded,
  type Actor,
} from '@quay/core';
import type { Accepted, BatchEntry, DecideFiles, DepositRow, RefuseFiles } from '@quay/contract';
import { DataSource, type EntityManager } from 'typeorm';
import { lockAccess } from '../access/access-lock.js';
import { AccessService, type Account } from '../access/access.service.js';
import type { Bringer } from '../access/folder-admission.js';
import { LedgerService } from '../ledger/ledger.service.js';
import type { Who } from '../people/who.js';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Events } from '../platform/events/events.js';
import { log } from '../platform/log/log.js';
import { Mail } from '../platform/mail.js';
import { Office } from '../platform/office.js';
import { notFound, Problem } from '../platform/problems/problem.js';
import { PreviewsService } from '../previews/previews.service.js';
import type { FileBytes } from '../stores/branch.queries.js';
import { actorOf, mediaTypeOf } from '../stores/names.js';
import { RoomService } from '../stores/room.service.js';
import type { Going } from '../transfers/download.service.js';
import { BatchRecorder } from '../transfers/batch-recorder.service.js';
import {
  depositById,
  fileOf,
  filesOf,
  mailOf,
  type DepositFileRecord,
  type DepositRecord,
} from './deposits.queries.js';
import { holdIntake, intakeById, type IntakeRecord } from './intakes.queries.js';
import { IntakesService } from './intakes.service.js';

/** What was handed in waits here, until somebody accepts or refuses it. */
@Injectable()
export class TrayService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly access: AccessService,
    private readonly ledger: LedgerService,
    private readonly events: Events,
    private readonly office: Office,
    private readonly mail: Mail,
    private readonly rooms: RoomService,
    private readonly batches: BatchRecorder,
    private readonly previews: PreviewsService,
    private readonly intakes: IntakesService,
    @Inject(CONFIG) private readonly config: Config,
  ) {}

  /** A deposit with all of its files. */
  async deposit(who: Who, id: string): Promise<DepositRow> {
    const { intake, deposit } = await this.open(who, id);
    const [row] = await this.intakes.rowsOf(who, intake, [deposit], await filesOf(this.db.manager, id));
    return row as DepositRow;
  }

  /**
   * A file that waits, to be looked at: once the scanner has nothing against it, where one is named.
   * @throws Problem deposit.not-here, deposit.found, deposit.not-scanned
   */
  async shown(who: Who, id: string, fileId: string): Promise<{ id: string; name: string; sha256: Buffer }> {
    const { intake } = await this.open(who, id);
    await this.access.requireNode(who, intake.folderId, 'read');
    const file = await this.here(id, fileId);
    this.requireScanned([file]);
    return { id: fileId, name: placeOfHanded(file.path).name, sha256: file.sha256 };
  }

  /** The bytes of a file that waits. @throws Problem deposit.not-here once something was decided about it */
  async bytes(who: Who, id: string, fileId: string): Promise<{ file: FileBytes; going: Going }> {
    const { intake, deposit } = await this.open(who, id);
    await this.access.requireNode(who, intake.folderId, 'read');
    const file = await this.here(id, fileId);
    const { name } = placeOfHanded(file.path);
    const modifiedAt = file.modifiedAt ?? deposit.handedInAt ?? deposit.beganAt;
    return {
      file: { ...file, name, modifiedAt, mediaType: mediaTypeOf(name) },
      going: await this.access.going(who, [intake.folderId], 'read'),
    };
  }

  private async here(id: string, fileId: string): Promise<DepositFileRecord> {
    const file = await fileOf(this.db.manager, id, fileId);
    if (!file) throw notFound('This file');
    if (!file.isHere)
      throw new Problem('gone', 'deposit.not-here', 'That file waits here no more: something was decided about it.');
    return file;
  }

  /**
   * Accepts files of a deposit: they are put into the folder of the intake, in that of their contributor. Those that are
   * not what they say are only accepted by name.
   */
  async accept(who: Who, id: string, { fileIds }: DecideFiles): Promise<Accepted> {
    const { intake, deposit } = await this.open(who, id);
    const left = await this.take(intake, deposit, who, { fileIds, decidedBy: who.personId, actor: actorOf(who) });
    return { deposit: await this.deposit(who, id), ...left };
  }

  /** Refuses files of a deposit. Their bytes go; the receipt stays. */
  async refuse(who: Who, id: string, { fileIds, reason }: RefuseFiles): Promise<DepositRow> {
    const { intake, deposit } = await this.open(who, id);
    await this.access.ensure(who);
    await this.events.change(async (tx) => {
      await lockAccess(tx, 'shared');
      await this.access.requireNode(who, intake.folderId, 'add', tx);
      await holdIntake(tx, intake.id);
      const files = chosen(await this.undecided(tx, id, fileIds), fileIds);
      const ids = files.map((f) => f.id);
      await tx.query(`UPDATE deposit_file SET decided = 'refused', blob_sha256 = NULL WHERE id = ANY($1)`, [ids]);
      await this.rooms.giveBack(tx, ids);
      await tx.query('UPDATE intake SET taken_bytes = taken_bytes - $2 WHERE id = $1', [
        ...[intake.id, files.reduce((sum, f) => sum + f.sizeBytes, 0)],
      ]);
      await this.settle(tx, deposit, who.personId, reason);
      await this.tellRefused(tx, intake, deposit, files, reason);
      await this.ledger.append(tx, {
        kind: 'deposit.refused',
        actor: actorOf(who),
        nodeId: intake.folderId,
        detail: { ...this.told(intake, deposit), files: files.length, reason },
      });
    });
    this.mail.hurry();
    return this.deposit(who, id);
  }

  /**
   * Puts a deposit straight in, where the intake lets it and everything is what it says; what cannot be, waits.
   */
  async acceptByRule(depositId: string): Promise<void> {
    const deposit = await depositById(this.db.manager, depositId);
    const intake = deposit && (await intakeById(this.db.manager, this.clock.date(), deposit.intakeId));
    if (!intake || intake.waits || deposit.state !== 'waiting') return;
    // It closed by a rule while this was being scanned: somebody decides.
    if (intake.railFaults.length > 0) return;
    const files = await filesOf(this.db.manager, depositId);
    const proven = deposit.recipient !== null || deposit.personId !== null;
    if (!goesStraightIn(intake.straight, files, { proven, hasScanner: this.hasScanner })) return;
    const maker: Account = { personId: intake.createdBy, name: intake.creatorName, role: 'staff' };
    try {
      await this.take(intake, deposit, maker, {
        decidedBy: null,
        actor: { kind: 'system', id: null, name: 'Lockfast Quay' },
      });
    } catch (error) {
      // It waits, and whoever looks at it is told why it cannot be accepted.
      if (!(error instanceof Problem)) throw error;
      log.info({ deposit: deposit.number, code: error.code }, 'a deposit waits that was to go straight in');
    }
  }

  /** Puts bytes that are here into the folder. */
  private async take(
    intake: IntakeRecord,
    deposit: DepositRecord,
    by: Account,
    how: { fileIds?: string[] | undefined; decidedBy: string | null; actor: Actor },
  ): Promise<{ accepted: number; left: Accepted['left'] }> {
    const { zone } = await this.office.settings();
    await this.access.ensure(by);
    const result = await this.events.change(async (tx) => {
      await lockAccess(tx, 'shared');
      const open = await this.undecided(tx, deposit.id, how.fileIds);
      const files = how.fileIds === undefined ? open.filter((f) => !isDoubtful(f)) : chosen(open, how.fileIds);
      if (files.length === 0) throw nothingToDecide();
      this.requireScanned(files);
      const top = topOf(intake, deposit, zone);
      const { recorded } = await this.batches.recordIn(
        tx,
        contributorAsBringer(this.access.bringer(by), intake, deposit),
        files.map(({ path, modifiedAt, sha256, sizeBytes }) => {
          const { below, name } = placeOfHanded(path);
          return { below: [...top, ...below], name, modifiedAt, blob: { sha256, sizeBytes } };
        }),
        { folderId: intake.folderId, conflict: 'keep-both', beganAt: this.clock.date() },
        'alone',
      );
      const kept: { id: string; nodeId: string }[] = [];
      const left: Accepted['left'] = [];
      for (const [i, { id, path }] of files.entries()) {
        const entry = recorded[i] as BatchEntry;
        if ('answer' in entry) kept.push({ id, nodeId: entry.answer.id });
        else left.push({ path, words: entry.words });
      }
      const [first] = left;
      // None of it is: then nothing is given back either.
      if (kept.length === 0) throw new Problem('conflict', 'deposit.cannot-go', `It cannot go there: ${first?.words}`);
      await holdIntake(tx, intake.id);
      await this.rooms.giveBack(
        tx,
        kept.map((k) => k.id),
      );
      const [, changed] = (await tx.query(
        `UPDATE deposit_file f SET decided = 'accepted', blob_sha256 = NULL, node_id = k.node_id
           FROM unnest($1::uuid[], $2::uuid[]) k (id, node_id) WHERE f.id = k.id AND f.decided IS NULL`,
        [kept.map((k) => k.id), kept.map((k) => k.nodeId)],
      )) as [unknown, number];
      // Somebody else decided meanwhile: all stays as they left it.
      if (changed !== kept.length) throw decidedMeanwhile();
      await this.settle(tx, deposit, how.decidedBy, '');
      await this.ledger.append(tx, {
        kind: 'deposit.accepted',
        actor: how.actor,
        nodeId: intake.folderId,
        detail: { ...this.told(intake, deposit), files: kept.length },
      });
      return { accepted: kept.length, left };
    });
    this.previews.hurry();
    return result;
  }

  /** @throws Problem deposit.found, deposit.not-scanned */
  private requireScanned(files: readonly DepositFileRecord[]): void {
    for (const file of files) {
      const fault = acceptFault(file, this.hasScanner);
      if (fault) throw new Problem('conflict', fault, `${file.path}: ${ACCEPT_FAULT_WORDS[fault]}`);
    }
  }

  private get hasScanner(): boolean {
    return this.config.scanner !== null;
  }

  /** A deposit that somebody may decide about. @throws Problem not-found, intake.closed-to-you */
  async open(who: Who, id: string): Promise<{ intake: IntakeRecord; deposit: DepositRecord }> {
    const deposit = await depositById(this.db.manager, id);
    if (!deposit || deposit.handedInAt === null) throw notFound('This deposit');
    const intake = await this.intakes.open(who, deposit.intakeId).catch((error: unknown) => {
      throw error instanceof Problem && error.kind === 'not-found' ? notFound('This deposit') : error;
    });
    return { intake, deposit };
  }

  private async undecided(tx: EntityManager, id: string, fileIds?: string[]): Promise<DepositFileRecord[]> {
    const files = (await filesOf(tx, id)).filter((f) => f.decided === null && f.isHere);
    if (files.length === 0) throw nothingToDecide();
    return fileIds ? files.filter((f) => fileIds.includes(f.id)) : files;
  }

  private async settle(
    tx: EntityManager,
    { id, intakeId }: DepositRecord,
    by: string | null,
    reason: string,
  ): Promise<void> {
    const rows = await tx.query<{ decided: 'accepted' | 'refused' | null }[]>(
      'SELECT DISTINCT decided FROM deposit_file WHERE deposit_id = $1',
      [id],
    );
    const state = depositState(rows.map((r) => r.decided));
    await tx.query(
      `UPDATE deposit SET state = $2, decided_at = $3, decided_by = $4, reason = CASE WHEN $5 = '' THEN reason ELSE $5 END
        WHERE id = $1`,
      [id, state, this.clock.date(), by, reason],
    );
    await this.events.tell(tx, { topic: 'intake', id: intakeId });
  }

  private async tellRefused(
    tx: EntityManager,
    intake: IntakeRecord,
    deposit: DepositRecord,
    files: readonly DepositFileRecord[],
    reason: string,
  ): Promise<void> {
    if (mailOf(deposit) === '') return;
    const { name: office } = await this.office.settings();
    const names = files.slice(0, 20).map((f) => `- ${f.path}`);
    const more = files.length > names.length ? [`- and ${files.length - names.length} more`] : [];
    await this.mail.handIn(tx, {
      to: mailOf(deposit),
      subject: `Not accepted: ${deposit.number}, ${intake.title}`,
      text: [
        `${office} did not accept this of what you handed in (${deposit.number}):`,
        '',
        ...names,
        ...more,
        '',
        reason,
        '',
        `What you handed in: ${this.intakes.receiptOf(intake, deposit)}`,
      ].join('\n'),
    });
  }

  private told({ title, id: intake }: IntakeRecord, { number }: DepositRecord): Record<string, string> {
    return { title, intake, number: number ?? '' };
  }
}

/** @throws Problem deposit.decided when something was decided about one of them */
function chosen(files: readonly DepositFileRecord[], ids: string[] | undefined): DepositFileRecord[] {
  if (ids !== undefined && files.length < ids.length) throw decidedMeanwhile();
  return [...files];
}

const nothingToDecide = (): Problem =>
  new Problem('conflict', 'deposit.decided', 'There is nothing left to decide about that by itself.');
const decidedMeanwhile = (): Problem =>
  new Problem('conflict', 'deposit.decided', 'Something was decided about these files meanwhile. Look again.');

/** The folders that a deposit goes into, below that of the intake. */
const topOf = (
  { folderPattern }: IntakeRecord,
  { answers, number, handedInAt, beganAt, who }: DepositRecord,
  zone: string,
): string[] =>
  folderPattern === null
    ? []
    : [
        folderName(
          folderPattern,
          { at: (handedInAt ?? beganAt).getTime(), name: who, firm: answers.firm, number: number ?? '' },
          zone,
        ),
      ];

/** Whoever accepts lets it in; whose doing it was is the contributor, and it counts against whoever asked for it. */
function contributorAsBringer(by: Bringer, intake: IntakeRecord, { actorId, who }: DepositRecord): Bringer {
  if (actorId === null) throw new Error('a deposit that was handed in is of nobody');
  const actor = { kind: 'visitor' as const, id: actorId, name: who };
  const chargedTo = intake.createdBy;
  return {
    ...by,
    ...{ actor, chargedTo },
    admit: async (folderId, m, how) => ({ ...(await by.admit(folderId, m, how)), actor, chargedTo }),
  };
}
