import { Inject, Injectable } from '@nestjs/common';
import type { TextGatewayAsked, TextGatewaySettings, TextTrial, TextTrialAnswer } from '@quay/contract';
import { gatewayFault } from '@quay/core';
import { canonicalNumber } from '@quay/core/recipients';
import { DataSource, type EntityManager } from 'typeorm';
import { LedgerService } from '../ledger/ledger.service.js';
import { requireDuty } from '../people/duties.js';
import type { Who } from '../people/who.js';
import { Attempts } from '../platform/attempts.js';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Events } from '../platform/events/events.js';
import { Office } from '../platform/office.js';
import { invalidField } from '../platform/problems/problem.js';
import { forgetTextGateway, keepTextGateway, loadTextGateway, type KeptGateway } from '../platform/text-gateway.js';
import { askGateway } from '../platform/text-messages.js';
import { actorOf } from '../stores/names.js';

/** Test messages that somebody may have sent in a minute: each costs the office. */
const TRIALS = 5;

/** The gateway through which codes go out as text messages. */
@Injectable()
export class TextGatewayService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly events: Events,
    private readonly ledger: LedgerService,
    private readonly attempts: Attempts,
    private readonly office: Office,
    @Inject(CONFIG) private readonly config: Config,
  ) {}

  async settings(): Promise<TextGatewaySettings> {
    const kept = await loadTextGateway(this.db.manager, this.config.sealingKey);
    return { gateway: kept?.gateway ?? null, hasSecret: Boolean(kept?.secret) };
  }

  /** @throws Problem gateway.* */
  async change(who: Who, asked: TextGatewayAsked): Promise<TextGatewaySettings> {
    requireDuty(who, 'run-server');
    await this.events.change(async (tx) => {
      const kept = await this.meant(tx, asked);
      await keepTextGateway(tx, this.config.sealingKey, kept, this.clock.date());
      const { host } = new URL(kept.gateway.url);
      await this.ledger.append(tx, { kind: 'office.texts', actor: actorOf(who), detail: { host } });
    });
    return this.settings();
  }

  async without(who: Who): Promise<TextGatewaySettings> {
    requireDuty(who, 'run-server');
    await this.events.change(async (tx) => {
      if (await forgetTextGateway(tx))
        await this.ledger.append(tx, { kind: 'office.texts-none', actor: actorOf(who), detail: {} });
    });
    return this.settings();
  }

  /** Sends a real message by what is asked, kept or not. */
  async trial(who: Who, { to, ...asked }: TextTrial): Promise<TextTrialAnswer> {
    await this.attempts.take(`text trial of ${who.personId}`, TRIALS);
    const number = canonicalNumber(to);
    if (number === null) throw invalidField('to', 'recipient.number', NO_NUMBER_WORDS);
    const { name } = await this.office.settings();
    const text = `A test message of Lockfast Quay at ${name}: text messages arrive here.`;
    const { status, words } = await askGateway(await this.meant(this.db.manager, asked), { to: number, text });
    return { sent: status !== null && status >= 200 && status < 300, words };
  }

  /** A secret that is left out is the one that is kept, while messages go to the same place. */
  private async meant(m: EntityManager, { secret, ...gateway }: TextGatewayAsked): Promise<KeptGateway> {
    const fault = gatewayFault(gateway);
    if (fault) throw invalidField(fault.field, `gateway.${fault.field}`, fault.words);
    const kept = await loadTextGateway(m, this.config.sealingKey);
    const isSame = kept !== null && new URL(kept.gateway.url).origin === new URL(gateway.url).origin;
    return { gateway, secret: secret ?? (isSame ? kept.secret : '') };
  }
}

const NO_NUMBER_WORDS = 'That is no telephone number. Write it with + and its country, as +44 7700 900123.';
