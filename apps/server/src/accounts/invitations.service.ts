import type { HandOver, Invitation } from '@quay/contract';
import { dayInWords, proposalBytes, proposePassword, tokenFromBytes } from '@quay/core';
import { WORDS } from '@quay/core/wordlist';
import { Injectable } from '@nestjs/common';
import { randomBytes } from 'node:crypto';
import type { EntityManager } from 'typeorm';
import { LedgerService, type NewEntry } from '../ledger/ledger.service.js';
import { accountRecords, endSessionsOf, givePassword, type AccountRecord } from '../people/people.queries.js';
import { hasDuty } from '../people/duties.js';
import type { Who } from '../people/who.js';
import { Attempts } from '../platform/attempts.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { Mail } from '../platform/mail.js';
import { Office } from '../platform/office.js';
import { hashPassword } from '../platform/passwords.js';
import { Problem } from '../platform/problems/problem.js';
import { insertPasswordLink } from '../people/password-links.queries.js';

/** An invitation is for people who read their mail now and then (common practice, no source). */
const LASTS_MS = 7 * 24 * 3600_000;
/** A new password is waited for. */
const RESET_LASTS_MS = 24 * 3600_000;
/** Links that somebody who is no admin gives out in an hour: each may be a mail to a stranger. */
const GIVEN_AN_HOUR = 60;
const HOUR_MS = 3600_000;

/** Links by which people begin with their account. */
@Injectable()
export class InvitationsService {
  constructor(
    private readonly clock: Clock,
    private readonly events: Events,
    private readonly ledger: LedgerService,
    private readonly mail: Mail,
    private readonly office: Office,
    private readonly attempts: Attempts,
  ) {}

  /**
   * A link for somebody, with whatever is done for them in the same transaction: by which they set a password, and those
   * before it are void; or, where they have one already, to where they sign in. Or a password, to be changed there.
   * @param by where it is by mail and there is no mail server, nobody gets one, and the answer says so
   * @throws Problem invitation.no-address, invitation.no-mail, invitation.password-theirs
   */
  async give(who: Who, by: HandOver, work: (tx: EntityManager) => Promise<Begun>): Promise<Invitation> {
    const [given] = await this.giveEach(who, by, async (tx) => [await work(tx)]);
    return given as Invitation;
  }

  /** The same for several, all in one transaction. */
  giveAll(
    who: Who,
    by: Exclude<HandOver, 'password'>,
    work: (tx: EntityManager) => Promise<Begun[]>,
  ): Promise<Invitation[]> {
    return this.giveEach(who, by, work);
  }

  private async giveEach(who: Who, by: HandOver, work: (tx: EntityManager) => Promise<Begun[]>): Promise<Invitation[]> {
    const giver = await this.giverFor(who);
    // Worked out before anything is held that others wait for.
    const made = by === 'password' ? await makePassword() : null;
    const given = await this.events.change(async (tx) => {
      const begun = await work(tx);
      const invitations: Invitation[] = [];
      for (const one of begun) invitations.push(await this.giveIn(tx, { ...giver, made }, by, one));
      await this.ledger.append(tx, ...begun.flatMap((one) => one.entries));
      return invitations;
    });
    if (given.some((invitation) => invitation.mailedTo)) this.mail.hurry();
    return given;
  }

  private async giverFor(who: Who): Promise<Giver> {
    if (who.role !== 'admin') await this.attempts.take(`links of ${who.personId}`, GIVEN_AN_HOUR, HOUR_MS);
    const [{ name: officeName, zone }, [address]] = await Promise.all([
      this.office.settings(),
      this.office.addresses(),
    ]);
    if (!address)
      throw new Problem('conflict', 'invitation.no-address', 'There is no address yet that a link can be built on.');
    return { who, officeName, zone, base: address.text };
  }

