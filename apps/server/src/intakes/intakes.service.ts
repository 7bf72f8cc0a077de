import { Inject, Injectable } from '@nestjs/common';
import {
  addressText,
  ANYONE,
  countOf,
  folderName,
  intakeLink,
  intakeSentence,
  momentInWords,
  receiptLink,
  straightWords,
  tokenFromBytes,
  TOKEN_BYTES,
  visitEdges,
  type IntakeQuestions,
  type RailFault,
} from '@quay/core';
import {
  DEPOSITS_SHOWN,
  EXPECTED_SHOWN,
  FILES_SHOWN,
  MOST_INTAKES,
  type ChangeIntake,
  type CreateIntake,
  type AudienceAsked,
  type DepositRow,
  type Expected,
  type OverTime,
  type IntakeList,
  type IntakeRow,
  type IntakeSheet,
} from '@quay/contract';
import { randomBytes } from 'node:crypto';
import { DataSource, type EntityManager } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';
import { lockAccess } from '../access/access-lock.js';
import { AccessService } from '../access/access.service.js';
import { LedgerService } from '../ledger/ledger.service.js';
import type { Who } from '../people/who.js';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Events } from '../platform/events/events.js';
import { grouped } from '../platform/grouped.js';
import { Office } from '../platform/office.js';
import { hashPassword } from '../platform/passwords.js';
import { notFound, Problem } from '../platform/problems/problem.js';
import { seal, secretHash, unseal } from '../platform/seal.js';
import { meantBy, requireMembers } from '../shares/audience.js';
import { audienceOf, setAudience } from '../shares/audience.queries.js';
import { railProblem } from '../shares/rail-problem.js';
import { addressFor, dateOf, requireSoundWindow, requireStrongPassword, windowOf } from '../shares/terms.js';
import { actorOf } from '../stores/names.js';
import { PurgeService } from '../stores/purge.service.js';
import {
  askedBack,
  askedBackRow,
  depositsBetween,
  depositsOf,
  fileRow,
  firstFilesOf,
  type DepositFileRecord,
  type DepositRecord,
} from './deposits.queries.js';
import {
  expectedOf,
  factsOf,
  holdIntake,
  intakeById,
  intakesInto,
  intakesSeen,
  stateOf,
  type ExpectedRecord,
  type IntakeRecord,
} from './intakes.queries.js';

