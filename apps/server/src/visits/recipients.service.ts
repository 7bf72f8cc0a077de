import { Inject, Injectable } from '@nestjs/common';
import {
  type AudienceKind,
  CODE_DIGITS,
  CODE_LIFETIME_MS,
  CODE_TRIES,
  CODES_PER_HOUR,
  countOf,
  holdsAt,
  isNumber,
  needsCode,
  standingOf,
  TEXT_CODES_PER_HOUR,
  STANDING_WORDS,
  WRONG_CODES_PER_HOUR,
} from '@quay/core';
import { canonicalRecipient } from '@quay/core/recipients';
import type { CodeAsked, ProofAsked, SeePage } from '@quay/contract';
import { createHmac, randomBytes, randomInt, timingSafeEqual } from 'node:crypto';
import { setTimeout as wait } from 'node:timers/promises';
import { DataSource, type EntityManager } from 'typeorm';
import { loadAskers } from '../access/access-facts.js';
import { accountRecords } from '../people/people.queries.js';
import { SessionService } from '../people/session.service.js';
import { Attempts } from '../platform/attempts.js';
import { sourceOf } from '../platform/client-address.js';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Housekeeping } from '../platform/housekeeping.js';
import { Mail } from '../platform/mail.js';
import { Office } from '../platform/office.js';
import { TextMessages } from '../platform/text-messages.js';
import { invalidField, Problem } from '../platform/problems/problem.js';
import { secretHash } from '../platform/seal.js';
import { foundInLists, isMeant, type HasAudience } from '../shares/audience.queries.js';
import type { ShareRecord } from '../shares/shares.queries.js';
import { dropCode, forgetCodes, keepCode, sessionLasts, takeCodeTry, type VisitRow } from './visits.queries.js';

const HOUR_MS = 3_600_000;
/** An answer about a code comes at a multiple of this: how long the work took tells nothing of the address. */
const BEAT_MS = 300;

/** What is opened, by whoever is meant. */
export interface Opened extends HasAudience {
  audience: AudienceKind;
  creatorName: string;
}

/** As whom somebody was let in. */
export type LetInAs = Pick<VisitRow, 'recipient' | 'personId' | 'sessionHash'>;

/** What a code is for, after whoever made the link and the office. */
const CODE_IS_FOR = { share: 'has shared with you', intake: 'asks you for' } as const;

/** Whom a visit is let in as. */
export interface Proven {
  recipient: string | null;
  personId: string | null;
  sessionHash: Buffer | null;
  /** Of whoever is signed in. */
  name: string | null;
  /** Uses up what was proven, in the transaction that lets them in. @returns false: it was used meanwhile */
  use: (tx: EntityManager) => Promise<boolean>;
}

const codeFirst = ({ kind }: Opened): Problem =>
  new Problem('unauthenticated', `${kind}.code-needed`, `This ${kind} is opened with a code that is sent to you.`);

const signInFirst = ({ kind }: Opened): Problem =>
  new Problem('unauthenticated', `${kind}.sign-in`, `This ${kind} is for people who sign in here.`);

const notMeant = ({ kind, creatorName }: Opened, name: string): Problem =>
  new Problem('forbidden', `${kind}.not-meant`, `This ${kind} is for others than ${name}. Ask ${creatorName}.`);

/** As whom a share lets somebody in; or why it does not. */
export type Judged =
  | { isAdmitted: true; recipient: string | null; personId: string | null; name: string | null }
  | { isAdmitted: false; told: Problem; words: string };

const keptOut = (told: Problem, words: string): Judged => ({ isAdmitted: false, told, words });

const ANYBODY: Proven = {
  recipient: null,
  personId: null,
  sessionHash: null,
  name: null,
  use: () => Promise.resolve(true),
};

/** The one answer to every code that does not let in, whoever typed it. */
const wrongCode = ({ kind }: Opened, triesLeft: number): Problem =>
  new Problem(
    'unauthenticated',
    `${kind}.wrong-code`,
    triesLeft > 0
      ? `That is not the code, or it is over. ${countOf(triesLeft, 'try', 'tries')} left with this one.`
      : 'That is not the code, or it is over. Ask for another.',
    { triesLeft },
  );

