import { Injectable } from '@nestjs/common';
import { noticesFor, type NoticeKind } from '@quay/core';
import type { OwnNotices } from '@quay/contract';
import { ArrayContains, DataSource, IsNull, type EntityManager } from 'typeorm';
import { Mail, type Notice } from '../platform/mail.js';
import { Person } from './people.entity.js';
import type { Who } from './who.js';

/** Notices by mail that people want or do not. */
@Injectable()
export class NoticesService {
  constructor(
    private readonly db: DataSource,
    private readonly mail: Mail,
  ) {}

  async own({ personId, duties }: Who): Promise<OwnNotices> {
    const { notices } = await this.db.getRepository(Person).findOneByOrFail({ id: personId });
    const theirs = noticesFor(duties);
    return { notices: notices.filter((kind) => theirs.includes(kind)) };
  }

  async change(who: Who, { notices }: OwnNotices): Promise<OwnNotices> {
    await this.db.getRepository(Person).update({ id: who.personId }, { notices });
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
    const whole = `Hello ${person.name},\n\n${text}\n\nWhat you are told of by mail, you choose under your name, Notices.\n`;
    await this.mail.handIn(tx, { to: person.email, subject, text: whole });
  }
}
