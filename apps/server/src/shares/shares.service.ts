import { Inject, Injectable } from '@nestjs/common';
import {
  addressText,
  frozenTerms,
  MAY_DOWNLOAD,
  visitName,
  nowhereToAdd,
  NO_END_WORDS,
  shareChanges,
  shareLink,
  shareSentence,
  tokenFromBytes,
  TOKEN_BYTES,
  type ShareChoices,
  type ShareMay,
  momentInWords,
  type Window,
} from '@quay/core';
import type { ChangeShare, CreateShare, ShareRow, ShareSheet } from '@quay/contract';
import { stringify } from 'csv-stringify/sync';
import { randomBytes } from 'node:crypto';
import { DataSource, type EntityManager } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';
import { LedgerService, type NewEntry } from '../ledger/ledger.service.js';
import { requireDuty } from '../people/duties.js';
import type { Who } from '../people/who.js';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Events } from '../platform/events/events.js';
import { Office } from '../platform/office.js';
import { hashPassword } from '../platform/passwords.js';
import { invalidField, notFound } from '../platform/problems/problem.js';
import { seal, secretHash, unseal } from '../platform/seal.js';
import { AccessService } from '../access/access.service.js';
import { TableService } from '../access/table.service.js';
import { actorOf } from '../stores/names.js';
import { PurgeService } from '../stores/purge.service.js';
import { VersionsService } from '../stores/versions.service.js';
import { broughtInto } from '../visits/bringing.queries.js';
import { endVisits } from '../visits/visits.queries.js';
import { meantBy, requireMembers } from './audience.js';
import { audienceOf, setAudience, type Meant } from './audience.queries.js';
import { clearAgain } from './clearing.queries.js';
import { versionsFrozen } from './frozen.queries.js';
import { foldersWithLinks } from './links.queries.js';
import { MomentsService } from './moments.service.js';
import { holdGuardrails } from './guardrails.queries.js';
import { GuardrailsService } from './guardrails.service.js';
import { ShareItemsService } from './items.service.js';
import { Share } from './shares.entity.js';
import { closedRow, requireOpen, rowOf, type Seen } from './rows.js';
import { seenAmong } from './seen.js';
import {
  bytesOf,
  couldBeOpened,
  factsOf,
  itemsOf,
  refusedOf,
  sharesById,
  sharesOfNodes,
  visitsOf,
  type ShareRecord,
} from './shares.queries.js';
import { addressFor, dateOf, requireSoundWindow, requireStrongPassword, windowOf } from './terms.js';

/** Visits that one table holds, the newest. */
const MOST_IN_TABLE = 50_000;
/** Files of visitors that a sheet lists, the last. */
const MOST_BROUGHT = 200;

/** What is put out, with what was made of it before. */
interface PutOut {
  id: string;
  asked: CreateShare;
  window: Window;
  meant: Meant | undefined;
  passwordHash: string | null;
  passwordScore: number | null;
}

