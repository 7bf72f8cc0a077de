import { Inject, Injectable } from '@nestjs/common';
import type { KeepProvider, Provider, ProviderSettings, ProviderTrial } from '@quay/contract';
import { DataSource, type EntityManager } from 'typeorm';
import { LedgerService } from '../ledger/ledger.service.js';
import { requireAdmin } from '../people/duties.js';
import type { Who } from '../people/who.js';
import { Attempts } from '../platform/attempts.js';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Events } from '../platform/events/events.js';
import { invalidField } from '../platform/problems/problem.js';
import { discovered, ProviderAway } from './asked.js';
import { countIdentities, forgetProvider, keepProvider, loadProvider, type ProviderWay } from './provider.queries.js';

const TRIALS = 20;

/** How the office's identity provider is asked. */
@Injectable()
export class ProviderService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly events: Events,
    private readonly ledger: LedgerService,
    private readonly attempts: Attempts,
    @Inject(CONFIG) private readonly config: Config,
  ) {}

  way(m: EntityManager = this.db.manager): Promise<ProviderWay | null> {
    return loadProvider(m, this.config.sealingKey);
  }

  async state(): Promise<Provider> {
    const [way, people] = await Promise.all([this.way(), countIdentities(this.db.manager)]);
    return { settings: way && settingsOf(way), callback: way && callbackOf(way), people };
  }

  async try(who: Who, asked: KeepProvider): Promise<ProviderTrial> {
    requireAdmin(who);
    await this.attempts.take(`provider trial of ${who.personId}`, TRIALS);
    const way = await this.withSecret(this.db.manager, asked);
    try {
      const { issuer, code_challenge_methods_supported: methods } = (await discovered(way)).serverMetadata();
      const pkce = methods === undefined || methods.includes('S256') ? '' : ' It does not say that it knows PKCE.';
      return { works: true, words: `${issuer} answers. Tell it to send people back to ${callbackOf(way)}.${pkce}` };
    } catch (error) {
      const { message } = error as Error;
      if (error instanceof ProviderAway) return { works: false, words: `${way.issuer} does not answer: ${message}.` };
      return { works: false, words: `${way.issuer} is no identity provider, or calls itself otherwise: ${message}.` };
    }
  }

  async keep(who: Who, asked: KeepProvider): Promise<Provider> {
    requireAdmin(who);
    if (asked.makesAccounts && asked.domains.length === 0)
      throw invalidField('domains', 'provider.no-domain', 'Say at which domains people get an account.');
    await this.events.change(async (tx) => {
      const before = await this.way(tx);
      const way = await this.withSecret(tx, asked);
      // Somebody else's subjects are not those of before.
      if (before && before.issuer !== way.issuer) await forgetProvider(tx);
      await keepProvider(tx, this.config.sealingKey, { way, at: this.clock.date() });
      await this.told(tx, who, 'provider.kept', { issuer: way.issuer });
    });
    return this.state();
  }

  async forget(who: Who): Promise<Provider> {
    requireAdmin(who);
    await this.events.change(async (tx) => {
      if (await forgetProvider(tx)) await this.told(tx, who, 'provider.forgotten', {});
    });
    return this.state();
  }

  /** The kept secret goes to nobody but the issuer that it was typed for. */
  private async withSecret(m: EntityManager, { clientSecret, ...settings }: KeepProvider): Promise<ProviderWay> {
    if (clientSecret !== null) return { ...settings, clientSecret };
    const kept = await this.way(m);
    if (kept?.issuer !== settings.issuer || kept.clientId !== settings.clientId)
      throw invalidField('clientSecret', 'provider.secret-again', 'Type the secret for this provider once more.');
    return { ...settings, clientSecret: kept.clientSecret };
  }

  private async told(tx: EntityManager, who: Who, kind: string, detail: Record<string, string>): Promise<void> {
    await this.events.tell(tx, { topic: 'session', id: 'office' });
    await this.ledger.append(tx, { kind, actor: { kind: 'person', id: who.personId, name: who.name }, detail });
  }
}

const settingsOf = ({ clientSecret: _, ...settings }: ProviderWay): ProviderSettings => settings;

/** Where the provider sends people back. */
export const callbackOf = ({ origin }: ProviderSettings): string =>
  `${origin.replace(/\/$/, '')}/api/sign-in/provider/callback`;
