import { Inject, Injectable } from '@nestjs/common';
import {
  HAND_OVERS_PER_HOUR,
  hasLink,
  linkText,
  messageFault,
  messageHtml,
  messageSubject,
  messageText,
  passwordText,
  type HandedOver,
  type MessageValues,
} from '@quay/core';
import { readAddressees, type Addressee } from '@quay/core/recipients';
import type { HandOverByMail, HandOverByText, HandOvers } from '@quay/contract';
import { DataSource, type EntityManager } from 'typeorm';
import { AccessService } from '../access/access.service.js';
import { requireDuty } from '../people/duties.js';
import { mailAddressOf } from '../people/people.queries.js';
import type { Who } from '../people/who.js';
import { Attempts } from '../platform/attempts.js';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Events } from '../platform/events/events.js';
import { Mail, type Enclosure, type Notice } from '../platform/mail.js';
import { Office } from '../platform/office.js';
import { passwordMatches } from '../platform/passwords.js';
import { invalidField, Problem } from '../platform/problems/problem.js';
import { TextMessages } from '../platform/text-messages.js';
import { holdOne, itemsOf, stateOf, type ShareRecord } from '../shares/shares.queries.js';
import { SharesService } from '../shares/shares.service.js';
import { Attaching, requireUnguarded } from './attaching.js';
import { sendingOf, sentSince } from './hand-over.queries.js';
import { HandOverService } from './hand-over.service.js';
import { messageValues } from './told.js';

const HOUR_MS = 3_600_000;
/** Passwords that somebody may have sent in a minute. */
const PASSWORD_TRIES = 10;

/** What is known of a sending before the share is held. */
interface Ready {
  to: Addressee[];
  own: string | null;
  office: string;
  zone: string;
  items: { name: string }[];
  files: Enclosure[];
}

