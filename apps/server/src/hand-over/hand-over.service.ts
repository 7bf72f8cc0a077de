import { Inject, Injectable } from '@nestjs/common';
import {
  attachAdvice,
  DEFAULT_MESSAGE,
  HAND_OVER_CHANNEL_WORDS,
  outdatedWords,
  sameWayWords,
  someNames,
  wentTheSameWay,
  type Way,
} from '@quay/core';
import { canonicalRecipient, type Addressee } from '@quay/core/recipients';
import type { HandOverFinding, HandOverRow, HandOvers, KnownAddressee, NoteHandOver } from '@quay/contract';
import { DataSource, type EntityManager } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';
import { AccessService } from '../access/access.service.js';
import { LedgerService } from '../ledger/ledger.service.js';
import type { Who } from '../people/who.js';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Events } from '../platform/events/events.js';
import { Mail } from '../platform/mail.js';
import { Office } from '../platform/office.js';
import { invalidField, notFound } from '../platform/problems/problem.js';
import { TextMessages } from '../platform/text-messages.js';
import { seenAmong } from '../shares/seen.js';
import { holdOne, itemsOf, sharesById, stateOf, type ShareRecord } from '../shares/shares.queries.js';
import { SharesService } from '../shares/shares.service.js';
import { actorOf } from '../stores/names.js';
import { attachBarredBy, COMMON_LIMITS } from './attaching.js';
import {
  forget,
  handOversOf,
  keepHandOvers,
  knownRecipients,
  needingOf,
  remember,
  settle,
  waysTo,
  type HandOver,
} from './hand-over.queries.js';
import { beginsWith } from './message-templates.queries.js';
import { messageValues, toldOf } from './told.js';

const DAY_MS = 86_400_000;
/** What went wrong with a hand-over is told on Today for so long. */
const NEEDING_MS = 7 * DAY_MS;
const MOST_NEEDING = 50;
/** Rows that a sheet shows, the last. */
const MOST_SHOWN = 300;
const MOST_KNOWN = 300;