/** Pages on which outsiders hand in files, as those who ask for them see them. */
@Injectable()
export class IntakesService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly access: AccessService,
    private readonly ledger: LedgerService,
    private readonly events: Events,
    private readonly office: Office,
    @Inject(CONFIG) private readonly config: Config,
    purger: PurgeService,
  ) {
    purger.guard((tx, nodeIds) => this.needed(tx, nodeIds));
  }

  async list(who: Who): Promise<IntakeList> {
    await this.access.ensure(who);
    const records = await intakesSeen(this.db.manager, this.clock.date(), who, MOST_INTAKES);
    const now = this.clock.now();
    const intakes = records.map((record) => (isOpenTo(who, record) ? rowOf(record, now) : closedRow(record, now)));
    return {
      intakes,
      total: records[0]?.total ?? 0,
      waiting: intakes.reduce((sum, row) => sum + row.waiting, 0),
    };
  }

  async sheet(who: Who, id: string): Promise<IntakeSheet> {
    const record = await this.open(who, id);
    const { zone } = await this.office.settings();
    const now = this.clock.now();
    const { limits, questions, folderPattern, waits, straight, passwordHash } = record;
    const audience = await audienceOf(this.db.manager, record, record.audience);
    return {
      ...rowOf(record, now),
      ...{ message: record.message, limits, questions, folderPattern, receiptByMail: record.receiptByMail },
      ...{ straight, who: audience, remindDays: record.remindDays, embed: record.embed },
      ...{ railFaults: record.railFaults, addressId: record.addressId, isLost: record.gone || record.lost },
      expected: (await expectedOf(this.db.manager, id, EXPECTED_SHOWN)).map(expectedRow),
      isScanned: this.config.scanner !== null,
      link: this.linkOf(record),
      sentence: intakeSentence(
        {
          audience: {
            ...ANYONE,
            kind: audience.kind,
            listed: audience.listed.length,
            members: audience.members.map((m) => m.name),
          },
          ...{ limits, waits, straight, window: factsOf(record).window, hasPassword: passwordHash !== null },
        },
        now,
        zone,
      ),
      folderExample: exampleOf(folderPattern, questions, now, zone),
      overTime: await this.overTime(record, now, zone),
      handedIn: await this.rowsOf(who, record, await depositsOf(this.db.manager, id, DEPOSITS_SHOWN)),
    };
  }

  private async overTime(
    { id, createdAt, closesAt, lastAt }: IntakeRecord,
    now: number,
    zone: string,
  ): Promise<OverTime | null> {
    if (lastAt === null) return null;
    const to = Math.max(Math.min(now, closesAt?.getTime() ?? now), lastAt.getTime());
    const { step, edges } = visitEdges(createdAt.getTime(), to, zone);
    const dates = edges.map((edge) => new Date(edge));
    const bars = await depositsBetween(this.db.manager, id, dates);
    return { step, edges: dates.map((date) => date.toISOString()), bars };
  }

  /** Asks for files. Whoever does so must be able to edit the folder that they go into. */
  async ask(who: Who, asked: CreateIntake): Promise<IntakeSheet> {
    const window = windowOf(asked.window);
    requireSoundWindow(window, this.clock.now());
    const passwordScore = await requireStrongPassword(asked, asked.title);
    const passwordHash = asked.password === null ? null : await hashPassword(asked.password);
    const meant = meantBy(asked.audience ?? FOR_ANYONE);
    const [id, token] = [uuidv7(), tokenFromBytes(randomBytes(TOKEN_BYTES))];
    await this.access.ensure(who);
    await this.events.change(async (tx) => {
      await lockAccess(tx, 'shared');
      const folder = await this.access.requireNode(who, asked.folderId, 'publish', tx);
      if (folder.kind !== 'folder') throw notFound('This folder');
      const addressId = await addressFor(tx, asked.addressId, meant.kind);
      await tx.query(
        `INSERT INTO intake (id, title, message, token_hash, token_sealed, address_id, password_hash, password_score,
           opens_at, closes_at, created_at, created_by, folder_id, waits, folder_pattern, limits, questions,
           receipt_by_mail, remind_days, straight)
         VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17, $18, $19, $20)`,
        [
          ...[id, asked.title, asked.message, secretHash(token), seal(this.config.sealingKey, token), addressId],
          ...[passwordHash, passwordScore, dateOf(window.opensAt), dateOf(window.closesAt)],
          ...[this.clock.date(), who.personId, asked.folderId, asked.waits, asked.folderPattern],
          ...[JSON.stringify(asked.limits), JSON.stringify(asked.questions), asked.receiptByMail],
          ...[asked.remindDays ?? null, asked.straight ? JSON.stringify(asked.straight) : null],
        ],
      );
      await requireMembers(tx, meant.members, this.clock.date());
      await setAudience(tx, { kind: 'intake', id }, meant);
      requireRails(await this.seen(who, id, tx), []);
      await this.events.tell(tx, { topic: 'intake', id });
      await this.ledger.append(tx, {
        kind: 'intake.opened',
        actor: actorOf(who),
        nodeId: asked.folderId,
        detail: {
          ...{ title: asked.title, intake: id, opensAt: asked.window.opensAt, closesAt: asked.window.closesAt },
          ...{ password: asked.password !== null, waits: asked.waits, audience: meant.kind },
        },
      });
    });
    return this.sheet(who, id);
  }

  /** Changes what is named and leaves the rest. Takes effect at once, also on pages that are open. */
  async change(who: Who, id: string, asked: ChangeIntake): Promise<IntakeSheet | IntakeRow> {
    const window = asked.window ? windowOf(asked.window) : null;
    const meant = asked.audience ? meantBy(asked.audience) : null;
    if (window) requireSoundWindow(window, this.clock.now());
    const { password = null, weakPasswordMeant = false } = asked;
    const passwordScore = await requireStrongPassword({ password, weakPasswordMeant }, asked.title ?? '');
    const passwordHash = asked.password ? await hashPassword(asked.password) : asked.password;
    const { zone } = await this.office.settings();
    await this.access.ensure(who);
    await this.events.change(async (tx) => {
      await holdIntake(tx, id);
      const before = await this.seen(who, id, tx);
      // Whoever sees that it is there may put an end to it, and do nothing else to what is closed to them.
      const onlyWithdraws = asked.withdrawn === true && Object.keys(asked).length === 1;
      if (!onlyWithdraws) requireOpenTo(who, before);
      const withdrawnAt = asked.withdrawn ? (before.withdrawnAt ?? this.clock.date()) : null;
      await tx.query(
        `UPDATE intake SET title = coalesce($2, title), message = coalesce($3, message),
           opens_at = CASE WHEN $4 THEN $5 ELSE opens_at END, closes_at = CASE WHEN $4 THEN $6 ELSE closes_at END,
           password_hash = CASE WHEN $7 THEN $8 ELSE password_hash END,
           password_score = CASE WHEN $7 THEN $9 ELSE password_score END, waits = coalesce($10, waits),
           folder_pattern = CASE WHEN $11 THEN $12 ELSE folder_pattern END, limits = coalesce($13, limits),
           questions = coalesce($14, questions), receipt_by_mail = coalesce($15, receipt_by_mail),
           withdrawn_at = CASE WHEN $16 THEN $17 ELSE withdrawn_at END,
           remind_days = CASE WHEN $18 THEN $19 ELSE remind_days END, embed = CASE WHEN $20 THEN $21 ELSE embed END,
           address_id = coalesce($22, address_id), straight = CASE WHEN $23 THEN $24 ELSE straight END
          WHERE id = $1`,
        [
          ...[id, asked.title, asked.message],
          ...[window !== null, dateOf(window?.opensAt ?? null), dateOf(window?.closesAt ?? null)],
          ...[passwordHash !== undefined, passwordHash ?? null, passwordScore, asked.waits],
          ...[asked.folderPattern !== undefined, asked.folderPattern ?? null],
          ...[jsonOf(asked.limits), jsonOf(asked.questions), asked.receiptByMail],
          ...[asked.withdrawn !== undefined, withdrawnAt],
          ...[asked.remindDays !== undefined, asked.remindDays ?? null],
          ...[asked.embed !== undefined, asked.embed ? JSON.stringify(asked.embed) : null],
          asked.addressId === undefined && !meant
            ? null
            : await addressFor(tx, asked.addressId ?? before.addressId, meant?.kind ?? before.audience),
          ...[asked.straight !== undefined, asked.straight ? JSON.stringify(asked.straight) : null],
        ],
      );
      const wasFor = await audienceOf(tx, before, before.audience);
      if (meant) {
        await requireMembers(tx, meant.members, this.clock.date());
        await setAudience(tx, before, meant);
      }
      const after = await this.seen(who, id, tx);
      if (!onlyWithdraws) requireRails(after, before.railFaults);
      const isForOthers = JSON.stringify(wasFor) !== JSON.stringify(await audienceOf(tx, after, after.audience));
      const told = whatChanged(before, after, { ...asked, isForOthers }, { now: this.clock.now(), zone });
      if (!told) return;
      await this.events.tell(tx, { topic: 'intake', id });
      await this.ledger.append(tx, { ...told, actor: actorOf(who), nodeId: before.folderId });
    });
    const record = await this.seen(who, id);
    return isOpenTo(who, record) ? this.sheet(who, id) : closedRow(record, this.clock.now());
  }

  /** An intake that somebody sees, and nothing of which is closed to them. @throws Problem not-found, intake.closed-to-you */
  async open(who: Who, id: string, m: EntityManager = this.db.manager): Promise<IntakeRecord> {
    const record = await this.seen(who, id, m);
    requireOpenTo(who, record);
    return record;
  }

  /** Deposits as rows, with the first of their files. */
  async rowsOf(
    who: Who,
    intake: IntakeRecord,
    deposits: readonly DepositRecord[],
    all?: readonly DepositFileRecord[],
  ): Promise<DepositRow[]> {
    const ids = deposits.map((d) => d.id);
    const files = all ?? (await firstFilesOf(this.db.manager, ids, FILES_SHOWN));
    const seen = await this.placesSeen(who, files);
    const byDeposit = grouped(files, (f) => f.depositId);
    const asked = grouped(await askedBack(this.db.manager, ids), (q) => q.depositId);
    return deposits.map((deposit) => {
      const { id, number, handedInAt, beganAt, state, who: name, fromAddress } = deposit;
      return {
        ...{ id, number: number ?? '', at: (handedInAt ?? beganAt).toISOString(), state, who: name, from: fromAddress },
        provenAs: deposit.recipient ?? deposit.personName,
        answers: answersOf(intake.questions, deposit),
        again: deposit.contributorId !== id,
        ...{ fileCount: deposit.files, bytes: deposit.bytes, reason: deposit.reason },
        files: (byDeposit.get(id) ?? []).map((file) => fileRow(file, seen)),
        decidedAt: deposit.decidedAt?.toISOString() ?? null,
        decidedBy: deposit.decidedBy,
        receiptLink: this.receiptOf(intake, deposit),
        askedBack: (asked.get(id) ?? []).map(askedBackRow),
        ...{ follows: deposit.follows, followedBy: deposit.followedBy },
      };
    });
  }

  /** The link of the receipt of what was handed in. */
  receiptOf(intake: IntakeRecord, { receiptKeySealed }: DepositRecord): string {
    if (receiptKeySealed === null) return '';
    return receiptLink(intake.address, this.tokenOf(intake), unseal(this.config.sealingKey, receiptKeySealed));
  }

  /** The link itself. */
  linkOf(intake: IntakeRecord): string {
    return intakeLink(intake.address, this.tokenOf(intake));
  }

  private tokenOf({ tokenSealed }: IntakeRecord): string {
    return unseal(this.config.sealingKey, tokenSealed);
  }

  /** Of what files became, what somebody sees, with the folder that it lies in. */
  private async placesSeen(who: Who, files: readonly DepositFileRecord[]): Promise<Map<string, string>> {
    const ids = files.flatMap((f) => f.nodeId ?? []);
    if (ids.length === 0) return new Map();
    const seen = await this.access.seen(who, ids);
    const rows = await this.db.query<{ id: string; folderId: string }[]>(
      `SELECT id, parent_id AS "folderId" FROM node WHERE id = ANY($1) AND trashed_at IS NULL`,
      [[...seen]],
    );
    return new Map(rows.map((r) => [r.id, r.folderId]));
  }

  /** @throws Problem not-found */
  private async seen(who: Who, id: string, m: EntityManager = this.db.manager): Promise<IntakeRecord> {
    await this.access.ensure(who, m);
    const record = await intakeById(m, this.clock.date(), id, who.personId);
    const isTheirs = record?.createdBy === who.personId || who.role === 'admin';
    if (!record || !(isTheirs || isOpenTo(who, record))) throw notFound('This intake');
    return record;
  }

  /** What must not be removed for good: folders of intakes that could still take something in. */
  private async needed(tx: EntityManager, nodeIds: string[]): Promise<{ nodeId: string; why: string }[]> {
    const rows = await intakesInto(tx, this.clock.date(), nodeIds);
    return rows.map(({ folderId, title }) => ({
      nodeId: folderId,
      why: `the intake "${title}" still needs it: withdraw that first`,
    }));
  }
}

