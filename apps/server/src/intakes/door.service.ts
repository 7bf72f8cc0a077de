import { Inject, Injectable } from '@nestjs/common';
import {
  answerFaults,
  BEGUN_KEPT_MS,
  FINISH_WITHIN_MS,
  intakeState,
  mayFinish,
  needsCode,
  type IntakeAnswers,
  type IntakeQuestions,
  type IntakeState,
} from '@quay/core';
import type { AskCode, BeginDeposit, CodeAsked, HandedIn, IntakeDoor, IntakeInside } from '@quay/contract';
import { canonicalAddress } from '@quay/core/recipients';
import { randomBytes } from 'node:crypto';
import { DataSource, type EntityManager } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';
import { Attempts } from '../platform/attempts.js';
import { sourceOf } from '../platform/client-address.js';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { grouped } from '../platform/grouped.js';
import { Office } from '../platform/office.js';
import { PasswordDoor } from '../platform/password-door.js';
import { Problem } from '../platform/problems/problem.js';
import { secretHash, unseal } from '../platform/seal.js';
import { TextMessages } from '../platform/text-messages.js';
import { RecipientsService, type Proven } from '../visits/recipients.service.js';
import {
  askedBack,
  askedBackRow,
  depositByCookie,
  depositByReceipt,
  depositsBy,
  handedFiles,
  type AskedBackRecord,
  type DepositRecord,
} from './deposits.queries.js';
import { factsOf, holdIntake, intakeByToken, stateOf, type IntakeRecord } from './intakes.queries.js';

/** Lookups of links that do not exist, from one source in a minute. */
const UNKNOWN_LINKS_PER_MINUTE = 60;
/** Deposits that one source may begin at an intake in an hour: many people may come from one office. */
const BEGUN_PER_HOUR = 100;
/** Codes that one source may ask an intake for in a minute. */
const CODES_PER_MINUTE = 20;
const HOUR_MS = 3_600_000;

/** Whoever came by the link. */
export interface Contributor {
  token: string;
  /** The secret of what this browser, or the page in it, is handing in, if it brought one. */
  cookie: string | null;
  /** The session of whoever is signed in, if it is one. */
  session: string | null;
  fromAddress: string;
}

export interface Inside {
  intake: IntakeRecord;
  deposit: DepositRecord;
}