  private async giveIn(
    tx: EntityManager,
    giver: Giver & { made: Made | null },
    by: HandOver,
    { personId, sets, isNew = false }: Begun,
  ): Promise<Invitation> {
    const { who, officeName, zone, base, made } = giver;
    const [person] = (await accountRecords(tx, [personId])) as [AccountRecord];
    // Whoever has the link of somebody could be them, and have what others gave them: so it is for whoever makes the
    // account, and for those who look after all of them until it is begun.
    const mayBegin = isNew || (person.invitedAt !== null && hasDuty(who, 'run-people'));
    const isShown = !sets || who.role === 'admin' || mayBegin;
    const told = { personId, name: person.name, signInName: person.signInName };
    if (made && sets) {
      if (!isShown) throw notTheirs(person.name);
      const endsAt = await this.givePassword(tx, person, made);
      return { ...told, link: base, password: made.password, endsAt: endsAt.toISOString(), mailedTo: null };
    }
    const { token, endsAt } = sets ? await this.link(tx, person) : { token: null, endsAt: null };
    const link = token === null ? base : `${base}/password/${token}`;
    const mailed = (by === 'mail' || !isShown) && (await this.mail.canSend(tx));
    if (!mailed && !isShown) throw notHandedOver(person.name);
    if (mailed) {
      const until = endsAt && dayInWords(endsAt.getTime(), this.clock.now(), zone);
      const letter = letterOf(person, { by: who.name, officeName, link, until });
      await this.mail.handIn(tx, { to: person.email, ...letter });
    }
    return {
      ...{ ...told, link: isShown ? link : null, password: null, endsAt: endsAt?.toISOString() ?? null },
      mailedTo: mailed ? person.email : null,
    };
  }

  /** They are signed out wherever they came in by the one before. */
  private async givePassword(tx: EntityManager, person: AccountRecord, { passwordHash }: Made): Promise<Date> {
    const until = this.endFor(person);
    await givePassword(tx, person.id, { passwordHash, until });
    await endSessionsOf(tx, person.id);
    await this.events.tell(tx, { topic: 'session', id: person.id });
    return until;
  }

  private endFor({ invitedAt }: AccountRecord): Date {
    return new Date(this.clock.now() + (invitedAt ? LASTS_MS : RESET_LASTS_MS));
  }

  private async link(tx: EntityManager, person: AccountRecord): Promise<{ token: string; endsAt: Date }> {
    const token = tokenFromBytes(randomBytes(16));
    const [at, endsAt] = [this.clock.date(), this.endFor(person)];
    await insertPasswordLink(tx, { token, personId: person.id, at, endsAt });
    return { token, endsAt };
  }
}

/** Whoever hands links over, and what those are built on. */
interface Giver {
  who: Who;
  officeName: string;
  zone: string;
  base: string;
}

/** A password that is made for somebody else. */
interface Made {
  password: string;
  passwordHash: string;
}

async function makePassword(): Promise<Made> {
  const { password } = proposePassword(WORDS, randomBytes(proposalBytes(WORDS.length)));
  return { password, passwordHash: await hashPassword(password) };
}

/** Somebody for whom a link is made, and what is written down of it. */
export interface Begun {
  personId: string;
  entries: NewEntry[];
  /** They set a password by it. */
  sets: boolean;
  /** Nobody has given them anything before. */
  isNew?: boolean;
}

function letterOf(
  person: AccountRecord,
  { by, officeName, link, until }: { by: string; officeName: string; link: string; until: string | null },
): { subject: string; text: string } {
  const begins = person.invitedAt !== null;
  const once = until ? `The link works once, until ${until}. ` : '';
  const told = !until
    ? [`More for you at ${officeName}`, `${by} has given you something more at ${officeName}. Sign in to see it:`]
    : begins
      ? [`Your account at ${officeName}`, `${by} has made an account for you at ${officeName}. Choose a password here:`]
      : [`A new password for ${officeName}`, `${by} has sent you a link to choose a new password at ${officeName}:`];
  const [subject, why] = told as [string, string];
  const signsIn = `You sign in as ${person.signInName}, or with this mail address.`;
  return { subject, text: `Hello ${person.name},\n\n${why}\n\n${link}\n\n${once}${signsIn}\n` };
}

const notTheirs = (name: string): Problem =>
  new Problem(
    'conflict',
    'invitation.password-theirs',
    `${name} has an account already: an admin can make a password for them, you can send them a link.`,
  );

const notHandedOver = (name: string): Problem =>
  new Problem(
    'conflict',
    'invitation.no-mail',
    `A link for ${name} goes to them by mail, and no mail server is set up. An admin can hand one over.`,
  );