/** @param before rules that it did not keep to before a change: those it may go on not keeping to */
function requireRails({ railFaults }: IntakeRecord, before: readonly RailFault[]): void {
  const fault = railFaults.find((f) => !before.some((b) => b.rail === f.rail));
  if (fault) throw railProblem(fault, 'intake');
}

const FOR_ANYONE: AudienceAsked = { kind: 'anyone', listed: [], blocked: [], members: [] };

const expectedRow = ({ who, mail, handedInAt, remindedAt }: ExpectedRecord): Expected => ({
  ...{ who, handedInAt: handedInAt?.toISOString() ?? null, remindedAt: remindedAt?.toISOString() ?? null },
  byMail: mail !== null,
});

const jsonOf = (value: object | undefined): string | null => (value === undefined ? null : JSON.stringify(value));

/** Homes are closed to everybody but their owner; elsewhere it is theirs who made it and may still put
 * something into the folder, and theirs who manage that. */
const isOpenTo = (who: Who, { createdBy, lost, managed }: IntakeRecord): boolean =>
  managed || (createdBy === who.personId && !lost);

function requireOpenTo(who: Who, record: IntakeRecord): void {
  if (!isOpenTo(who, record))
    throw new Problem(
      'forbidden',
      'intake.closed-to-you',
      'What is handed in there is closed to you. You can withdraw the intake.',
    );
}