/** How something went to somebody, to be written down. */
export type Done = Pick<HandOver, 'what' | 'channel' | 'recipient' | 'name'> &
  Partial<Pick<HandOver, 'sendingId' | 'mailId' | 'textId' | 'sameWay'>>;

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
    private readonly texts: TextMessages,
    private readonly office: Office,
    private readonly shares: SharesService,
    @Inject(CONFIG) private readonly config: Config,
  ) {}

  /** @throws Problem not-found, home.closed, share.beyond */
  async of(who: Who, shareId: string): Promise<HandOvers> {
    const share = await this.shares.open(who, shareId);
    await this.access.ensure(who);
    const m = this.db.manager;
    const items = await itemsOf(m, who.personId, shareId);
    const sizes = items.every((i) => i.kind === 'file') ? items.map((i) => i.sizeBytes ?? 0) : [];
    const [{ zone }, { name: office }, rows] = await Promise.all([
      this.office.settings(),
      this.office.toVisitors(),
      this.rows(share),
    ]);
    return {
      canMail: await this.mail.canSend(m),
      canText: await this.texts.canSend(m),
      template: (await beginsWith(m, who.personId)) ?? DEFAULT_MESSAGE,
      values: messageValues(share, {
        ...{ now: this.clock.now(), zone, sender: who.name, sealingKey: this.config.sealingKey, items },
      }),
      office,
      attach: { ...attachAdvice({ sizes, recipients: 1, ...COMMON_LIMITS }), barred: attachBarredBy(share) },
      rows: rows.slice(0, MOST_SHOWN),
      more: rows.length > MOST_SHOWN,
    };
  }

  /** Writes down what somebody did by themselves. @throws Problem hand-over.same-way */
  async note(who: Who, shareId: string, { what, channel, to, sameWayMeant }: NoteHandOver): Promise<HandOvers> {
    await this.shares.open(who, shareId);
    const people = to.map((text): Addressee => ({ value: canonicalRecipient(text) ?? text, name: '' }));
    await this.events.change(async (tx) => {
      await holdOne(tx, shareId);
      const share = await this.shares.open(who, shareId, tx);
      const named = people.length === 0 ? [{ value: '', name: '' }] : people;
      const isSameWay = await this.requireOtherWay(tx, shareId, { what, channel, people: named, sameWayMeant });
      for (const { value, name } of named)
        await this.keep(tx, who, share, { what, channel, recipient: value, name, sameWay: isSameWay.has(value) });
      await this.tell(tx, who, share, { what, channel, people, sameWay: isSameWay.size > 0 });
    });
    return this.of(who, shareId);
  }

  /** That nothing more is to be done about one that went wrong, or that something is. @throws Problem not-found */
  async settle(who: Who, shareId: string, id: string, settled: boolean): Promise<HandOvers> {
    await this.shares.open(who, shareId);
    await this.events.change(async (tx) => {
      if (!(await settle(tx, shareId, id, settled ? this.clock.date() : null))) throw notFound('This hand-over');
      await this.events.tell(tx, { topic: 'share', id: shareId });
    });
    return this.of(who, shareId);
  }

  /** What somebody handed over that needs a hand still: of shares that they see, and that somebody could come by. */
  async needing(who: Who): Promise<HandOverFinding[]> {
    const m = this.db.manager;
    const now = this.clock.now();
    const found = await needingOf(m, who.personId, new Date(now - NEEDING_MS), MOST_NEEDING);
    const records = await sharesById(m, this.clock.date(), [...new Set(found.map((f) => f.shareId))]);
    const seen = await seenAmong(m, who, records, this.clock.date());
    const open = new Map(
      seen.filter((s) => s.closed === null && ['open', 'scheduled'].includes(stateOf(s, now))).map((s) => [s.id, s]),
    );
    return found.flatMap(({ told, at, ...finding }) => {
      const share = open.get(finding.shareId);
      // Another password ends what went the same way as the link.
      if (!share || (finding.kind === 'same-way' && told.password !== toldOf(share).password)) return [];
      return [{ ...finding, title: share.title, at: at.toISOString() }];
    });
  }

  /** Whom somebody wrote to before, the last first. */
  async known(who: Who): Promise<KnownAddressee[]> {
    const rows = await knownRecipients(this.db.manager, who.personId, MOST_KNOWN);
    return rows.map(({ recipient, name, lastAt }) => ({ value: recipient, name, lastAt: lastAt.toISOString() }));
  }

  /** They are suggested no more. What was done stays in the ledger, whose lines are never taken out. */
  async forget(who: Who, recipient: string): Promise<KnownAddressee[]> {
    await this.events.change((tx) => forget(tx, who.personId, recipient).then(() => undefined));
    return this.known(who);
  }

  /**
   * Among these, those whom link and password would reach by the same way.
   * @throws Problem hand-over.same-way, where that is not meant
   */
  async requireOtherWay(
    tx: EntityManager,
    shareId: string,
    next: Pick<Way, 'what' | 'channel'> & { people: readonly Addressee[]; sameWayMeant: boolean },
  ): Promise<Set<string>> {
    const before = await waysTo(
      tx,
      shareId,
      next.people.map((p) => p.value),
    );
    const same = next.people
      .map(({ value }) => ({ what: next.what, channel: next.channel, recipient: value }))
      .filter((way) => wentTheSameWay(before, way));
    const [first] = same;
    if (first && !next.sameWayMeant) throw invalidField('sameWayMeant', 'hand-over.same-way', sameWayWords(first));
    return new Set(same.map((way) => way.recipient));
  }

  /** Keeps rows of a share that is held. */
  async keep(tx: EntityManager, who: Who, share: ShareRecord, ...all: Done[]): Promise<void> {
    const told = toldOf(share);
    const rows = all.map((done) => ({
      ...{ sendingId: null, mailId: null, textId: null, sameWay: false },
      ...done,
      ...{ id: uuidv7(), shareId: share.id, byId: who.personId, at: this.clock.date(), told },
    }));
    await keepHandOvers(tx, rows);
  }

  /** Whoever looks at the share sees it, and the ledger has it. */
  async tell(
    tx: EntityManager,
    who: Who,
    share: ShareRecord,
    {
      what,
      channel,
      people,
      sameWay,
    }: Pick<Way, 'what' | 'channel'> & { people: readonly Addressee[]; sameWay: boolean },
  ): Promise<void> {
    const named = people.filter((p) => p.value !== '');
    if (named.length > 0) await remember(tx, who.personId, named, this.clock.date());
    await this.events.tell(tx, { topic: 'share', id: share.id });
    await this.ledger.append(tx, {
      kind:
        what === 'withdrawal' ? 'share.told-withdrawn' : sameWay ? 'share.handed-over-same-way' : 'share.handed-over',
      actor: actorOf(who),
      shareId: share.id,
      detail: {
        ...{ title: share.title, what, how: HAND_OVER_CHANNEL_WORDS[channel] },
        to: named.length === 0 ? 'nobody in particular' : someNames(named.map((p) => p.value)),
      },
    });
  }

  private async rows(share: ShareRecord): Promise<HandOverRow[]> {
    const { zone } = await this.office.settings();
    const is = toldOf(share);
    return (await handOversOf(this.db.manager, share.id, MOST_SHOWN + 1)).map(({ told, at, openedAt, ...row }) => ({
      ...row,
      at: at.toISOString(),
      openedAt: openedAt?.toISOString() ?? null,
      outdated: outdatedWords(row.what, told, is, this.clock.now(), zone),
    }));
  }
}