@Injectable()
export class SharesService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly access: AccessService,
    private readonly ledger: LedgerService,
    private readonly events: Events,
    private readonly office: Office,
    private readonly moments: MomentsService,
    private readonly items: ShareItemsService,
    private readonly guardrails: GuardrailsService,
    @Inject(CONFIG) private readonly config: Config,
    purger: PurgeService,
    versions: VersionsService,
    tables: TableService,
  ) {
    purger.guard((tx, nodeIds) => this.needed(tx, nodeIds));
    versions.spare((m, versionIds) => versionsFrozen(m, versionIds, this.clock.date()));
    tables.tellOfLinks(foldersWithLinks);
  }

  async sheet(who: Who, shareId: string): Promise<ShareSheet> {
    const record = await this.open(who, shareId);
    const now = this.clock.now();
    const m = this.db.manager;
    await this.access.ensure(who);
    const [items, visits, refused, history, { zone }, bytes, whoIsMeant, brought, railFaults] = await Promise.all([
      itemsOf(m, who.personId, shareId),
      visitsOf(m, shareId),
      refusedOf(m, shareId),
      this.ledger.page({ limit: 200, shareId }),
      this.office.settings(),
      bytesOf(m, [record]),
      audienceOf(m, record, record.audience),
      broughtInto(m, shareId, who.personId, MOST_BROUGHT),
      this.guardrails.faults(m, shareId),
    ]);
    const row = rowOf(record, now, bytes.get(record.id) ?? 0);
    return {
      ...row,
      message: record.message,
      removesFiles: record.removesFiles,
      railFaults,
      barredAt: record.barredAt?.toISOString() ?? null,
      may: record.may,
      brought,
      broughtBytes: record.broughtBytes,
      mayAdd: record.createdBy === who.personId,
      whoIsMeant,
      link: shareLink(record.address, unseal(this.config.sealingKey, record.tokenSealed)),
      address: addressText(record.address),
      addressId: record.address.id,
      sentence: shareSentence(
        {
          audience: {
            kind: record.audience,
            listed: whoIsMeant.listed.length,
            members: whoIsMeant.members.map((m) => m.name),
          },
          may: record.may,
          itemCount: record.itemIds.length,
          frozen: frozenTerms(items.map((i) => (i.frozenAt === null ? null : Date.parse(i.frozenAt)))),
          totalBytes: row.totalBytes,
          window: factsOf(record).window,
          hasPassword: record.passwordHash !== null,
          visitLimit: record.visitLimit,
          removesFiles: record.removesFiles,
        },
        now,
        zone,
      ),
      items,
      visits,
      ...refused,
      history: history.entries.map((e) => ({ at: e.at, kind: e.kind, who: e.who, words: e.words })),
      historyTotal: history.total,
    };
  }

  /** All visits, for a table program: what begins like a formula is text there. */
  async visitsTable(who: Who, shareId: string): Promise<{ name: string; text: string }> {
    const record = await this.open(who, shareId);
    const visits = await visitsOf(this.db.manager, shareId, MOST_IN_TABLE);
    const text = stringify(
      visits.map((v) => [v.beganAt, visitName(v.id), v.who ?? '', v.from, v.files, v.archive ? 'yes' : '']),
      {
        header: true,
        columns: ['began', 'visit', 'who', 'from', 'files', 'everything'],
        escape_formulas: true,
        record_delimiter: '\r\n',
      },
    );
    return { name: `${record.title} visits.csv`, text };
  }

  /**
   * Publishes items. Whoever publishes must be able to edit them; an item that goes to the trash meanwhile is refused.
   */
  async publish(who: Who, asked: CreateShare): Promise<ShareSheet> {
    const window = windowOf(asked.window);
    requireSoundWindow(window, this.clock.now());
    const passwordScore = await requireStrongPassword(asked, asked.title);
    const meant = asked.audience && meantBy(asked.audience);
    const passwordHash = asked.password === null ? null : await hashPassword(asked.password);
    const id = uuidv7();
    await this.events.change(async (tx) => {
      await this.putOutIn(tx, who, { asked, window, meant, passwordHash, passwordScore, id });
      if (asked.removesFiles) await this.requireRemovable(tx, id);
      if (asked.may) await this.requireSomewhereToAdd(tx, who, id, asked.may);
      await this.guardrails.requireKept(tx, id);
      const { opensAt, closesAt } = window;
      await this.moments.plan(tx, { id, opensAt: dateOf(opensAt), closesAt: dateOf(closesAt) });
      await this.events.tell(tx, { topic: 'share', id });
      await this.ledger.append(tx, {
        kind: 'share.published',
        actor: actorOf(who),
        shareId: id,
        detail: {
          title: asked.title,
          items: asked.nodeIds.length + (asked.frozenIds ?? []).length,
          opensAt: asked.window.opensAt,
          closesAt: asked.window.closesAt,
          password: asked.password !== null,
          audience: meant?.kind ?? 'anyone',
          may: asked.may?.level ?? 'download',
          weakPasswordMeant: asked.weakPasswordMeant,
          visitLimit: asked.visitLimit,
          removesFiles: asked.removesFiles ?? false,
        },
      });
    });
    return this.sheet(who, id);
  }

  /**
   * The same in a transaction that is going to be taken back: to see it before. What would keep it from being published
   * is said elsewhere.
   * @returns its id
   */
  async draftIn(tx: EntityManager, who: Who, asked: CreateShare): Promise<string> {
    const window = windowOf(asked.window);
    requireSoundWindow(window, this.clock.now());
    const meant = asked.audience && meantBy(asked.audience);
    const id = uuidv7();
    const passwordHash = asked.password === null ? null : 'draft';
    await this.putOutIn(tx, who, { asked, window, meant, passwordHash, passwordScore: null, id });
    return id;
  }

  private async putOutIn(tx: EntityManager, who: Who, { asked, window, meant, ...rest }: PutOut): Promise<void> {
    const items = { live: asked.nodeIds, frozen: asked.frozenIds ?? [] };
    const token = tokenFromBytes(randomBytes(TOKEN_BYTES));
    await this.items.lock(tx, who, items);
    await holdGuardrails(tx, 'shared');
    const addressId = await addressFor(tx, asked.addressId, meant?.kind);
    await tx.insert(Share, {
      ...rest,
      title: asked.title,
      message: asked.message,
      tokenHash: secretHash(token),
      tokenSealed: seal(this.config.sealingKey, token),
      addressId,
      opensAt: dateOf(window.opensAt),
      closesAt: dateOf(window.closesAt),
      visitLimit: asked.visitLimit,
      removesFiles: asked.removesFiles ?? false,
      ...mayColumns(asked.may ?? MAY_DOWNLOAD),
      createdAt: this.clock.date(),
      createdBy: who.personId,
    });
    await this.items.putIn(tx, who, rest.id, items);
    if (meant) await this.mean(tx, rest.id, meant);
  }

  /** Changes what is named and leaves the rest. Takes effect at once, also on pages that are open. */
  async change(who: Who, shareId: string, asked: ChangeShare): Promise<ShareSheet | ShareRow> {
    const window = asked.window ? windowOf(asked.window) : null;
    if (window) requireSoundWindow(window, this.clock.now());
    const { password = null, weakPasswordMeant = false } = asked;
    const passwordScore = await requireStrongPassword({ password, weakPasswordMeant }, asked.title ?? '');
    const passwordHash = asked.password ? await hashPassword(asked.password) : asked.password;
    const meant = asked.audience && meantBy(asked.audience);
    const { zone } = await this.office.settings();
    // Worked out before the share is held: whoever works it out holds what others wait for.
    await this.access.ensure(who);
    const { items } = asked;
    await this.events.change(async (tx) => {
      if (items) await this.items.lock(tx, who, { live: items.add, frozen: items.addFrozen });
      await holdGuardrails(tx, 'shared');
      await tx.query('SELECT 1 FROM share WHERE id = $1 FOR UPDATE', [shareId]);
      const before = await this.seen(who, shareId, tx);
      // Whoever sees a share may put an end to it, and do nothing else to what is closed to them.
      const onlyWithdraws = asked.withdrawn === true && Object.keys(asked).length === 1;
      if (!onlyWithdraws) requireOpen(before);
      if (!onlyWithdraws && before.createdBy !== who.personId) requireDuty(who, 'publish-outside');
      const kept = await this.guardrails.faults(tx, shareId);
      const entries: NewEntry[] = [];
      const set = {
        ...(asked.title !== undefined && { title: asked.title }),
        ...(asked.message !== undefined && { message: asked.message }),
        ...(window && { opensAt: dateOf(window.opensAt), closesAt: dateOf(window.closesAt) }),
        ...(passwordHash !== undefined && { passwordHash, passwordScore }),
        ...(asked.visitLimit !== undefined && { visitLimit: asked.visitLimit }),
        ...(asked.removesFiles !== undefined && { removesFiles: asked.removesFiles }),
        ...(asked.may && mayColumns(asked.may)),
        ...((asked.addressId ?? meant) !== undefined && {
          addressId: await addressFor(tx, asked.addressId ?? before.address.id, meant?.kind ?? before.audience),
        }),
        ...(asked.withdrawn !== undefined && {
          withdrawnAt: asked.withdrawn ? (before.withdrawnAt ?? this.clock.date()) : null,
        }),
      };
      if (Object.keys(set).length > 0) {
        await tx.update(Share, { id: shareId }, set);
      }
      if (meant) await this.mean(tx, shareId, meant);
      const [after = before] = await sharesById(tx, this.clock.date(), [shareId]);
      const told = whatChanged(before, after, asked, { now: this.clock.now(), zone });
      if (told) entries.push({ ...told, actor: actorOf(who), shareId });
      const moved = items && (await this.items.changeIn(tx, who, before, items));
      if (moved) entries.push(moved);
      if (entries.length === 0) return;
      const removes = asked.removesFiles ?? before.removesFiles;
      if (removes && (asked.removesFiles || moved || window)) await this.requireRemovable(tx, shareId);
      if (asked.may) await this.requireSomewhereToAdd(tx, who, shareId, asked.may);
      if (window) await clearAgain(tx, shareId);
      await this.guardrails.requireKept(tx, shareId, kept);
      if (window)
        await this.moments.plan(tx, {
          id: shareId,
          opensAt: dateOf(window.opensAt),
          closesAt: dateOf(window.closesAt),
        });
      // Opened again after it was withdrawn: its times count again.
      else if (asked.withdrawn === false) await this.moments.plan(tx, before);
      // Visits that were let in by another password end with it.
      if (passwordHash) await endVisits(tx, shareId, this.clock.date());
      await this.events.tell(tx, { topic: 'share', id: shareId });
      await this.ledger.append(tx, ...entries, ...(await this.guardrails.judgeIn(tx, [shareId])));
    });
    const record = await this.seen(who, shareId);
    return record.closed ? closedRow(record, this.clock.now()) : this.sheet(who, shareId);
  }

  /** What somebody has published that could still be opened, the earliest first. */
  async standingOf(personId: string, m: EntityManager = this.db.manager): Promise<ShareRecord[]> {
    const now = this.clock.date();
    const rows = await m.query<{ id: string }[]>(
      `SELECT id FROM share WHERE created_by = $1 AND withdrawn_at IS NULL AND (closes_at IS NULL OR closes_at > $2)`,
      [personId, now],
    );
    const records = await sharesById(
      m,
      now,
      rows.map((r) => r.id),
    );
    return records.filter((share) => couldBeOpened(share, now.getTime())).reverse();
  }

  /**
   * Shares get another publisher, or are withdrawn where nobody takes them, within a transaction that does more.
   * @returns what is to be written down of it
   */
  async passOnIn(
    tx: EntityManager,
    who: Who,
    shares: readonly { id: string; title: string; toPersonId: string | null }[],
    names: ReadonlyMap<string, string>,
  ): Promise<NewEntry[]> {
    const now = this.clock.date();
    for (const { id, toPersonId } of shares) {
      const change = toPersonId === null ? { withdrawnAt: now } : { createdBy: toPersonId };
      await tx.update(Share, { id }, change);
      await this.events.tell(tx, { topic: 'share', id });
    }
    return shares.map(({ id, title, toPersonId }): NewEntry => {
      const by = { actor: actorOf(who), shareId: id };
      return toPersonId === null
        ? { ...by, kind: 'share.withdrawn', detail: { title } }
        : { ...by, kind: 'share.passed-on', detail: { title, to: names.get(toPersonId) ?? '' } };
    });
  }

  /** Takes that back: shares are somebody's again who had them, as far as whoever took them over still has them. */
  async giveBackIn(
    tx: EntityManager,
    personId: string,
    shares: readonly { id: string; toPersonId: string | null }[],
  ): Promise<void> {
    for (const { id, toPersonId } of shares) {
      const share = await tx.findOne(Share, { where: { id }, lock: { mode: 'pessimistic_write' } });
      if (!share) continue;
      if (toPersonId === null) {
        await tx.update(Share, { id, createdBy: personId }, { withdrawnAt: null });
        await this.moments.plan(tx, share);
      } else await tx.update(Share, { id, createdBy: toPersonId }, { createdBy: personId });
      await this.events.tell(tx, { topic: 'share', id });
    }
  }

  /** What must not be removed for good: items of shares that could still be opened. */
  private async needed(tx: EntityManager, nodeIds: string[]): Promise<{ nodeId: string; why: string }[]> {
    const pairs = await sharesOfNodes(tx, nodeIds);
    if (pairs.length === 0) return [];
    const now = this.clock.now();
    const records = await sharesById(tx, this.clock.date(), [...new Set(pairs.map((p) => p.shareId))]);
    const live = records.filter((r) => couldBeOpened(r, now));
    return pairs.flatMap(({ nodeId, shareId }) => {
      const share = live.find((r) => r.id === shareId);
      return share ? [{ nodeId, why: `the share "${share.title}" still needs it: withdraw that first` }] : [];
    });
  }

  /** A share that somebody sees, and nothing of which is closed to them. @throws Problem not-found, home.closed, share.beyond */
  async open(who: Who, shareId: string, m?: EntityManager): Promise<ShareRecord> {
    const share = await this.seen(who, shareId, m);
    requireOpen(share);
    return share;
  }

  /** @throws Problem not-found */
  private async seen(who: Who, shareId: string, m: EntityManager = this.db.manager): Promise<Seen> {
    const at = this.clock.date();
    const [share] = await seenAmong(m, who, await sharesById(m, at, [shareId]), at);
    if (!share) throw notFound('This share');
    return share;
  }

  /** Whoever published it may remove its files, and they go at an end. @throws Problem share.no-end, access.* */
  private async requireRemovable(tx: EntityManager, shareId: string): Promise<void> {
    const [share] = await sharesById(tx, this.clock.date(), [shareId]);
    if (!share) return;
    if (share.closesAt === null) throw invalidField('removesFiles', 'share.no-end', NO_END_WORDS);
    if (share.itemIds.length === 0) return;
    const publisher = { personId: share.createdBy };
    const nodes = await this.access.requireNodes(publisher, share.itemIds, 'remove', tx);
    await this.access.requireBelow(publisher, nodes, 'remove', tx);
  }

  /** @throws Problem share.nowhere-to-add where files could be brought into nothing of it */
  private async requireSomewhereToAdd(tx: EntityManager, who: Who, shareId: string, may: ShareMay): Promise<void> {
    const items = await itemsOf(tx, who.personId, shareId);
    const fault = nowhereToAdd(
      may,
      items.map(({ kind, frozenAt }) => ({ kind, frozen: frozenAt !== null })),
    );
    if (fault) throw invalidField('may.level', 'share.nowhere-to-add', fault);
  }

  private async mean(tx: EntityManager, shareId: string, meant: Meant): Promise<void> {
    await requireMembers(tx, meant.members, this.clock.date());
    await setAudience(tx, { kind: 'share', id: shareId }, meant);
  }
}

