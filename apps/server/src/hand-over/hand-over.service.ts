import { Inject, Injectable } from '@nestjs/common';
import {
  addressText,
  attachAdvice,
  DEFAULT_MESSAGE,
  HAND_OVER_CHANNEL_WORDS,
  HAND_OVERS_PER_HOUR,
  itemLines,
  messageFault,
  messageHtml,
  messageSubject,
  messageText,
  outdatedWords,
  shareLink,
  someNames,
  wentTheSameWay,
  windowWords,
  type MessageValues,
  type ToldFacts,
} from '@quay/core';
import { canonicalAddress } from '@quay/core/recipients';
import type { HandOverByMail, HandOverRow, HandOvers, NoteHandOver } from '@quay/contract';
import { createHash } from 'node:crypto';
import { DataSource, type EntityManager } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';
import { AccessService } from '../access/access.service.js';
import { LedgerService } from '../ledger/ledger.service.js';
import { requireDuty } from '../people/duties.js';
import { mailAddressOf } from '../people/people.queries.js';
import type { Who } from '../people/who.js';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Events } from '../platform/events/events.js';
import { Mail } from '../platform/mail.js';
import { Office } from '../platform/office.js';
import { invalidField, Problem } from '../platform/problems/problem.js';
import { unseal } from '../platform/seal.js';
import { factsOf, holdOne, itemsOf, stateOf, type ShareRecord } from '../shares/shares.queries.js';
import { SharesService } from '../shares/shares.service.js';
import { actorOf } from '../stores/names.js';
import { handOversOf, keepHandOver, recipientsOf, sentSince } from './hand-over.queries.js';

const HOUR_MS = 3_600_000;
/** Rows that a sheet shows, the last. */
const MOST_SHOWN = 300;