/** Who a visitor is, where a share is not for anyone: by a code that was sent to their address, or by signing in. */
@Injectable()
export class RecipientsService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly attempts: Attempts,
    private readonly mail: Mail,
    private readonly texts: TextMessages,
    private readonly office: Office,
    private readonly sessions: SessionService,
    @Inject(CONFIG) private readonly config: Config,
    housekeeping: Housekeeping,
  ) {
    housekeeping.add('codes of shares', () => this.tidy());
  }

  /**
   * Sends a code to an address, if the share is for it. Whether it is told by nothing: answer, time, limits and what is
   * kept are the same.
   * @throws Problem recipient.address, tries.too-many, mail.none
   */
  async sendCode(share: Opened, text: string, from: string): Promise<CodeAsked> {
    if (!needsCode(share.audience))
      throw new Problem('conflict', `${share.kind}.no-code`, `This ${share.kind} asks for no code.`);
    const address = recipientFrom(text);
    if (isNumber(address)) await this.requireTexts(share, from);
    else if (!(await this.mail.canSend(this.db.manager)))
      throw new Problem(
        'conflict',
        'mail.none',
        `Codes cannot be sent at the moment. Ask ${share.creatorName} to let you in another way.`,
      );
    const to = `code to ${secretHash(address).toString('hex')}`;
    await this.attempts.take(`${to} from ${sourceOf(from)}`, CODES_PER_HOUR.fromOne, HOUR_MS);
    await this.attempts.take(to, CODES_PER_HOUR.fromAll, HOUR_MS);
    const ticket = randomBytes(24).toString('base64url');
    const began = performance.now();
    const code = String(randomInt(10 ** CODE_DIGITS)).padStart(CODE_DIGITS, '0');
    const expiresAt = new Date(this.clock.now() + CODE_LIFETIME_MS);
    await this.db.transaction(async (tx) => {
      await keepCode(tx, share, { ticketHash: secretHash(ticket), mac: this.macOf(share, address, code), expiresAt });
      if ((await this.standing(tx, share, address)) === 'admitted') await this.giveCode(tx, share, address, code);
    });
    await wait(BEAT_MS - ((performance.now() - began) % BEAT_MS));
    return { address, ticket, minutes: CODE_LIFETIME_MS / 60_000 };
  }

  /** Codes that are over go. */
  private async tidy(): Promise<void> {
    await forgetCodes(this.db.manager, this.clock.date());
  }

  /** Who opens a share, as far as it asks. @throws Problem for every way in which they have not shown it */
  async require(share: Opened, asked: ProofAsked, session: string | null, from: string): Promise<Proven> {
    if (share.audience === 'anyone') return ANYBODY;
    return share.audience === 'members'
      ? this.requireMember(share, session, from)
      : this.requireCode(share, asked, from);
  }

  /** Whether a visit may go on: whoever it was let in as is still meant, and still signed in. */
  async admits(share: Opened, visit: LetInAs, m: EntityManager = this.db.manager): Promise<boolean> {
    switch (share.audience) {
      case 'anyone':
        return true;
      case 'verified':
      case 'listed':
        return visit.recipient !== null && (await this.standing(m, share, visit.recipient)) === 'admitted';
      case 'members':
        return (
          visit.personId !== null &&
          visit.sessionHash !== null &&
          (await sessionLasts(m, visit.sessionHash, this.clock.date())) &&
          (await this.isMember(m, share, visit.personId))
        );
    }
  }

  /**
   * Whether a share would let somebody in who proves an address, or signs in as somebody, and why not: for whoever
   * publishes it. Visitors are told less.
   */
  async judge(m: EntityManager, share: ShareRecord, as: SeePage): Promise<Judged> {
    const nobody = { isAdmitted: true as const, recipient: null, personId: null, name: null };
    if (share.audience === 'anyone') return nobody;
    if (share.audience === 'members') {
      const [person] = as.personId ? await accountRecords(m, [as.personId]) : [];
      if (!person) return keptOut(signInFirst(share), 'Nobody is signed in.');
      if (await this.isMember(m, share, person.id)) return { ...nobody, personId: person.id, name: person.name };
      return keptOut(notMeant(share, person.name), `${person.name} is not among those it is for.`);
    }
    if (!as.address) return keptOut(codeFirst(share), 'No address is proven.');
    const address = recipientFrom(as.address);
    const standing = await this.standing(m, share, address);
    if (standing === 'admitted') return { ...nobody, recipient: address };
    return keptOut(wrongCode(share, CODE_TRIES - 1), `No code goes to ${address}: ${STANDING_WORDS[standing]}.`);
  }

  /** Whether whoever was let in as somebody signed in still holds that session, and may from where they are now. */
  async holdsSession(visit: LetInAs, session: string | null, from: string): Promise<boolean> {
    if (session === null || !visit.sessionHash?.equals(secretHash(session))) return false;
    return (await this.sessions.whoHolds(session, from)) !== null;
  }

  private async requireCode(share: Opened, { address: text, code, ticket }: ProofAsked, from: string): Promise<Proven> {
    if (text === undefined || code === undefined || ticket === undefined) throw codeFirst(share);
    const address = recipientFrom(text);
    const ticketHash = secretHash(ticket);
    // Counted before it is compared; a right one is given back.
    const wrong = `wrong code from ${sourceOf(from)}`;
    await this.attempts.take(wrong, WRONG_CODES_PER_HOUR, HOUR_MS);
    const about = { ticketHash, now: this.clock.date(), most: CODE_TRIES };
    const kept = await takeCodeTry(this.db.manager, share, about);
    const right = kept !== null && timingSafeEqual(kept.mac, this.macOf(share, address, code));
    if (!right) throw wrongCode(share, kept === null ? 0 : CODE_TRIES - kept.tries);
    await this.attempts.giveBack(wrong);
    // It was sent to nobody whom the share is not for; it may have changed since.
    if ((await this.standing(this.db.manager, share, address)) !== 'admitted') throw wrongCode(share, 0);
    return { ...ANYBODY, recipient: address, use: (tx) => dropCode(tx, share, ticketHash) };
  }

  private async requireMember(share: Opened, session: string | null, from: string): Promise<Proven> {
    const who = session === null ? null : await this.sessions.whoHolds(session, from);
    if (!who || session === null) throw signInFirst(share);
    if (!(await this.isMember(this.db.manager, share, who.personId))) throw notMeant(share, who.name);
    return { ...ANYBODY, personId: who.personId, name: who.name, sessionHash: secretHash(session) };
  }

  /** Whether somebody is meant now, themselves or by a group, with an account that can be used. */
  private async isMember(m: EntityManager, share: Opened, personId: string): Promise<boolean> {
    const now = this.clock.now();
    const [asker] = await loadAskers(m, [personId]);
    if (!asker?.account.some((span) => holdsAt(span, now))) return false;
    const groups = asker.groups.filter((g) => holdsAt(g, now)).map((g) => g.groupId);
    return isMeant(m, share, personId, groups);
  }

  private async standing(m: EntityManager, share: Opened, address: string) {
    const audience = share.audience === 'verified' ? 'verified' : 'listed';
    return standingOf(audience, await foundInLists(m, share, address));
  }

  /** Each costs the office: one source, and one share, has so many sent in an hour, whoever they are for. */
  private async requireTexts({ id, creatorName }: Opened, from: string): Promise<void> {
    if (!(await this.texts.canSend(this.db.manager)))
      throw new Problem(
        'conflict',
        'texts.none',
        `Codes cannot be sent to telephones at the moment. Ask ${creatorName} to let you in another way.`,
      );
    await this.attempts.take(`codes to telephones from ${sourceOf(from)}`, TEXT_CODES_PER_HOUR.fromOne, HOUR_MS);
    await this.attempts.take(`codes to telephones of ${id}`, TEXT_CODES_PER_HOUR.ofShare, HOUR_MS);
  }

  private async giveCode(tx: EntityManager, share: Opened, to: string, code: string): Promise<void> {
    const { name } = await this.office.toVisitors();
    const what = `what ${share.creatorName}, ${name}, ${CODE_IS_FOR[share.kind]}`;
    if (isNumber(to)) {
      const text = `${code} is your code for ${what}.`;
      await this.texts.handIn(tx, { to, text });
      return;
    }
    await this.mail.handIn(tx, {
      to,
      subject: `Your code for ${name}`,
      text: `${code}\n\nWith this code you open ${what}. It holds for ${CODE_LIFETIME_MS / 60_000} minutes and once.\n\nIf you have not asked for it, somebody else has typed your address; nothing happens without the code.`,
    });
  }

  /** Codes are few: only whoever knows the key of the server can tell one from what is kept of it. */
  private macOf({ kind, id }: Opened, address: string, code: string): Buffer {
    return createHmac('sha256', this.config.sealingKey).update(`${kind} code\n${id}\n${address}\n${code}`).digest();
  }
}

function recipientFrom(text: string): string {
  const recipient = canonicalRecipient(text);
  if (recipient === null)
    throw invalidField(
      'address',
      'recipient.address',
      'That is no mail address, and no telephone number with its country (as +44 7700 900123).',
    );
  return recipient;
}