const mayColumns = ({ level, seesOthers, takesBytes, watermark, fileLimit }: ShareMay) => ({
  ...{ level, seesOthers, watermark, fileLimit },
  takesBytes: String(takesBytes),
});

/** What can be told of a share, before or after a change. */
const choicesOf = (share: ShareRecord): ShareChoices => ({
  ...{ title: share.title, message: share.message, visitLimit: share.visitLimit, removesFiles: share.removesFiles },
  ...{ window: factsOf(share).window, hasPassword: share.passwordHash !== null, address: addressText(share.address) },
  ...{ audience: share.audience, may: share.may },
});

/** What the ledger says of a change: the most telling kind, and what is different; null: nothing is. Never the password. */
function whatChanged(
  before: ShareRecord,
  after: ShareRecord,
  asked: ChangeShare,
  when: { now: number; zone: string },
): { kind: string; detail: Record<string, string> } | null {
  const { title, withdrawnAt, closesAt } = after;
  if ((before.withdrawnAt === null) !== (withdrawnAt === null))
    return { kind: withdrawnAt ? 'share.withdrawn' : 'share.reinstated', detail: { title } };
  const anew = { password: Boolean(asked.password), audience: asked.audience !== undefined };
  const changes = shareChanges(choicesOf(before), choicesOf(after), anew, when);
  const isLater = before.closesAt && (closesAt === null || closesAt > before.closesAt);
  if (isLater && changes.length === 1) {
    const to = closesAt === null ? 'no end' : momentInWords(closesAt.getTime(), when.now, when.zone);
    return { kind: 'share.extended', detail: { title, to } };
  }
  return changes.length === 0 ? null : { kind: 'share.changed', detail: { title, what: changes.join('; ') } };
}