/** What an intake's page may show and do. */
@Injectable()
export class IntakeDoorService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly office: Office,
    private readonly attempts: Attempts,
    private readonly passwords: PasswordDoor,
    private readonly recipients: RecipientsService,
    private readonly texts: TextMessages,
    @Inject(CONFIG) private readonly config: Config,
  ) {}

  async look(contributor: Contributor): Promise<IntakeDoor> {
    const intake = await this.intakeOf(contributor);
    const [{ name: office }, logo] = await Promise.all([this.office.settings(), this.office.logo()]);
    const [state, now] = [stateOf(intake, this.clock.now()), this.clock.date()];
    const { title, message, creatorName: asker, passwordHash } = intake;
    const own = await this.ownDeposit(contributor, intake);
    const wants = await this.wantsOf(contributor, intake, own);
    const deposit = wants === 'nothing' ? own : null;
    return {
      ...{ title, message, office, asker, state, logo: logo?.version ?? null, now: now.toISOString() },
      opensAt: intake.opensAt?.toISOString() ?? null,
      closesAt: intake.closesAt?.toISOString() ?? null,
      needsPassword: passwordHash !== null,
      wants,
      embed: intake.embed,
      takesNumbers: wants === 'code' && (await this.texts.canSend(this.db.manager)),
      inside: wants === 'nothing' ? await this.insideOf(intake, deposit, state) : null,
    };
  }

  /**
   * Begins to hand something in. A browser that is doing so already goes on with it; one that has, does so as the same
   * contributor.
   * @returns the secret that this browser is known by; null: it has one
   */
  async begin(contributor: Contributor, asked: BeginDeposit): Promise<string | null> {
    const intake = await this.intakeOf(contributor);
    const found = await this.ownDeposit(contributor, intake);
    const own = found && (await this.standsFor(contributor, intake, found)) ? found : null;
    requireOpen(intake, this.clock.now());
    const follows = await this.followed(intake, asked.follows);
    if (own?.state === 'arriving' && isByPassword(own, intake)) {
      if (follows) await this.db.query('UPDATE deposit SET follows_id = $2 WHERE id = $1', [own.id, follows.id]);
      return null;
    }
    const source = sourceOf(contributor.fromAddress);
    await this.attempts.take(`deposits of ${intake.id} from ${source}`, BEGUN_PER_HOUR, HOUR_MS);
    // Who handed something in by this password hands in more by it.
    if (own === null || !isByPassword(own, intake)) await this.passwords.require(intake, source, asked.password);
    const proven = await this.proven(contributor, intake, own, asked);
    const [id, cookie, now] = [uuidv7(), randomBytes(24).toString('base64url'), this.clock.date()];
    await this.db.transaction(async (tx) => {
      await holdIntake(tx, intake.id);
      const present = await this.intakeIn(tx, contributor);
      // By what it is at this moment: not by a password that was changed while it was being checked.
      requireOpen(present, this.clock.now());
      if (present.passwordHash !== intake.passwordHash) throw passwordChanged();
      if (!(await this.recipients.admits(present, proven, tx)) || !(await proven.use(tx))) throw audienceChanged();
      await tx.query(
        `INSERT INTO deposit (id, intake_id, contributor_id, cookie_hash, password_mark, began_at, touched_at, state,
           answers, who, from_address, follows_id, recipient, person_id, session_hash)
         VALUES ($1, $2, $3, $4, $5, $6, $6, 'arriving', $7, '', $8, $9, $10, $11, $12)`,
        [
          ...[id, intake.id, own?.contributorId ?? id, secretHash(cookie), markOf(intake), now],
          ...[JSON.stringify(own?.answers ?? NO_ANSWERS), contributor.fromAddress, follows?.id ?? null],
          ...[proven.recipient, proven.personId, proven.sessionHash],
        ],
      );
    });
    return cookie;
  }

  /** Sends a code to whoever the intake is for, once they have the password. */
  async sendCode(contributor: Contributor, asked: AskCode): Promise<CodeAsked> {
    const intake = await this.intakeOf(contributor);
    requireOpen(intake, this.clock.now());
    const source = sourceOf(contributor.fromAddress);
    await this.attempts.take(`code of ${intake.id} from ${source}`, CODES_PER_MINUTE);
    await this.passwords.require(intake, source, asked.password);
    return this.recipients.sendCode(intake, asked.address, contributor.fromAddress);
  }

  /** As whom somebody begins: who has proven an address here goes on as that. @throws Problem intake.code-needed, … */
  private async proven(
    { session, fromAddress }: Contributor,
    intake: IntakeRecord,
    own: DepositRecord | null,
    asked: BeginDeposit,
  ): Promise<Proven> {
    if (own && needsCode(intake.audience))
      return { ...own, name: own.recipient, use: () => Promise.resolve(true), sessionHash: null };
    return this.recipients.require(intake, asked, session, fromAddress);
  }

  /** Whether whoever began a deposit is let in still: meant, and signed in where that is how they came. */
  private async standsFor(
    { session, fromAddress }: Contributor,
    intake: IntakeRecord,
    deposit: DepositRecord,
    m: EntityManager = this.db.manager,
  ): Promise<boolean> {
    if (!(await this.recipients.admits(intake, deposit, m))) return false;
    return intake.audience !== 'members' || this.recipients.holdsSession(deposit, session, fromAddress);
  }

  /** What is wanted of a browser before it can hand anything in. */
  private async wantsOf(
    contributor: Contributor,
    intake: IntakeRecord,
    own: DepositRecord | null,
  ): Promise<IntakeDoor['wants']> {
    const { audience } = intake;
    if (audience === 'anyone') return 'nothing';
    if (needsCode(audience)) return own && (await this.standsFor(contributor, intake, own)) ? 'nothing' : 'code';
    return this.recipients.require(intake, {}, contributor.session, contributor.fromAddress).then(
      () => 'nothing' as const,
      (error: unknown) => {
        if (!(error instanceof Problem)) throw error;
        return error.kind === 'forbidden' ? ('not-meant' as const) : ('sign-in' as const);
      },
    );
  }

  /** What was handed in here and is answered now. Whoever has a receipt may say so; it makes them nobody else. */
  private async followed(intake: IntakeRecord, key: string | undefined): Promise<DepositRecord | null> {
    return key === undefined ? null : depositByReceipt(this.db.manager, intake.id, secretHash(key));
  }

  /** Origins of the pages that a link's page may be shown in; none of an unknown link, which tells nothing. */
  async shownIn(token: string): Promise<readonly string[]> {
    const intake = await intakeByToken(this.db.manager, this.clock.date(), secretHash(token.slice(0, 200)));
    return intake?.embed?.origins ?? [];
  }

  /** The intake and what this browser is handing in. @throws Problem for every reason it may not */
  async inside(contributor: Contributor): Promise<Inside> {
    return this.insideNow(contributor, await this.intakeOf(contributor), this.db.manager);
  }

  /** The same as things are within a transaction, which holds the intake until it ends. */
  async insideIn(tx: EntityManager, contributor: Contributor): Promise<Inside> {
    await holdIntake(tx, (await this.intakeIn(tx, contributor)).id);
    return this.insideNow(contributor, await this.intakeIn(tx, contributor), tx);
  }

  /** @throws Problem intake.not-found; the same for malformed, unknown and wrong tokens, after the same work */
  async intakeOf(contributor: Contributor): Promise<IntakeRecord> {
    const intake = await this.byToken(this.db.manager, contributor);
    if (intake) return intake;
    await this.attempts.take(`unknown link from ${sourceOf(contributor.fromAddress)}`, UNKNOWN_LINKS_PER_MINUTE);
    throw notAtThisLink();
  }

  private async intakeIn(tx: EntityManager, contributor: Contributor): Promise<IntakeRecord> {
    const intake = await this.byToken(tx, contributor);
    if (!intake) throw notAtThisLink();
    return intake;
  }

  private byToken(m: EntityManager, { token }: Contributor): Promise<IntakeRecord | null> {
    return intakeByToken(m, this.clock.date(), secretHash(token.slice(0, 200)));
  }

  private async insideNow(contributor: Contributor, intake: IntakeRecord, m: EntityManager): Promise<Inside> {
    const now = this.clock.now();
    const deposit = await this.ownDeposit(contributor, intake, m);
    const isBegun = deposit?.state === 'arriving' && isByPassword(deposit, intake);
    if (!isBegun || !(await this.standsFor(contributor, intake, deposit, m))) {
      requireOpen(intake, now);
      throw notBegun();
    }
    if (!mayFinish(factsOf(intake), deposit.beganAt.getTime(), now)) requireOpen(intake, now);
    return { intake, deposit };
  }

  private async ownDeposit(
    { cookie }: Contributor,
    intake: IntakeRecord,
    m: EntityManager = this.db.manager,
  ): Promise<DepositRecord | null> {
    return cookie === null ? null : depositByCookie(m, intake.id, secretHash(cookie));
  }

  private async insideOf(
    intake: IntakeRecord,
    deposit: DepositRecord | null,
    state: IntakeState,
  ): Promise<IntakeInside | null> {
    const arriving = deposit?.state === 'arriving' && isByPassword(deposit, intake) ? deposit : null;
    const finishes = arriving !== null && mayFinish(factsOf(intake), arriving.beganAt.getTime(), this.clock.now());
    const knows = intake.passwordHash === null || (deposit !== null && isByPassword(deposit, intake));
    const isIn = state === 'open' && knows;
    if (!isIn && !finishes && !(state === 'closed' && deposit)) return null;
    const before = deposit === null ? [] : await depositsBy(this.db.manager, deposit.contributorId);
    const asked = await askedBack(
      this.db.manager,
      before.map((d) => d.id),
    );
    const ofEach = grouped(asked, (q) => q.depositId);
    const late = state === 'closed' && finishes && intake.closesAt;
    return {
      ...{ limits: intake.limits, questions: intake.questions },
      files: finishes ? await handedFiles(this.db.manager, arriving.id) : [],
      finishBy: late ? new Date(late.getTime() + FINISH_WITHIN_MS).toISOString() : null,
      follows: finishes ? arriving.follows : null,
      receipts: before.map((each) => this.handedIn(each, ofEach.get(each.id))),
    };
  }

  handedIn(deposit: DepositRecord, asked: readonly AskedBackRecord[] = []): HandedIn {
    const { number, handedInAt, beganAt, files, bytes, state, receiptKeySealed } = deposit;
    const key = receiptKeySealed === null ? '' : unseal(this.config.sealingKey, receiptKeySealed);
    const at = (handedInAt ?? beganAt).toISOString();
    const askedOf = asked.map(askedBackRow);
    return { number: number ?? '', at, files, bytes, state, path: `receipt/${key}`, askedBack: askedOf };
  }
}