/** Link, files and password go out by the office's own mail server and gateway. */
@Injectable()
export class SendingService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly access: AccessService,
    private readonly attaching: Attaching,
    private readonly attempts: Attempts,
    private readonly events: Events,
    private readonly handOvers: HandOverService,
    private readonly mail: Mail,
    private readonly office: Office,
    private readonly shares: SharesService,
    private readonly texts: TextMessages,
    @Inject(CONFIG) private readonly config: Config,
  ) {}

  /**
   * Sends a message about a share by mail, to each by themselves. The same sending that arrives twice is one.
   * @throws Problem message.*, recipient.address, share.over, share.not-withdrawn, mail.none, duty.missing, attach.*,
   * hand-over.*
   */
  async byMail(who: Who, shareId: string, asked: HandOverByMail): Promise<HandOvers> {
    requireDuty(who, 'publish-outside');
    const share = await this.shares.open(who, shareId);
    const fault = messageFault(asked, { about: asked.about });
    if (fault) throw invalidField(fault.field, fault.code, fault.words);
    const to = recipientsFrom(asked.to, 'address');
    this.requireTrue(share, asked.about);
    await this.requireMailServer();
    await this.requireFewEnough(who, to.length);
    await this.access.ensure(who);
    const [items, own, { zone }, { name: office }] = await Promise.all([
      itemsOf(this.db.manager, who.personId, shareId),
      mailAddressOf(this.db.manager, who.personId),
      this.office.settings(),
      this.office.toVisitors(),
    ]);
    const files = asked.about === 'files' ? await this.attaching.filesOf(share, to.length) : [];
    await this.events.change(async (tx) => {
      const held = await this.held(tx, who, shareId, asked.about);
      if (asked.about === 'files') requireUnguarded(held);
      const ready = { to: await this.fresh(tx, shareId, asked.sendingId, to), own, office, zone, items, files };
      if (ready.to.length > 0) await this.mailTo(tx, who, held, asked, ready);
    });
    this.mail.hurry();
    return this.handOvers.of(who, shareId);
  }

  /**
   * Sends link or password as a text message, to each by themselves.
   * @throws Problem recipient.number, share.over, texts.none, password.other, duty.missing, hand-over.*
   */
  async byText(who: Who, shareId: string, asked: HandOverByText): Promise<HandOvers> {
    requireDuty(who, 'publish-outside');
    const share = await this.shares.open(who, shareId);
    const to = recipientsFrom(asked.to, 'number');
    this.requireTrue(share, 'link');
    if (!(await this.texts.canSend(this.db.manager)))
      throw new Problem(
        'conflict',
        'texts.none',
        'There is no gateway for text messages. Whoever runs the server names one under Settings.',
      );
    await this.requireFewEnough(who, to.length, 'text');
    if (asked.what === 'password') await this.requirePassword(who, share, asked.password ?? '');
    const { zone } = await this.office.settings();
    await this.events.change(async (tx) => {
      const held = await this.held(tx, who, shareId, 'link');
      // Another password was set while this one was looked at.
      if (asked.what === 'password' && held.passwordHash !== share.passwordHash) throw otherPassword();
      const people = await this.fresh(tx, shareId, asked.sendingId, to);
      if (people.length === 0) return;
      const values = this.values(who, held, { zone, items: [] });
      const text = asked.what === 'link' ? linkText(values) : passwordText(who.name, asked.password ?? '');
      const way = { what: asked.what, channel: 'text' as const };
      const same = await this.handOvers.requireOtherWay(tx, shareId, {
        ...{ ...way, people, sameWayMeant: asked.sameWayMeant },
      });
      for (const { value, name } of people) {
        const textId = await this.texts.handIn(tx, { to: value, text });
        const sent = { sendingId: asked.sendingId, textId, sameWay: same.has(value) };
        await this.handOvers.keep(tx, who, held, { ...way, recipient: value, name, ...sent });
      }
      await this.handOvers.tell(tx, who, held, { ...way, people, sameWay: same.size > 0 });
    });
    this.texts.hurry();
    return this.handOvers.of(who, shareId);
  }

  private async mailTo(
    tx: EntityManager,
    who: Who,
    share: ShareRecord,
    asked: HandOverByMail,
    { to, own, office, zone, items, files }: Ready,
  ): Promise<void> {
    const what = { link: 'link', files: 'files', withdrawal: 'withdrawal' } as const;
    const given: HandedOver[] = [
      what[asked.about],
      ...(asked.about === 'files' && hasLink(asked) ? ['link' as const] : []),
    ];
    const same = given.includes('link')
      ? await this.handOvers.requireOtherWay(tx, share.id, {
          ...{ what: 'link', channel: 'mail', people: to, sameWayMeant: asked.sameWayMeant },
        })
      : new Set<string>();
    const values = this.values(who, share, { zone, items });
    const message: Omit<Notice, 'to'> = {
      subject: messageSubject(asked, values),
      text: messageText(asked, values),
      html: messageHtml(asked, values, office),
      ...(own && { replyTo: own }),
      senderName: `${who.name}, ${office}`,
      // What somebody shares from their home is not for whoever looks after the mail.
      shownAs: `A link of ${who.name}`,
      enclosed: files.length > 0 ? await this.mail.enclose(tx, files) : null,
    };
    const people = to.map(({ value, name }) => ({ to: value, toName: name }));
    const mailIds = await this.mail.handInAll(tx, message, people);
    const sent = to.map(({ value, name }, i) => {
      const row = { channel: 'mail' as const, recipient: value, name, sendingId: asked.sendingId };
      return { ...row, mailId: mailIds?.[i] ?? null };
    });
    const rows = sent.flatMap((row) =>
      given.map((what) => ({ what, ...row, sameWay: what === 'link' && same.has(row.recipient) })),
    );
    await this.handOvers.keep(tx, who, share, ...rows);
    if (asked.copyToMe && own && !to.some((p) => p.value === own)) await this.mail.handIn(tx, { to: own, ...message });
    for (const each of given)
      await this.handOvers.tell(tx, who, share, { what: each, channel: 'mail', people: to, sameWay: same.size > 0 });
  }

  private values(who: Who, share: ShareRecord, { zone, items }: Pick<Ready, 'zone' | 'items'>): MessageValues {
    const { sealingKey } = this.config;
    return messageValues(share, { now: this.clock.now(), zone, sender: who.name, sealingKey, items });
  }

  /** The share as it is while nobody else changes it, asked for anew. */
  private async held(
    tx: EntityManager,
    who: Who,
    shareId: string,
    about: HandOverByMail['about'],
  ): Promise<ShareRecord> {
    await holdOne(tx, shareId);
    const share = await this.shares.open(who, shareId, tx);
    this.requireTrue(share, about);
    return share;
  }

  /** Those to whom a sending has not gone yet. @throws Problem hand-over.other-sending */
  private async fresh(
    tx: EntityManager,
    shareId: string,
    sendingId: string,
    to: readonly Addressee[],
  ): Promise<Addressee[]> {
    const before = await sendingOf(tx, sendingId);
    if (before && before.shareId !== shareId)
      throw invalidField('sendingId', 'hand-over.other-sending', 'That sending was of another share. Begin anew.');
    return to.filter((person) => !before?.recipients.has(person.value));
  }

  private async requireMailServer(): Promise<void> {
    if (await this.mail.canSend(this.db.manager)) return;
    throw new Problem(
      'conflict',
      'mail.none',
      'There is no mail server that mail could be handed to. Whoever runs the server names one under Settings.',
    );
  }

  /** An account that somebody else got hold of must not flood half the world; and each text message costs the office. */
  private async requireFewEnough(who: Who, more: number, channel: 'mail' | 'text' = 'mail'): Promise<void> {
    const most = HAND_OVERS_PER_HOUR[channel];
    const sent = await sentSince(this.db.manager, who.personId, channel, new Date(this.clock.now() - HOUR_MS));
    if (sent + more <= most) return;
    throw new Problem(
      'too-many',
      'hand-over.too-many',
      `You have sent ${sent} messages within an hour, and ${most} may be. Send the rest later.`,
    );
  }

  /** Nobody finds a password out by trying. @throws Problem password.other, password.none, attempts.too-many */
  private async requirePassword(who: Who, { passwordHash }: ShareRecord, password: string): Promise<void> {
    if (passwordHash === null) throw invalidField('password', 'password.none', 'This share has no password.');
    await this.attempts.take(`passwords told by ${who.personId}`, PASSWORD_TRIES);
    if (!(await passwordMatches(passwordHash, password))) throw otherPassword();
  }

  /** What is told of a share must be so. */
  private requireTrue(share: ShareRecord, about: HandOverByMail['about']): void {
    const state = stateOf(share, this.clock.now());
    if (about === 'withdrawal') {
      if (state === 'withdrawn') return;
      throw new Problem('conflict', 'share.not-withdrawn', 'This share is not withdrawn: its link works.');
    }
    if (['open', 'scheduled'].includes(state)) return;
    throw new Problem(
      'conflict',
      'share.over',
      'Nobody gets in by that link at the moment. Open the share again first.',
    );
  }
}

const otherPassword = () =>
  invalidField('password', 'password.other', 'That is not the password of this share any more. Set a new one.');

const WHAT_WORDS = {
  address: ['recipient.address', 'no mail address'],
  number: ['recipient.number', 'no telephone number. Write it with + and its country, as +44 7700 900123'],
} as const;

/** @throws Problem recipient.address, recipient.number: at the first that is none */
function recipientsFrom(texts: readonly string[], kind: 'address' | 'number'): Addressee[] {
  const [code, words] = WHAT_WORDS[kind];
  const found = new Map<string, Addressee>();
  for (const [i, text] of texts.entries()) {
    const { to, faults } = readAddressees(text, kind);
    const [person] = to;
    if (!person || to.length > 1 || faults.length > 0) throw invalidField(`to.${i}`, code, `"${text}" is ${words}.`);
    if (!found.get(person.value)?.name) found.set(person.value, person);
  }
  return [...found.values()];
}
