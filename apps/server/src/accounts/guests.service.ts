import type { Invitation, NewGuest } from '@quay/contract';
import { dayInWords, initialsOf, SYSTEM_ACTOR } from '@quay/core';
import { Injectable } from '@nestjs/common';
import { DataSource, type EntityManager } from 'typeorm';
import { lockAccess } from '../access/access-lock.js';
import { GrantsService } from '../access/grants.service.js';
import { LedgerService, type NewEntry } from '../ledger/ledger.service.js';
import {
  accountsAt,
  addPerson,
  endSessionsOf,
  freeSignInName,
  guestsEnding,
  guestsToWarn,
  guestWarned,
  heldAccount,
  setDisabled,
} from '../people/people.queries.js';
import type { Who } from '../people/who.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { Jobs } from '../platform/jobs/jobs.service.js';
import { Mail } from '../platform/mail.js';
import { Office } from '../platform/office.js';
import { invalidField, Problem } from '../platform/problems/problem.js';
import { InvitationsService } from './invitations.service.js';
import { unusablePassword } from './unusable-password.js';

const EVERY_MINUTE = '* * * * *';
/** So long before their end guests and whoever answers for them are told. */
const WARNED_MS = 3 * 24 * 3600_000;

/** People from outside with an account of their own: invited to a folder, and gone by themselves. */
@Injectable()
export class GuestsService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly events: Events,
    private readonly ledger: LedgerService,
    private readonly office: Office,
    private readonly mail: Mail,
    private readonly grants: GrantsService,
    private readonly invitations: InvitationsService,
    jobs: Jobs,
  ) {
    jobs.define(
      'guests',
      () => 'End the accounts of guests whose time is over',
      () => this.round(),
    );
    jobs.regularly('guests', EVERY_MINUTE);
  }

  /**
   * Lets somebody from outside into a folder with an account of their own. Whoever has one already at that address
   * gets the folder beside what they have. @throws Problem guest.is-staff, guest.left
   */
  async invite(who: Who, asked: NewGuest): Promise<Invitation> {
    const passwordHash = await unusablePassword();
    const now = this.clock.date();
    const endsAt = asked.endsAt === null ? null : new Date(asked.endsAt);
    if (endsAt && endsAt <= now) throw invalidField('endsAt', 'person.ends-before', 'That day has passed.');
    return this.invitations.give(who, asked.by, async (tx) => {
      await lockAccess(tx, 'alone');
      const there = await this.there(tx, asked.email);
      const entries: NewEntry[] = [];
      let personId = there?.id;
      if (personId === undefined) {
        personId = await addPerson(
          tx,
          {
            ...{ name: asked.name, email: asked.email, initials: initialsOf(asked.name), role: 'guest', passwordHash },
            signInName: await freeSignInName(tx, asked.name),
            ...{ invitedAt: now, sponsorId: who.personId, endsAt, quietDays: asked.quietDays },
          },
          now,
        );
        entries.push(this.entry(who, 'guest.invited', asked.name));
      } else entries.push(this.entry(who, 'guest.joined', there?.name ?? asked.name));
      // The folder says whether whoever asks may let somebody in there.
      const grant = { subject: { kind: 'person' as const, id: personId }, level: asked.level, until: null };
      entries.push(...(await this.grants.grantIn(tx, who, asked.folderId, grant)));
      return { personId, entries, sets: there === null || there.invitedAt !== null, isNew: there === null };
    });
  }

  private async there(tx: EntityManager, email: string) {
    const [first] = await accountsAt(tx, email);
    const person = first ? await heldAccount(tx, first.id) : null;
    if (!person) return null;
    if (person.role !== 'guest')
      throw invalidField('email', 'guest.is-staff', `${person.name} is of the office. Grant it to them instead.`);
    if (person.disabledAt)
      throw new Problem(
        'conflict',
        'guest.left',
        `${person.name} was a guest, and their account has ended. Whoever looks after people can enable it again.`,
      );
    return person;
  }

  /** Ends what is over, and tells of what ends soon. */
  async round(): Promise<void> {
    for (const { id } of await guestsEnding(this.db.manager, this.clock.date())) await this.end(id);
    await this.warn();
  }

  private async end(id: string): Promise<void> {
    await this.events.change(async (tx) => {
      await lockAccess(tx, 'alone');
      const now = this.clock.date();
      // Prolonged meanwhile, or ended by another process.
      const due = (await guestsEnding(tx, now)).find((g) => g.id === id);
      if (!due) return;
      const guest = await heldAccount(tx, id);
      await setDisabled(tx, id, now);
      await endSessionsOf(tx, id);
      await this.events.tell(tx, { topic: 'access', id: 'changed' }, { topic: 'session', id });
      const why = guest?.endsAt && guest.endsAt <= now ? 'its day had come' : `not used for ${guest?.quietDays} days`;
      await this.ledger.append(tx, { kind: 'person.ended', actor: SYSTEM_ACTOR, detail: { name: due.name, why } });
    });
  }

  private async warn(): Promise<void> {
    const now = this.clock.date();
    const soon = await guestsToWarn(this.db.manager, now, new Date(now.getTime() + WARNED_MS));
    if (soon.length === 0) return;
    const { name: officeName, zone } = await this.office.settings();
    for (const guest of soon)
      await this.events.change(async (tx) => {
        await guestWarned(tx, guest.id, guest.endsAt);
        const day = dayInWords(guest.endsAt.getTime(), now.getTime(), zone);
        const told = [
          {
            to: guest.email,
            subject: `Your account at ${officeName} ends ${day}`,
            text: `Hello ${guest.name},\n\nyour account at ${officeName} ends ${day}. Who invited you can let it go on; signing in does, too, where it ends because it is not used.\n`,
          },
          {
            to: guest.sponsorEmail,
            subject: `The account of ${guest.name} ends ${day}`,
            text: `The account of your guest ${guest.name} ends ${day}. Whoever looks after people can let it go on.\n`,
          },
        ];
        for (const { to, subject, text } of told) if (to) await this.mail.handIn(tx, { to, subject, text });
      });
    this.mail.hurry();
  }

  private entry(who: Who, kind: string, name: string): NewEntry {
    return { kind, actor: { kind: 'person', id: who.personId, name: who.name }, detail: { name } };
  }
}
