import { Injectable } from '@nestjs/common';
import { shareFindings, type ShareState } from '@quay/core';
import {
  isId,
  type NodeShares,
  type ShareList,
  type ShareListQuery,
  type ShareMarks,
  type ShareRow,
  type ShareSort,
  type SharesToday,
  type SharesTodayQuery,
  type SharesUsing,
} from '@quay/contract';
import { DataSource } from 'typeorm';
import { AccessService } from '../access/access.service.js';
import type { Who } from '../people/who.js';
import { Clock } from '../platform/clock.js';
import { isMoment, isPlaceText, placeText, placeValues, unknownPlace } from '../platform/cursor.js';
import { invalidField } from '../platform/problems/problem.js';
import {
  countShares,
  ensureScope,
  listShares,
  scopeOf,
  sharesNeeding,
  sharesWithin,
  statesOfNodes,
  visitTimesOf,
  type ShareCursor,
} from './list.queries.js';
import { closedRow, isClosedTo, rowOf } from './rows.js';
import { seenAmong } from './seen.js';
import {
  bytesOf,
  couldBeOpened,
  factsOf,
  sharesAround,
  sharesById,
  sharesLosing,
  sharesOfNodes,
  stateOf,
  type ShareRecord,
} from './shares.queries.js';

/** Liveliest first: which mark an item shows when several shares publish it. */
const LIVELIEST: ShareState[] = ['open', 'scheduled', 'broken', 'usedUp', 'closed', 'withdrawn'];
/** Windows that one chart can show, and findings that somebody goes through; how many more there are is told. */
const MOST_WINDOWS = 200;
const MOST_NEEDING = 100;
const LONGEST_SPAN_MS = 100 * 86_400_000;

