import { Inject, Injectable } from '@nestjs/common';
import { nameKey, officeChangeWords, passwordStays, securityChangeWords } from '@quay/core';
import type {
  About,
  MailServer,
  MailSettings,
  MailTrial,
  MailTrialAnswer,
  OfficeSettings,
  SecuritySettings,
  StoreName,
  StoreSettings,
  WouldDo,
} from '@quay/contract';
import { DataSource, type EntityManager } from 'typeorm';
import { lockAccess } from '../access/access-lock.js';
import { insertGrant } from '../access/grants.queries.js';
import { LedgerService } from '../ledger/ledger.service.js';
import { sessionsLast, sessionsUnusedSince } from '../people/people.queries.js';
import type { Who } from '../people/who.js';
import { Attempts } from '../platform/attempts.js';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Events } from '../platform/events/events.js';
import { forgetMailServer, keepMailServer, loadMailServer, tryMail } from '../platform/mail-server.js';
import { changeOffice, changeSecurity, Office } from '../platform/office.js';
import { invalidField, notFound, Problem } from '../platform/problems/problem.js';
import { commonStores, makeStore, renameStore } from '../stores/make-store.js';
import { actorOf } from '../stores/names.js';
import { about } from './about.js';

/** Test messages a minute. */
const TRIALS = 6;
const DAY_MS = 86_400_000;

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
        detail: { what: what.join(' '), name: asked.name, zone: asked.zone, homes: asked.homes },
      });
    });
    return asked;
  }

  about(): Promise<About> {
    return about(this.db.manager);
  }

  security(): Promise<SecuritySettings> {
    return this.office.security();
  }

  /** What a change would do, told before it is made. */
  async securityWouldDo(asked: SecuritySettings): Promise<WouldDo> {
    const [before, ending] = await Promise.all([
      this.office.security(),
      sessionsUnusedSince(this.db.manager, this.lastSeen(asked)),
    ]);
    return { words: securityChangeWords(before, asked, ending) };
  }

  /** Sessions that were last used too long ago end at once; the others end by the new time. */
  async changeSecurity(who: Who, asked: SecuritySettings): Promise<SecuritySettings> {
    await this.events.change(async (tx) => {
      const ending = await sessionsUnusedSince(tx, this.lastSeen(asked));
      const before = await changeSecurity(tx, asked);
      const what = securityChangeWords(before, asked, ending);
      if (what.length === 0) return;
      const ended = await sessionsLast(tx, asked.sessionDays, this.clock.date());
      await this.events.tell(tx, ...ended.map((id) => ({ topic: 'session' as const, id })));
      await this.ledger.append(tx, { kind: 'office.security', actor: actorOf(who), detail: { what: what.join(' ') } });
    });
    return asked;
  }

  private lastSeen({ sessionDays }: SecuritySettings): Date {
    return new Date(this.clock.now() - sessionDays * DAY_MS);
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

  stores(): Promise<StoreSettings[]> {
    return commonStores(this.db.manager);
  }

  /** All staff may edit in a new store: what else is to hold is granted on its folder. */
  async makeStore(who: Who, { name }: StoreName): Promise<StoreSettings[]> {
    await this.events.change(async (tx) => {
      await lockAccess(tx, 'alone');
      await this.requireNameFree(tx, name, null);
      const at = this.clock.date();
      const { storeId, rootId } = await makeStore(tx, { kind: 'common', name, ownerId: null }, at);
      const subject = { kind: 'staff' as const, id: null };
      await insertGrant(tx, { folderId: rootId, subject, level: 'edit', since: at, until: null, by: who.personId });
      await this.events.tell(tx, { topic: 'store', id: storeId }, { topic: 'access', id: 'any' });
      await this.ledger.append(tx, { kind: 'store.made', actor: actorOf(who), nodeId: rootId, detail: { name } });
    });
    return this.stores();
  }

  async renameStore(who: Who, storeId: string, { name }: StoreName): Promise<StoreSettings[]> {
    await this.events.change(async (tx) => {
      await lockAccess(tx, 'alone');
      const store = (await commonStores(tx)).find((s) => s.id === storeId);
      if (!store) throw notFound('This store');
      if (store.name === name) return;
      await this.requireNameFree(tx, name, storeId);
      await renameStore(tx, store, name);
      await this.events.tell(tx, { topic: 'store', id: storeId }, { topic: 'node', id: store.rootId });
      await this.ledger.append(tx, {
        kind: 'store.renamed',
        actor: actorOf(who),
        nodeId: store.rootId,
        detail: { from: store.name, to: name },
      });
    });
    return this.stores();
  }

  private async requireNameFree(tx: EntityManager, name: string, exceptId: string | null): Promise<void> {
    const taken = (await commonStores(tx)).some((s) => s.id !== exceptId && nameKey(s.name) === nameKey(name));
    if (taken) throw invalidField('name', 'store.name-taken', `There is a store called ${name} already.`);
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
