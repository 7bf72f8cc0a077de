import { Injectable } from '@nestjs/common';
import { canWait, countOf, dayIn, morningIsDue, noticesFor, type NoticeKind } from '@quay/core';
import type { OwnNotices } from '@quay/contract';
import { ArrayContains, DataSource, IsNull, type EntityManager } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';
import { Clock } from '../platform/clock.js';
import { Housekeeping } from '../platform/housekeeping.js';
import { Mail, type Notice } from '../platform/mail.js';
import { Office } from '../platform/office.js';
import { Person } from './people.entity.js';
import type { Who } from './who.js';

/** Of what waited for the mail of the day so much is told; of the rest, how much there is. */
const MOST_OF_A_DAY = 100;

/** Notices by mail that people want or do not. */
@Injectable()
export class NoticesService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly office: Office,
    private readonly mail: Mail,
    housekeeping: Housekeeping,
  ) {
    housekeeping.add('the notices of the day', () => this.tellDay());
  }

  async own({ personId, duties }: Who): Promise<OwnNotices> {
    const person = await this.db.getRepository(Person).findOneByOrFail({ id: personId });
    const theirs = noticesFor(duties);
    return { notices: person.notices.filter((kind) => theirs.includes(kind)), daily: person.noticesDaily };
  }

  async change(who: Who, { notices, daily }: OwnNotices): Promise<OwnNotices> {
    const set = { notices, ...(daily !== undefined && { noticesDaily: daily }) };
    await this.db.getRepository(Person).update({ id: who.personId }, set);
    return this.own(who);
  }

  /** Hands a notice in for somebody, if they want such. Within the transaction that gives rise to it. */
  async give(
    tx: EntityManager,
    kind: NoticeKind,
    personId: string,
    { subject, text }: Pick<Notice, 'subject' | 'text'>,
  ): Promise<void> {
    const person = await tx.findOneBy(Person, {
      id: personId,
      disabledAt: IsNull(),
      notices: ArrayContains([kind]),
    });
    if (!person) return;
    if (person.noticesDaily && canWait(kind))
      await tx.query('INSERT INTO notice_waiting (id, person_id, text, at) VALUES ($1, $2, $3, $4)', [
        ...[uuidv7(), personId, text, this.clock.date()],
      ]);
    else await this.mail.handIn(tx, { to: person.email, subject, text: whole(person.name, text) });
  }

  /** In the morning, what has waited since the day before goes out in one mail. */
  async tellDay(): Promise<void> {
    const { zone } = await this.office.settings();
    const now = this.clock.now();
    const waiting = await this.db.query<{ id: string; oldest: Date }[]>(
      'SELECT person_id AS id, min(at) AS oldest FROM notice_waiting GROUP BY person_id',
    );
    const due = waiting.filter(({ oldest }) => morningIsDue(now, zone, dayIn(zone, oldest.getTime())));
    for (const { id } of due) await this.db.transaction((tx) => this.tellDayOf(tx, id));
    if (due.length > 0) this.mail.hurry();
  }

  private async tellDayOf(tx: EntityManager, personId: string): Promise<void> {
    const [rows] = (await tx.query('DELETE FROM notice_waiting WHERE person_id = $1 AND at <= $2 RETURNING text, at', [
      personId,
      this.clock.date(),
    ])) as [{ text: string; at: Date }[], number];
    const person = await tx.findOneBy(Person, { id: personId, disabledAt: IsNull() });
    // Another server process told them, or they are gone.
    if (!person || rows.length === 0) return;
    const told = rows.sort((a, b) => a.at.getTime() - b.at.getTime()).map(({ text }) => `- ${text}`);
    const more = told.length - MOST_OF_A_DAY;
    const list = [...told.slice(0, MOST_OF_A_DAY), ...(more > 0 ? [`- and ${more} more`] : [])].join('\n');
    await this.mail.handIn(tx, {
      to: person.email,
      subject: `${countOf(rows.length, 'thing')} came of your shares`,
      text: whole(person.name, `this came of your shares:\n\n${list}`),
    });
  }
}

const whole = (name: string, text: string): string =>
  `Hello ${name},\n\n${text}\n\nWhat you are told of by mail, you choose under your name, Notices.\n`;
