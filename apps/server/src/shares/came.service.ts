import { Injectable } from '@nestjs/common';
import type { CameOfIt, TakenBy } from '@quay/contract';
import { visitEdges, visitName } from '@quay/core';
import { DataSource } from 'typeorm';
import { AccessService } from '../access/access.service.js';
import type { Who } from '../people/who.js';
import { Clock } from '../platform/clock.js';
import { Office } from '../platform/office.js';
import { filesTaken, relatedTo, takenAsOne, visitsBetween, type Taker } from './came.queries.js';
import { isClosedTo } from './rows.js';
import { sharesById, stateOf } from './shares.queries.js';
import { SharesService } from './shares.service.js';

/** Files, and of each of them people, that are named. */
const NAMED = { files: 50, takers: 5 } as const;
const MOST_RELATED = 20;

/** What came of a share: visits over time, what was taken by whom, and other shares of the same. */
@Injectable()
export class CameService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly office: Office,
    private readonly access: AccessService,
    private readonly shares: SharesService,
  ) {}

  /** @throws Problem not-found, home.closed, share.beyond */
  async of(who: Who, shareId: string): Promise<CameOfIt> {
    const share = await this.shares.open(who, shareId);
    await this.access.ensure(who);
    const m = this.db.manager;
    const now = this.clock.now();
    const { zone } = await this.office.settings();
    const to = Math.min(now, share.closesAt?.getTime() ?? now);
    const { step, edges } = visitEdges(
      share.createdAt.getTime(),
      Math.max(to, share.lastVisitAt?.getTime() ?? 0),
      zone,
    );
    const dates = edges.map((edge) => new Date(edge));
    const scope = { personId: who.personId, all: who.role === 'admin', limit: MOST_RELATED };
    const [found, files, everything, related] = await Promise.all([
      visitsBetween(m, shareId, dates),
      filesTaken(m, shareId, who.personId, NAMED),
      takenAsOne(m, shareId, NAMED.takers),
      relatedTo(m, shareId, scope),
    ]);
    const ids = related.map((r) => r.id);
    const others = (await sharesById(m, this.clock.date(), ids)).filter((other) => !isClosedTo(who, other));
    return {
      step,
      edges: dates.map((date) => date.toISOString()),
      bars: found,
      files: files.map(({ id, name, visits, lastAt, takers }) => ({
        ...{ id, name, visits, lastAt: lastAt.toISOString() },
        by: takers.map(takenBy),
      })),
      filesTotal: files[0]?.total ?? 0,
      everything: { visits: everything.visits, by: everything.takers.map(takenBy) },
      related: others.map((other) => ({ id: other.id, title: other.title, state: stateOf(other, now) })),
    };
  }
}

/** A visit of somebody who is not known is named as a mark on a copy names it. */
const takenBy = ({ who, visitId }: Taker): TakenBy => ({ who: who ?? visitName(visitId), isKnown: who !== null });
