import { Inject, Injectable } from '@nestjs/common';
import { addressText, countOf, STATE_WORDS, tokenFromBytes, TOKEN_BYTES } from '@quay/core';
import type { CalendarLink } from '@quay/contract';
import ical from 'ical-generator';
import { randomBytes } from 'node:crypto';
import { DataSource } from 'typeorm';
import type { Who } from '../people/who.js';
import { Attempts } from '../platform/attempts.js';
import { sourceOf } from '../platform/client-address.js';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Office } from '../platform/office.js';
import { notFound } from '../platform/problems/problem.js';
import { seal, secretHash, unseal } from '../platform/seal.js';
import { calendarOf, dropCalendar, ownerOfCalendar, setCalendar, sharesInCalendar } from './calendar.queries.js';
import { sharesById, stateOf } from './shares.queries.js';

/** Lookups of addresses that are none, from one source in a minute. */
const UNKNOWN_PER_MINUTE = 60;
const BACK_MS = 60 * 86_400_000;
const MOST_EVENTS = 1000;
/** How often a calendar program is asked to look, in seconds (common practice, no source). */
const LOOK_EVERY_SECONDS = 3600;

/** The windows of somebody's shares as a calendar (RFC 5545), at an address that only they know. */
@Injectable()
export class CalendarService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly office: Office,
    private readonly attempts: Attempts,
    @Inject(CONFIG) private readonly config: Config,
  ) {}

  async link({ personId }: Who): Promise<CalendarLink> {
    const sealed = await calendarOf(this.db.manager, personId);
    return { path: sealed === null ? null : `/calendar/${unseal(this.config.sealingKey, sealed)}.ics` };
  }

  /** A new address; whoever has the one before finds nothing there any more. */
  async renew(who: Who): Promise<CalendarLink> {
    const token = tokenFromBytes(randomBytes(TOKEN_BYTES));
    await setCalendar(this.db.manager, who.personId, {
      ...{ tokenHash: secretHash(token), tokenSealed: seal(this.config.sealingKey, token), at: this.clock.date() },
    });
    return this.link(who);
  }

  async end(who: Who): Promise<CalendarLink> {
    await dropCalendar(this.db.manager, who.personId);
    return { path: null };
  }

  /** The calendar itself. @throws Problem not-found; the same for malformed, unknown and void addresses */
  async events(token: string, fromAddress: string): Promise<string> {
    const now = this.clock.date();
    const personId = await ownerOfCalendar(this.db.manager, secretHash(token.replace(/\.ics$/, '')), now);
    if (personId === null) {
      await this.attempts.take(`unknown calendar from ${sourceOf(fromAddress)}`, UNKNOWN_PER_MINUTE);
      throw notFound('This calendar');
    }
    const { name } = await this.office.toVisitors();
    const calendar = ical({
      name: `Shares, ${name}`,
      prodId: { company: 'Lockfast Quay', product: 'Windows of shares', language: 'EN' },
      ttl: LOOK_EVERY_SECONDS,
    });
    const since = new Date(now.getTime() - BACK_MS);
    const ids = await sharesInCalendar(this.db.manager, personId, since, MOST_EVENTS);
    for (const share of await sharesById(this.db.manager, now, ids)) {
      const address = addressText(share.address);
      calendar.createEvent({
        id: `${share.id}@${share.address.host}`,
        stamp: now,
        start: share.opensAt ?? share.createdAt,
        // Without an end it is a moment: when it began.
        ...(share.closesAt && { end: share.closesAt }),
        summary: share.title,
        description: `${STATE_WORDS[stateOf(share, now.getTime())]}, ${countOf(share.visitsUsed, 'visit')}`,
        url: `${address}/shares/${share.id}`,
      });
    }
    return calendar.toString();
  }
}
