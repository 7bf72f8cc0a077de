import { Inject, Injectable } from '@nestjs/common';
import type { MailReturnsAsked, MailReturnsSettings } from '@quay/contract';
import { SYSTEM_ACTOR } from '@quay/core';
import { DataSource, type EntityManager } from 'typeorm';
import { LedgerService } from '../ledger/ledger.service.js';
import { requireDuty } from '../people/duties.js';
import { NoticesService } from '../people/notices.service.js';
import type { Who } from '../people/who.js';
import { Attempts } from '../platform/attempts.js';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Events } from '../platform/events/events.js';
import { Jobs } from '../platform/jobs/jobs.service.js';
import { Mail, type Lost } from '../platform/mail.js';
import { invalidField, Problem } from '../platform/problems/problem.js';
import { actorOf } from '../stores/names.js';
import { handOverOfMail } from './hand-over.queries.js';
import {
  forgetMailbox,
  keepMailbox,
  loadMailbox,
  noteLook,
  noteRead,
  shownMailbox,
  type Mailbox,
} from './mail-returns.queries.js';
import { readReturns, tryMailbox } from './mailbox.js';

const EVERY_MINUTE = '* * * * *';
/** Looks into a mailbox that somebody may ask for in a minute. */
const TRIALS = 5;
/** Goes in one look; the rest is read in the next minute. */
const MOST_GOES = 10;

/** Mail that was taken and came back: read from the mailbox that the admin has named, and told to whoever sent it. */
@Injectable()
export class MailReturnsService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly attempts: Attempts,
    private readonly events: Events,
    private readonly ledger: LedgerService,
    private readonly mail: Mail,
    private readonly notices: NoticesService,
    @Inject(CONFIG) private readonly config: Config,
    jobs: Jobs,
  ) {
    jobs.define(
      'mail-returns',
      () => 'Look for mail that came back',
      () => this.look(),
    );
    jobs.regularly('mail-returns', EVERY_MINUTE);
    mail.onLost((tx, lost) => this.tell(tx, lost));
  }

  async settings(): Promise<MailReturnsSettings> {
    const shown = await shownMailbox(this.db.manager);
    if (!shown) return { mailbox: null, lookedAt: null, fault: null };
    const { lookedAt, fault, ...mailbox } = shown;
    return { mailbox, lookedAt: lookedAt?.toISOString() ?? null, fault };
  }

  /** Keeps a mailbox that can be opened. @throws Problem returns.password, returns.closed */
  async change(who: Who, asked: MailReturnsAsked): Promise<MailReturnsSettings> {
    requireDuty(who, 'run-server');
    await this.attempts.take(`mailbox trial of ${who.personId}`, TRIALS);
    const mailbox = await this.meant(this.db.manager, asked);
    await tryMailbox(mailbox).catch((error: unknown) => {
      throw new Problem('conflict', 'returns.closed', `That mailbox does not open: ${wordsOf(error)}`);
    });
    await this.events.change(async (tx) => {
      await keepMailbox(tx, this.config.sealingKey, mailbox, this.clock.date());
      await this.ledger.append(tx, {
        ...{ kind: 'office.mail-returns', actor: actorOf(who), detail: { host: mailbox.host } },
      });
    });
    await this.look();
    return this.settings();
  }

  async without(who: Who): Promise<MailReturnsSettings> {
    requireDuty(who, 'run-server');
    await this.events.change(async (tx) => {
      if (await forgetMailbox(tx))
        await this.ledger.append(tx, { kind: 'office.mail-returns-none', actor: actorOf(who), detail: {} });
    });
    return this.settings();
  }

  /** Reads what came since it was looked into last. */
  async look(): Promise<void> {
    const m = this.db.manager;
    for (let go = 0, more = true; more && go < MOST_GOES; go += 1) {
      const mailbox = await loadMailbox(m, this.config.sealingKey);
      if (!mailbox) return;
      try {
        const found = await readReturns(mailbox);
        for (const { mailId, words } of found.returned)
          await this.events.change((tx) => this.mail.returned(tx, mailId, words).then(() => undefined));
        await noteRead(m, { ...mailbox, uidValidity: found.uidValidity, lastUid: found.lastUid });
        await noteLook(m, mailbox.changedAt, this.clock.date(), null);
        more = found.more;
      } catch (error) {
        await noteLook(m, mailbox.changedAt, this.clock.date(), wordsOf(error));
        return;
      }
    }
  }

  /** A mail of a hand-over that did not arrive goes to its share, to the ledger and to whoever sent it. */
  private async tell(tx: EntityManager, { mailId, words }: Lost): Promise<void> {
    const handOver = await handOverOfMail(tx, mailId);
    if (!handOver) return;
    const { shareId, byId, recipient, title } = handOver;
    await this.events.tell(tx, { topic: 'share', id: shareId });
    await this.notices.give(tx, 'mail-returned', byId, {
      subject: `What you sent to ${recipient} did not arrive`,
      text: `${recipient} did not get ${title}.\n${words}\n\nCorrect the address, and send it again from the share.`,
    });
    await this.ledger.append(tx, {
      ...{ kind: 'share.hand-over-returned', actor: SYSTEM_ACTOR, shareId, detail: { title, to: recipient } },
    });
  }

  /** A password that is left out is the one that is kept, while the mailbox is at the same place. */
  private async meant(m: EntityManager, { password, ...asked }: MailReturnsAsked): Promise<Mailbox> {
    const kept = await loadMailbox(m, this.config.sealingKey);
    const isSame = kept !== null && kept.host === asked.host && kept.port === asked.port && kept.user === asked.user;
    const secret = password ?? (isSame ? kept.password : undefined);
    if (secret === undefined) throw invalidField('password', 'returns.password', 'A mailbox has a password.');
    return { ...asked, password: secret, uidValidity: null, lastUid: 0, changedAt: this.clock.date() };
  }
}

/** The server's own words where there are some. */
function wordsOf(error: unknown): string {
  const { responseText, message, authenticationFailed, code } = error as {
    responseText?: string;
    message: string;
    authenticationFailed?: boolean;
    code?: string;
  };
  if (authenticationFailed) return 'it does not accept that name and password.';
  if (code === 'ECONNREFUSED') return 'nothing answers there. Other ports are 993 (TLS) and 143 (STARTTLS).';
  if (code === 'ENOTFOUND') return 'there is no machine of that name.';
  return (responseText ?? message).replace(/[\p{C}\s]+/gu, ' ').slice(0, 300);
}
