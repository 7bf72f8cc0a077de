import { Inject, Injectable } from '@nestjs/common';
import { officeChangeWords, passwordStays } from '@quay/core';
import {
  LOGO_MOST,
  type About,
  type LogoPicture,
  type MailServer,
  type MailSettings,
  type MailTrial,
  type MailTrialAnswer,
  type OfficeSettings,
} from '@quay/contract';
import { createHash } from 'node:crypto';
import { DataSource, type EntityManager } from 'typeorm';
import { LedgerService } from '../ledger/ledger.service.js';
import type { Who } from '../people/who.js';
import { Attempts } from '../platform/attempts.js';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Events } from '../platform/events/events.js';
import { forgetMailServer, keepMailServer, loadMailServer, tryMail } from '../platform/mail-server.js';
import { changeLogo, changeOffice, Office, type Logo } from '../platform/office.js';
import { invalidField, Problem } from '../platform/problems/problem.js';
import { actorOf } from '../stores/names.js';
import { about } from './about.js';
import { readPng, type Png } from './png.js';

/** Test messages a minute. */
const TRIALS = 6;

/** What whoever runs the server decides about the office. */
@Injectable()
export class SettingsService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly office: Office,
    private readonly events: Events,
    private readonly ledger: LedgerService,
    private readonly attempts: Attempts,
    @Inject(CONFIG) private readonly config: Config,
  ) {}

  officeSettings(): Promise<OfficeSettings> {
    return this.office.settings();
  }

  async changeOffice(who: Who, asked: OfficeSettings): Promise<OfficeSettings> {
    await this.events.change(async (tx) => {
      const before = await changeOffice(tx, asked);
      const what = officeChangeWords(before, asked, this.clock.now());
      if (what.length === 0) return;
      // Everybody's pages say it at once.
      await this.events.tell(tx, { topic: 'session', id: 'office' });
      await this.ledger.append(tx, {
        kind: 'office.changed',
        actor: actorOf(who),
        detail: { what: what.join(' '), name: asked.name, zone: asked.zone, homes: asked.homes, words: asked.words },
      });
    });
    return asked;
  }

  async logo(): Promise<LogoPicture> {
    return { png: (await this.office.logo())?.png.toString('base64') ?? null };
  }

  /** @param png base64. @throws Problem logo.unreadable */
  async changeLogo(who: Who, png: string): Promise<LogoPicture> {
    const { bytes } = this.readLogo(Buffer.from(png, 'base64'));
    await this.putLogo(who, { png: bytes, version: createHash('sha256').update(bytes).digest('hex').slice(0, 16) });
    return this.logo();
  }

  async withoutLogo(who: Who): Promise<LogoPicture> {
    await this.putLogo(who, null);
    return { png: null };
  }

  private async putLogo(who: Who, logo: Logo | null): Promise<void> {
    await this.events.change(async (tx) => {
      const had = await changeLogo(tx, logo);
      if (!had && !logo) return;
      await this.events.tell(tx, { topic: 'session', id: 'office' });
      const kind = logo ? 'office.logo' : 'office.logo-none';
      await this.ledger.append(tx, { kind, actor: actorOf(who), detail: {} });
    });
  }

  private readLogo(file: Buffer): Png {
    try {
      return readPng(file, LOGO_MOST);
    } catch (error) {
      const why = `That picture cannot be used: ${(error as Error).message}.`;
      throw invalidField('png', 'logo.unreadable', why);
    }
  }

  about(): Promise<About> {
    return about(this.db.manager);
  }

  async mail(): Promise<MailSettings> {
    const kept = await loadMailServer(this.db.manager, this.config.sealingKey);
    if (!kept) return { server: null, hasPassword: false, fixed: Boolean(this.config.smtpUrl) };
    const { password, ...server } = kept;
    return { server, hasPassword: password !== undefined, fixed: Boolean(this.config.smtpUrl) };
  }

  async changeMail(who: Who, asked: MailServer): Promise<MailSettings> {
    this.requireFree();
    await this.events.change(async (tx) => {
      const password = asked.password ?? (await this.keptPassword(tx, asked));
      await keepMailServer(tx, this.config.sealingKey, { ...asked, password }, this.clock.date());
      await this.ledger.append(tx, {
        kind: 'office.mail',
        actor: actorOf(who),
        detail: { host: asked.host, port: asked.port, sender: asked.sender },
      });
    });
    return this.mail();
  }

  async withoutMail(who: Who): Promise<MailSettings> {
    this.requireFree();
    await this.events.change(async (tx) => {
      if (await forgetMailServer(tx))
        await this.ledger.append(tx, { kind: 'office.mail-none', actor: actorOf(who), detail: {} });
    });
    return this.mail();
  }

  async tryMail(who: Who, { to, ...server }: MailTrial): Promise<MailTrialAnswer> {
    await this.attempts.take(`mail trial of ${who.personId}`, TRIALS);
    const password = server.password ?? (await this.keptPassword(this.db.manager, server));
    return tryMail({ ...server, password }, to, (await this.office.settings()).name);
  }

  private requireFree(): void {
    if (this.config.smtpUrl)
      throw new Problem('conflict', 'mail.fixed', 'The configuration of the server names the mail server.');
  }

  /** The password that is kept, for the door that it was typed for. */
  private async keptPassword(m: EntityManager, server: MailServer): Promise<string | undefined> {
    const kept = await loadMailServer(m, this.config.sealingKey);
    return kept && passwordStays(kept, server) ? kept.password : undefined;
  }
}
