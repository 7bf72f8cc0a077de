import { Injectable } from '@nestjs/common';
import { factorIsWanted, mayBeSignedIn, securityChangeWords, type SecurityEffects } from '@quay/core';
import type { SecuritySettings, WouldDo } from '@quay/contract';
import { DataSource, type EntityManager } from 'typeorm';
import { LedgerService } from '../ledger/ledger.service.js';
import {
  endSessions,
  peopleWithoutFactor,
  sessionsBegun,
  sessionsLast,
  sessionsUnusedSince,
  type BegunSession,
} from '../people/people.queries.js';
import { FactorService } from '../people/factor.service.js';
import type { Who } from '../people/who.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { changeSecurity, Office } from '../platform/office.js';
import { OwnNetwork } from '../platform/own-network.js';
import { invalidField } from '../platform/problems/problem.js';
import { actorOf } from '../stores/names.js';

const DAY_MS = 86_400_000;

/** What is asked of those who sign in. */
@Injectable()
export class SecurityService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly office: Office,
    private readonly events: Events,
    private readonly ledger: LedgerService,
    private readonly factor: FactorService,
    private readonly network: OwnNetwork,
  ) {}

  settings(): Promise<SecuritySettings> {
    return this.office.security();
  }

  /** What a change would do, told before it is made. */
  async wouldDo(asked: SecuritySettings): Promise<WouldDo> {
    const before = await this.office.security();
    const { effects } = await this.touched(this.db.manager, asked);
    return { words: securityChangeWords(before, asked, effects) };
  }

  /**
   * Sessions that were last used too long ago, or begun where nobody may be signed in now, end at once.
   * @throws Problem security.locks-you-out: whoever changes it stands outside
   */
  async change(who: Who, asked: SecuritySettings, fromAddress: string): Promise<SecuritySettings> {
    await this.events.change(async (tx) => {
      await this.requireStaysIn(tx, who, asked, fromAddress);
      const { effects, outside } = await this.touched(tx, asked);
      const before = await changeSecurity(tx, asked, this.clock.date());
      const what = securityChangeWords(before, asked, effects);
      if (what.length === 0) return;
      const unused = await sessionsLast(tx, asked.sessionDays, this.clock.date());
      await endSessions(
        tx,
        outside.map((s) => s.id),
      );
      // Everybody asks anew who they are: more may be wanted of them now.
      const ended = [...unused, ...outside.map((s) => s.personId), 'office'];
      await this.events.tell(tx, ...[...new Set(ended)].map((id) => ({ topic: 'session' as const, id })));
      await this.ledger.append(tx, { kind: 'office.security', actor: actorOf(who), detail: { what: what.join(' ') } });
    });
    return asked;
  }

  private async touched(
    m: EntityManager,
    asked: SecuritySettings,
  ): Promise<{ effects: SecurityEffects; outside: BegunSession[] }> {
    const now = this.clock.date();
    const unused = await sessionsUnusedSince(m, new Date(now.getTime() - asked.sessionDays * DAY_MS));
    const outside = (await sessionsBegun(m, now)).filter(
      ({ fromAddress, factor }) =>
        !mayBeSignedIn(asked.signInOutside, { outside: this.network.isOutside(fromAddress), factor }),
    );
    const lacking = (await peopleWithoutFactor(m)).filter(({ role }) => factorIsWanted(asked.factorWanted, role));
    const people = new Set(outside.map((s) => s.personId)).size;
    return { effects: { unused, outside: { sessions: outside.length, people }, lacking: lacking.length }, outside };
  }

  private async requireStaysIn(tx: EntityManager, who: Who, asked: SecuritySettings, from: string): Promise<void> {
    const factor = await this.factor.isOn(tx, who.personId);
    if (mayBeSignedIn(asked.signInOutside, { outside: this.network.isOutside(from), factor })) return;
    const words = 'You are outside yourself, and would be signed out by it. Change it in the office.';
    throw invalidField('signInOutside', 'security.locks-you-out', words);
  }
}