/** What is told of many shares at once: the list, what stands on Today, and how items are shared. */
@Injectable()
export class ShareListService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly access: AccessService,
  ) {}

  /** A page of shares that somebody sees. How many are in each state comes with the first. */
  async list(who: Who, query: ShareListQuery): Promise<ShareList> {
    const m = this.db.manager;
    const at = this.clock.date();
    const after = cursorFrom(query);
    const scope = await scopeOf(m, who, at);
    await ensureScope(m, scope, at);
    const [{ shares, next }, counted] = await Promise.all([
      listShares(m, scope, query, after, at),
      after ? null : countShares(m, scope, query, at),
    ]);
    return {
      shares: await this.rows(who, shares),
      next: next && cursorText(next, query),
      ...(counted ?? { counts: null, facets: null }),
    };
  }

  /** The windows of a span and what needs a hand, for the first page that somebody looks at. */
  async today(who: Who, asked: SharesTodayQuery): Promise<SharesToday> {
    const span = { from: new Date(asked.from), to: new Date(asked.to) };
    const length = span.to.getTime() - span.from.getTime();
    if (length <= 0 || length > LONGEST_SPAN_MS)
      throw invalidField(
        'to',
        'span.too-long',
        'A chart shows at most a hundred days, from an earlier to a later moment.',
      );
    const m = this.db.manager;
    const at = this.clock.date();
    const scope = await scopeOf(m, who, at);
    await ensureScope(m, scope, at);
    const [{ counts }, within, needing] = await Promise.all([
      countShares(m, scope, {}, at),
      sharesWithin(m, scope, span, at, MOST_WINDOWS),
      sharesNeeding(m, scope, at, MOST_NEEDING),
    ]);
    const rowsWithin = await this.rows(who, within.shares);
    const open = rowsWithin.filter((row) => !row.closed).map((row) => row.id);
    const times = await visitTimesOf(m, open, span.from);
    const windows = rowsWithin.map((row) => ({
      ...row,
      visitTimes: (times.get(row.id) ?? []).map((t) => t.toISOString()),
    }));
    const facts = needing.shares.map((s) => findingFacts(s, at.getTime()));
    const found = shareFindings(facts, at.getTime());
    const rows = new Map((await this.rows(who, needing.shares)).map((r) => [r.id, r]));
    return {
      open: counts.open,
      any: Object.values(counts).some((n) => n > 0),
      windows,
      moreWindows: within.count - windows.length,
      needing: found.map(({ kind, shareId }) => ({ kind, share: rows.get(shareId) as ShareRow })),
      moreNeeding: needing.count - needing.shares.length,
    };
  }

  /** The mark each item bears in a listing. */
  async marks(who: Who, nodeIds: string[]): Promise<ShareMarks> {
    const reachable = (await this.access.reachable(who, nodeIds, 'see')).map((n) => n.id);
    const marks: ShareMarks = {};
    for (const { nodeId, state } of await statesOfNodes(this.db.manager, reachable, this.clock.date())) {
      const present = marks[nodeId];
      if (!present || LIVELIEST.indexOf(state) < LIVELIEST.indexOf(present)) marks[nodeId] = state;
    }
    return marks;
  }

  /** The shares that could be opened and hold each of these items; of homes of others there is nothing to ask for. */
  async using(who: Who, nodeIds: string[]): Promise<SharesUsing> {
    const all = await sharesOfNodes(this.db.manager, [...(await this.access.seen(who, nodeIds))]);
    const items = await this.access.seen(who, [...new Set(all.map((p) => p.itemId))]);
    const pairs = all.filter((p) => items.has(p.itemId));
    const now = this.clock.now();
    const shares = new Map(
      (await sharesById(this.db.manager, this.clock.date(), [...new Set(pairs.map((p) => p.shareId))]))
        .filter((share) => couldBeOpened(share, now) && !isClosedTo(who, share))
        .map((share) => [share.id, { id: share.id, title: share.title, state: stateOf(share, now) }]),
    );
    const using: SharesUsing = {};
    for (const { nodeId, shareId } of pairs) {
      const share = shares.get(shareId);
      if (share) (using[nodeId] ??= []).push(share);
    }
    return using;
  }

  /** Open and scheduled shares that would lose an item if these went to the trash. */
  async affected(who: Who, nodeIds: string[]): Promise<{ id: string; title: string }[]> {
    await this.access.reachable(who, nodeIds, 'remove');
    const ids = await sharesLosing(this.db.manager, who.personId, nodeIds);
    const now = this.clock.now();
    return (await sharesById(this.db.manager, this.clock.date(), ids))
      .filter((r) => couldBeOpened(r, now))
      .map((r) => ({ id: r.id, title: r.title }));
  }

  /** How many shares that could be opened hold something in a folder that whoever asks sees. */
  async openFrom(who: Who, folderId: string): Promise<number> {
    await this.access.ensure(who);
    const ids = await sharesLosing(this.db.manager, who.personId, [folderId]);
    const now = this.clock.now();
    return (await sharesById(this.db.manager, this.clock.date(), ids)).filter((r) => couldBeOpened(r, now)).length;
  }

  /** Where an item is shared, by itself or within a folder above it, and when outsiders last opened it there. */
  async ofNode(who: Who, nodeId: string): Promise<NodeShares> {
    await this.access.requireNode(who, nodeId, 'see');
    const found = await sharesAround(this.db.manager, who.personId, nodeId);
    const now = this.clock.now();
    const ids = found.map((f) => f.shareId);
    const records = await sharesById(this.db.manager, this.clock.date(), ids);
    const seen = new Map((await seenAmong(this.db.manager, who, records, this.clock.date())).map((s) => [s.id, s]));
    return records.map((r) => {
      const row = found.find((f) => f.shareId === r.id);
      return {
        id: r.id,
        title: r.title,
        state: stateOf(r, now),
        through: row?.through ?? null,
        lastVisitAt: r.lastVisitAt?.toISOString() ?? null,
        lastTakenAt: row?.lastTakenAt?.toISOString() ?? null,
        mine: seen.get(r.id)?.closed === null,
      };
    });
  }

  private async rows(who: Who, shares: ShareRecord[]): Promise<ShareRow[]> {
    const now = this.clock.now();
    const seen = await seenAmong(this.db.manager, who, shares, this.clock.date());
    const bytes = await bytesOf(
      this.db.manager,
      seen.filter((s) => s.closed === null),
    );
    return seen.map((s) => (s.closed ? closedRow(s, now) : rowOf(s, now, bytes.get(s.id) ?? 0)));
  }
}

const findingFacts = (share: ShareRecord, now: number) => ({
  id: share.id,
  state: stateOf(share, now),
  opensAt: factsOf(share).window.opensAt,
  closesAt: factsOf(share).window.closesAt,
  createdAt: share.createdAt.getTime(),
  lastVisitAt: share.lastVisitAt?.getTime() ?? null,
  barredAt: share.barredAt?.getTime() ?? null,
});

/** What stands for a place in each order. */
const KEYS: Record<ShareSort, (text: string) => boolean> = {
  made: isMoment,
  closes: (text) => text === 'infinity' || isMoment(text),
  title: () => true,
  visited: (text) => text === '-infinity' || isMoment(text),
};

const cursorText = ({ group, last }: ShareCursor, { sort, descending }: ShareListQuery): string =>
  placeText([group, last?.key ?? null, last?.id ?? null, sort, descending]);

function cursorFrom({ after, sort, descending }: ShareListQuery): ShareCursor | null {
  if (after === undefined) return null;
  const [group, key, id, ...order] = placeValues(after);
  if ((group !== 0 && group !== 1) || order.length !== 2 || order[0] !== sort || order[1] !== descending)
    throw unknownPlace();
  if (key === null && id === null) return { group, last: null };
  const fits = group === 0 ? KEYS[sort] : KEYS.made;
  if (!isPlaceText(key) || !isId(id) || !fits(key)) throw unknownPlace();
  return { group, last: { key, id } };
}