const NO_ANSWERS: IntakeAnswers = { name: '', mail: '', firm: '', own: {} };

/** What was begun and not handed in before then is to go. */
export const begunBefore = (now: number): Date => new Date(now - BEGUN_KEPT_MS);

const markOf = ({ passwordHash }: IntakeRecord): Buffer | null =>
  passwordHash === null ? null : secretHash(passwordHash);

/** Whether it was begun by the password that the intake has now. */
const isByPassword = ({ passwordMark }: DepositRecord, intake: IntakeRecord): boolean =>
  markOf(intake)?.equals(passwordMark ?? Buffer.alloc(0)) ?? passwordMark === null;

/** @throws Problem answer.* at the field */
export function requireAnswers(questions: IntakeQuestions, answers: IntakeAnswers): void {
  const errors = answerFaults(questions, answers).map(({ field, code, words }) => ({ field, code, detail: words }));
  if (answers.mail !== '' && canonicalAddress(answers.mail) === null)
    errors.push({ field: 'mail', code: 'answer.missing', detail: 'That is no mail address.' });
  const [first] = errors;
  if (first) throw new Problem('invalid', first.code, first.detail, { errors });
}

const notAtThisLink = (): Problem =>
  new Problem(
    'not-found',
    'intake.not-found',
    'Nothing is asked for at this link. Check that the whole link was copied.',
  );

