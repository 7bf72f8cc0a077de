import { Injectable } from '@nestjs/common';
import { dayIn, morningIsDue, type HealthLine } from '@quay/core';
import { DataSource } from 'typeorm';
import { NoticesService } from '../people/notices.service.js';
import { thoseWhoRunIt } from '../people/people.queries.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { Housekeeping } from '../platform/housekeeping.js';
import { Mail } from '../platform/mail.js';
import { claimMorning, lastMorning, Office } from '../platform/office.js';
import { HealthService } from './health.service.js';

/** Tells those who run the server in the morning what needs a look, so that nobody has to go and see. */
@Injectable()
export class MorningNotice {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly office: Office,
    private readonly events: Events,
    private readonly notices: NoticesService,
    private readonly mail: Mail,
    private readonly health: HealthService,
    housekeeping: Housekeeping,
  ) {
    housekeeping.add('the notice of the morning', () => this.tell());
  }

  async tell(): Promise<void> {
    const { zone } = await this.office.settings();
    const now = this.clock.now();
    if (!morningIsDue(now, zone, await lastMorning(this.db.manager))) return;
    const { lines } = await this.health.look();
    const open = lines.filter((line) => line.mark === 'warn' || line.mark === 'fail');
    await this.events.change(async (tx) => {
      // By one server process, once a day.
      if (!(await claimMorning(tx, dayIn(zone, now))) || open.length === 0) return;
      for (const { id } of await thoseWhoRunIt(tx)) await this.notices.give(tx, 'server', id, noticeOf(open));
    });
    this.mail.hurry();
  }
}

function noticeOf(lines: readonly HealthLine[]): { subject: string; text: string } {
  const told = lines.map(({ words, remedy }) => `- ${words}${remedy ? `\n  ${remedy}` : ''}`);
  return {
    subject: lines.length === 1 ? 'One thing on the server needs a look' : `${lines.length} things need a look`,
    text: `this needs a look on the server:\n\n${told.join('\n')}\n\nIt stands in Settings, Health, as it is when you look.`,
  };
}