export function rowOf(r: IntakeRecord, now: number): IntakeRow {
  return {
    ...{ id: r.id, closed: false, title: r.title, state: stateOf(r, now) },
    opensAt: r.opensAt?.toISOString() ?? null,
    closesAt: r.closesAt?.toISOString() ?? null,
    withdrawnAt: r.withdrawnAt?.toISOString() ?? null,
    createdAt: r.createdAt.toISOString(),
    createdBy: r.creatorName,
    hasPassword: r.passwordHash !== null,
    audience: r.audience,
    people: r.askedOf === 0 ? null : { handedIn: r.askedIn, of: r.askedOf },
    folder: { id: r.folderId, name: r.folderName },
    ...{ waits: r.waits, deposits: r.deposits, files: r.files, bytes: r.bytes, waiting: r.waiting },
    lastAt: r.lastAt?.toISOString() ?? null,
  };
}

/** That it is there, whose it is and how it stands; nothing of what it is about. */
const closedRow = (r: IntakeRecord, now: number): IntakeRow => ({
  ...rowOf(r, now),
  closed: true,
  title: r.homeOf === null ? `An intake of ${r.creatorName}` : `Into the home of ${r.creatorName}`,
  folder: null,
  ...{ deposits: 0, files: 0, bytes: 0, waiting: 0, lastAt: null, people: null },
});

