import type { Invitation } from '@quay/contract';
import { dayInWords, tokenFromBytes } from '@quay/core';
import { Injectable } from '@nestjs/common';
import { randomBytes } from 'node:crypto';
import type { EntityManager } from 'typeorm';
import { LedgerService, type NewEntry } from '../ledger/ledger.service.js';
import { accountRecords, type AccountRecord } from '../people/people.queries.js';
import { hasDuty } from '../people/duties.js';
import type { Who } from '../people/who.js';
import { Attempts } from '../platform/attempts.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { Mail } from '../platform/mail.js';
import { Office } from '../platform/office.js';
import { Problem } from '../platform/problems/problem.js';
import { insertPasswordLink } from './password-links.queries.js';

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
   * before it are void; or, where they have one already, to where they sign in.
   * @param isMailed they get a mail; without a mail server nobody does, and the answer says so
   */
  async give(who: Who, isMailed: boolean, work: (tx: EntityManager) => Promise<Begun>): Promise<Invitation> {
    const [given] = await this.giveAll(who, isMailed, async (tx) => [await work(tx)]);
    return given as Invitation;
  }

  /** The same for several, all in one transaction. */
  async giveAll(who: Who, isMailed: boolean, work: (tx: EntityManager) => Promise<Begun[]>): Promise<Invitation[]> {
    const by = await this.giverFor(who);
    const given = await this.events.change(async (tx) => {
      const begun = await work(tx);
      const invitations: Invitation[] = [];
      for (const one of begun) invitations.push(await this.giveIn(tx, by, isMailed, one));
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
    by: Giver,
    isMailed: boolean,
    { personId, sets, isNew = false }: Begun,
  ): Promise<Invitation> {
    const { who, officeName, zone, base } = by;
    const [person] = (await accountRecords(tx, [personId])) as [AccountRecord];
    const { token, endsAt } = sets ? await this.link(tx, person) : { token: null, endsAt: null };
    // Whoever has the link of somebody could be them, and have what others gave them: so it is for whoever makes the
    // account, and for those who look after all of them until it is begun.
    const mayBegin = isNew || (person.invitedAt !== null && hasDuty(who, 'run-people'));
    const isShown = token === null || who.role === 'admin' || mayBegin;
    const link = token === null ? base : `${base}/password/${token}`;
    const mailed = (isMailed || !isShown) && (await this.mail.canSend(tx));
    if (!mailed && !isShown) throw notHandedOver(person.name);
    if (mailed) {
      const until = endsAt && dayInWords(endsAt.getTime(), this.clock.now(), zone);
      const letter = letterOf(person, { by: who.name, officeName, link, until });
      await this.mail.handIn(tx, { to: person.email, ...letter });
    }
    return {
      ...{ personId, name: person.name, link: isShown ? link : null, endsAt: endsAt?.toISOString() ?? null },
      mailedTo: mailed ? person.email : null,
    };
  }

  private async link(tx: EntityManager, person: AccountRecord): Promise<{ token: string; endsAt: Date }> {
    const token = tokenFromBytes(randomBytes(16));
    const at = this.clock.date();
    const endsAt = new Date(at.getTime() + (person.invitedAt ? LASTS_MS : RESET_LASTS_MS));
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

const notHandedOver = (name: string): Problem =>
  new Problem(
    'conflict',
    'invitation.no-mail',
    `A link for ${name} goes to them by mail, and no mail server is set up. An admin can hand one over.`,
  );