const notBegun = (): Problem =>
  new Problem('unauthenticated', 'intake.not-begun', 'Begin first; this browser is not handing anything in here.');

const passwordChanged = (): Problem =>
  new Problem(
    'unauthenticated',
    'intake.password-needed',
    'The password of this intake was changed just now. Enter the new one.',
  );

const audienceChanged = (): Problem =>
  new Problem('conflict', 'intake.audience-changed', 'Who may hand in here was changed just now. Begin again.');

const REFUSALS: Record<Exclude<IntakeState, 'open'>, [code: string, words: string]> = {
  scheduled: ['intake.not-yet', 'This is not open yet.'],
  closed: ['intake.closed', 'This has closed. Ask whoever sent you the link to open it again.'],
  withdrawn: ['intake.withdrawn', 'This was withdrawn by whoever sent you the link.'],
  broken: ['intake.broken', 'Nothing can be handed in here at the moment. Ask whoever sent you the link.'],
};

/** @throws Problem that says why the intake is not open at that moment */
function requireOpen(intake: IntakeRecord, at: number): void {
  const state = intakeState(factsOf(intake), at);
  if (state === 'open') return;
  const [code, words] = REFUSALS[state];
  const { opensAt, closesAt } = intake;
  throw new Problem(state === 'scheduled' ? 'forbidden' : 'gone', code, words, { state, opensAt, closesAt });
}