/** What was asked and said, in the order in which it was asked; what was left empty is left out. */
function answersOf({ own }: IntakeQuestions, { answers }: DepositRecord): DepositRow['answers'] {
  const asked: [string, string][] = [
    ['Mail', answers.mail],
    ['Firm', answers.firm],
    ...own.map((q): [string, string] => [q.words, answers.own[q.id] ?? '']),
  ];
  return asked.filter(([, said]) => said !== '').map(([words, said]) => ({ asked: words, said }));
}

/** What the folder of a contributor would be called now. */
function exampleOf(pattern: string | null, { firm }: IntakeQuestions, at: number, zone: string): string | null {
  if (pattern === null) return null;
  const said = { name: 'Zoe Calder', firm: firm === 'no' ? '' : 'Brookline Surveys', number: 'D-7K3M-9QXT' };
  return folderName(pattern, { at, ...said }, zone);
}

/** What the ledger says of a change; null: nothing is different. Never the password. */
function whatChanged(
  before: IntakeRecord,
  after: IntakeRecord,
  asked: ChangeIntake & { isForOthers: boolean },
  { now, zone }: { now: number; zone: string },
): { kind: string; detail: Record<string, string> } | null {
  const detail = { title: after.title, intake: after.id };
  if ((before.withdrawnAt === null) !== (after.withdrawnAt === null))
    return { kind: after.withdrawnAt ? 'intake.withdrawn' : 'intake.reinstated', detail };
  const moment = (at: Date | null, none: string) => (at === null ? none : momentInWords(at.getTime(), now, zone));
  const isOther = (pick: (r: IntakeRecord) => unknown) => JSON.stringify(pick(before)) !== JSON.stringify(pick(after));
  const changes = [
    isOther((r) => r.title) && `its title, before ${before.title}`,
    isOther((r) => r.message) && 'its message',
    isOther((r) => r.opensAt) && `opens ${moment(after.opensAt, 'now')}`,
    isOther((r) => r.closesAt) && `closes ${moment(after.closesAt, 'when somebody closes it')}`,
    asked.password !== undefined && (after.passwordHash === null ? 'no password' : 'another password'),
    asked.isForOthers && 'who may hand in',
    isOther((r) => r.address) && `its link is at ${addressText(after.address)}`,
    isOther((r) => r.embed) &&
      (after.embed === null ? 'in no other page' : `shown in pages of ${after.embed.origins.join(', ')}`),
    isOther((r) => r.remindDays) &&
      (after.remindDays === null
        ? 'nobody is reminded'
        : `reminds ${countOf(after.remindDays, 'day')} before it closes`),
    isOther(({ waits, straight }) => [waits, straight]) &&
      (after.waits ? 'deposits wait' : `goes straight in: ${straightWords(after.straight)}`),
    isOther((r) => r.folderPattern) && 'the folder of each contributor',
    isOther((r) => r.limits) && 'what may be handed in',
    isOther((r) => r.questions) && 'what is asked',
    isOther((r) => r.receiptByMail) && (after.receiptByMail ? 'receipts by mail' : 'no receipts by mail'),
  ].filter((words) => words !== false);
  return changes.length === 0 ? null : { kind: 'intake.changed', detail: { ...detail, what: changes.join('; ') } };
}