/** How link and password of a share reach those whom they are for, and what became of that. */
@Injectable()
export class HandOverService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly access: AccessService,
    private readonly events: Events,
    private readonly ledger: LedgerService,
    private readonly mail: Mail,
    private readonly office: Office,
    private readonly shares: SharesService,
    @Inject(CONFIG) private readonly config: Config,
  ) {}

  /** @throws Problem not-found, home.closed, share.beyond */
  async of(who: Who, shareId: string): Promise<HandOvers> {
    const share = await this.shares.open(who, shareId);
    await this.access.ensure(who);
    const items = await itemsOf(this.db.manager, who.personId, shareId);
    return {
      canMail: await this.mail.canSend(this.db.manager),
      template: DEFAULT_MESSAGE,
      values: await this.valuesOf(who, share, items),
      attach: attachAdvice({
        sizes: items.every((i) => i.kind === 'file') ? items.map((i) => i.sizeBytes ?? 0) : [],
        ...{ recipients: 1, limitBytes: null, uploadMbit: null },
      }),
      rows: await this.rows(share),
    };
  }

  /**
   * Sends the link by mail, to each by themselves. The same sending that arrives twice is one.
   * @throws Problem message.*, recipient.address, share.over, mail.none, duty.missing
   */
  async byMail(who: Who, shareId: string, asked: HandOverByMail): Promise<HandOvers> {
    requireDuty(who, 'publish-outside');
    const share = await this.shares.open(who, shareId);
    const fault = messageFault(asked);
    if (fault) throw invalidField(fault.field, fault.code, fault.words);
    const to = recipientsFrom(asked.to);
    this.requireOpenSoon(share);
    if (!(await this.mail.canSend(this.db.manager)))
      throw new Problem(
        'conflict',
        'mail.none',
        'There is no mail server that mail could be handed to. Whoever runs the server names one under Settings.',
      );
    await this.requireFewEnough(who, to.length);
    await this.access.ensure(who);
    const items = await itemsOf(this.db.manager, who.personId, shareId);
    const values = await this.valuesOf(who, share, items);
    const own = await mailAddressOf(this.db.manager, who.personId);
    const { name: office } = await this.office.toVisitors();
    const message = {
      subject: messageSubject(asked, values),
      text: messageText(asked, values),
      html: messageHtml(asked, values, office),
      ...(own && { replyTo: own }),
      senderName: `${who.name}, ${office}`,
      // What somebody shares from their home is not for whoever looks after the mail.
      shownAs: `A link of ${who.name}`,
    };
    await this.events.change(async (tx) => {
      await holdOne(tx, share.id);
      const sent = await recipientsOf(tx, asked.sendingId);
      const fresh = to.filter((address) => !sent.has(address));
      if (fresh.length === 0) return;
      for (const address of fresh) {
        const mailId = await this.mail.handIn(tx, { to: address, ...message });
        await this.keep(tx, who, share, { what: 'link', channel: 'mail', recipient: address }, { ...asked, mailId });
      }
      if (asked.copyToMe && own && !fresh.includes(own)) await this.mail.handIn(tx, { to: own, ...message });
      await this.events.tell(tx, { topic: 'share', id: share.id });
      await this.ledger.append(tx, {
        kind: 'share.handed-over',
        actor: actorOf(who),
        shareId: share.id,
        detail: { title: share.title, what: 'link', how: HAND_OVER_CHANNEL_WORDS.mail, to: someNames(fresh) },
      });
    });
    this.mail.hurry();
    return this.of(who, shareId);
  }

  /** Writes down what somebody did by themselves. @throws Problem hand-over.same-way */
  async note(who: Who, shareId: string, { what, channel, recipient, sameWayMeant }: NoteHandOver): Promise<HandOvers> {
    const share = await this.shares.open(who, shareId);
    const next = { what, channel, recipient: canonicalAddress(recipient) ?? recipient };
    await this.events.change(async (tx) => {
      await holdOne(tx, share.id);
      const before = await handOversOf(tx, share.id, MOST_SHOWN);
      const isSameWay = wentTheSameWay(before, next);
      if (isSameWay && !sameWayMeant)
        throw invalidField(
          'channel',
          'hand-over.same-way',
          `Link and password would both reach ${next.recipient} ${HAND_OVER_CHANNEL_WORDS[channel]}: whoever reads one reads the other. Take another way, or say that you mean it.`,
        );
      await this.keep(tx, who, share, next, null);
      await this.events.tell(tx, { topic: 'share', id: share.id });
      await this.ledger.append(tx, {
        kind: isSameWay ? 'share.handed-over-same-way' : 'share.handed-over',
        actor: actorOf(who),
        shareId: share.id,
        detail: {
          ...{ title: share.title, what, how: HAND_OVER_CHANNEL_WORDS[channel] },
          to: next.recipient || 'nobody in particular',
        },
      });
    });
    return this.of(who, shareId);
  }

  private async keep(
    tx: EntityManager,
    who: Who,
    share: ShareRecord,
    done: Pick<HandOverRow, 'what' | 'channel' | 'recipient'>,
    by: { sendingId: string; mailId: string | null } | null,
  ): Promise<void> {
    await keepHandOver(tx, {
      ...done,
      ...{ id: uuidv7(), shareId: share.id, sendingId: by?.sendingId ?? null, mailId: by?.mailId ?? null },
      ...{ byId: who.personId, at: this.clock.date(), told: toldOf(share) },
    });
  }

  private async rows(share: ShareRecord): Promise<HandOverRow[]> {
    const { zone } = await this.office.settings();
    const is = toldOf(share);
    return (await handOversOf(this.db.manager, share.id, MOST_SHOWN)).map(({ told, at, ...row }) => ({
      ...row,
      at: at.toISOString(),
      outdated: outdatedWords(row.what, told, is, this.clock.now(), zone),
    }));
  }

  private async valuesOf(who: Who, share: ShareRecord, items: readonly { name: string }[]): Promise<MessageValues> {
    const { zone } = await this.office.settings();
    return {
      ...windowWords(factsOf(share).window, this.clock.now(), zone),
      link: shareLink(share.address, unseal(this.config.sealingKey, share.tokenSealed)),
      ...{ title: share.title, sender: who.name, items: itemLines(items.map((i) => i.name)) },
      'password-note': share.passwordHash === null ? '' : 'The password comes to you by another way.',
    };
  }

  /** An account that somebody else got hold of must not flood half the world. */
  private async requireFewEnough(who: Who, more: number): Promise<void> {
    const sent = await sentSince(this.db.manager, who.personId, new Date(this.clock.now() - HOUR_MS));
    if (sent + more <= HAND_OVERS_PER_HOUR) return;
    throw new Problem(
      'too-many',
      'hand-over.too-many',
      `You have sent ${sent} messages within an hour, and ${HAND_OVERS_PER_HOUR} may be. Send the rest later.`,
    );
  }

  private requireOpenSoon(share: ShareRecord): void {
    if (['open', 'scheduled'].includes(stateOf(share, this.clock.now()))) return;
    throw new Problem(
      'conflict',
      'share.over',
      'Nobody gets in by that link at the moment. Open the share again first.',
    );
  }
}

/** @throws Problem recipient.address: at the first that is none */
function recipientsFrom(texts: readonly string[]): string[] {
  const found = texts.map((text, i) => {
    const address = canonicalAddress(text);
    if (address === null) throw invalidField(`to.${i}`, 'recipient.address', `"${text}" is no mail address.`);
    return address;
  });
  return [...new Set(found)];
}

/** What of a share matters to whoever has its link or its password. */
const toldOf = (share: ShareRecord): ToldFacts => ({
  ...{ window: factsOf(share).window, address: addressText(share.address), level: share.may.level },
  // Another hash is another password, and tells nothing of it.
  password:
    share.passwordHash === null
      ? null
      : createHash('sha256').update(share.passwordHash).digest('base64url').slice(0, 16),
});
