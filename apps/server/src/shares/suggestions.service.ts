import { Injectable } from '@nestjs/common';
import type { KnownRecipient } from '@quay/contract';
import { listedText } from '@quay/core';
import { canonicalAddress } from '@quay/core/recipients';
import { DataSource } from 'typeorm';
import type { Who } from '../people/who.js';
import { Clock } from '../platform/clock.js';
import { earlierRecipients, peopleWithAddress } from './audience.queries.js';

/** What is suggested at the most, of each source. */
const MOST_KNOWN = 300;

/** Whom somebody may mean when they make a list. */
@Injectable()
export class SuggestionsService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
  ) {}

  /**
   * To whom their shares went, the last first, then people with an account. Guests are told of no people: they know
   * nobody but who shared with them.
   */
  async known(who: Who): Promise<KnownRecipient[]> {
    const m = this.db.manager;
    const [earlier, people] = await Promise.all([
      earlierRecipients(m, who.personId, MOST_KNOWN),
      who.role === 'guest' ? [] : peopleWithAddress(m, who.personId, this.clock.date(), MOST_KNOWN),
    ]);
    const names = new Map(people.map((p) => [canonicalAddress(p.email), p.name]));
    const known = new Map<string, KnownRecipient>();
    for (const { at, ...entry } of earlier) {
      const text = listedText(entry);
      known.set(text, { entry: text, name: names.get(text) ?? null, lastAt: at.toISOString() });
    }
    for (const [entry, name] of names) if (entry && !known.has(entry)) known.set(entry, { entry, name, lastAt: null });
    return [...known.values()];
  }
}
