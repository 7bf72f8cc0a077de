import { Injectable } from '@nestjs/common';
import { bringsFiles, marksPictures, needsCode, visitName, visitorActs, type Act, type Instant } from '@quay/core';
import type { ArrivingFile, Picked, VisitorContents, VisitorDoor } from '@quay/contract';
import { DataSource, type EntityManager } from 'typeorm';
import { Clock } from '../platform/clock.js';
import { Once } from '../platform/once.js';
import { TextMessages } from '../platform/text-messages.js';
import { Turns } from '../platform/turns.js';
import { contentsOfShare } from '../shares/frozen.queries.js';
import { liveIdsOf, stateOf, type ShareRecord } from '../shares/shares.queries.js';
import type { ContentRow } from '../stores/branch.queries.js';
import { ownFiles } from './bringing.queries.js';
import { CopiesService } from './copies.service.js';
import { DoorService } from './door.service.js';
import { fileSpent, givenOf, listingOf, markedOf, type Copies, type Given, type Toward } from './given.js';
import { arrivingIn, spentFiles, type VisitRow } from './visits.queries.js';

/** An upload of which nothing has come for so long is not told of any more. */
const ARRIVING_MS = 10 * 60_000;
const MOST_ARRIVING = 100;
/** So many entries are shown as soon as they are asked for. */
const MOST_AT_HAND = 1000;
/** Folders that may be named to somebody who brings something. */
const MOST_PLACES = 5000;
/** Contents and archives that are laid out at once, and that may wait for one source: behind one there can be an office. */
const LAID_OUT = { atOnce: 3, waitingPerSource: 50 } as const;

/** A share that is to be shown, and to whom. */
export interface Showing {
  share: ShareRecord;
  /** The visit that it is shown to; null: to nobody who is inside. */
  visit: VisitRow | null;
  /** Who has it laid out: each has so many turns. */
  source: string;
}

/** What the page of a share shows, and what of it is given. */
@Injectable()
export class PagesService {
  private readonly turns = new Turns(LAID_OUT.atOnce, LAID_OUT.waitingPerSource);
  /** What is on its way is told to all who look at the same moment by one question. */
  private readonly arrivals = new Once<ArrivingFile[]>();

  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly copies: CopiesService,
    private readonly texts: TextMessages,
    private readonly doors: DoorService,
  ) {}

  /**
   * @param contents where they have been laid out already
   * @param at the moment that it is shown at; left out: now
   */
  async door(showing: Showing, contents?: VisitorContents, at: Instant = this.clock.now()): Promise<VisitorDoor> {
    const { share, visit } = showing;
    const state = stateOf(share, at);
    const [{ name, zone, words, logo }, takesNumbers, inside] = await Promise.all([
      this.doors.office(),
      needsCode(share.audience) && this.texts.canSend(this.db.manager),
      visit ? (contents ?? this.contents(showing)) : null,
    ]);
    const isShown = visit !== null || (share.passwordHash === null && share.audience === 'anyone');
    return {
      office: name,
      officeWords: words,
      logo,
      zone,
      sender: share.creatorName,
      title: share.title,
      message: isShown && (visit !== null || state === 'open') ? share.message : '',
      state: visit ? 'open' : state,
      barred: share.barredAt !== null,
      opensAt: share.opensAt?.toISOString() ?? null,
      closesAt: share.closesAt?.toISOString() ?? null,
      needsPassword: share.passwordHash !== null,
      needsCode: needsCode(share.audience),
      takesNumbers,
      needsSignIn: share.audience === 'members',
      you: visit?.who ?? null,
      countsVisits: share.visitLimit !== null,
      visitsLeft: share.visitLimit === null ? null : Math.max(0, share.visitLimit - share.visitsUsed),
      now: new Date(at).toISOString(),
      contents: inside,
    };
  }

  /** @param m of a transaction, where it is shown as it is within that */
  async contents({ share, visit, source }: Showing, m?: EntityManager): Promise<VisitorContents> {
    return this.laidOut(share, source, m, async (all) => {
      const [toward, arriving] = await Promise.all([this.toward(share, visit, m), this.arriving(share)]);
      const found = visible(share, all, toward.own);
      const { level, takesBytes } = share.may;
      const brings = bringsFiles(share.may);
      return {
        ...{
          level,
          seesOthers: mayDo(share, 'see'),
          markedFor: visit && marksPictures(share.may) ? markedFor(visit) : null,
        },
        ...listingOf(share, toward, found, await this.copiesOf(share, visit, toward, found)),
        arriving,
        places: brings ? placesIn(share, all) : [],
        takesBytes: brings ? Math.max(0, takesBytes - share.broughtBytes) : null,
      };
    });
  }

  /** What a visit is given, all or of what is named, and what `lay` makes of it while it is its turn. */
  given<T>(showing: Showing & { visit: VisitRow }, { ids }: Picked, lay: (given: Given) => T): Promise<T> {
    const { share, visit, source } = showing;
    return this.laidOut(share, source, undefined, async (rows) => {
      const toward = await this.toward(share, visit);
      const all = visible(share, rows, toward.own);
      const found = ids ? all.filter((f) => ids.includes(f.id)) : all;
      return lay(givenOf(share.may, toward, found, await this.copiesOf(share, visit, toward, found)));
    });
  }

  /** What a share serves, and what `show` makes of it; in turn where that is much, or must be asked for. */
  private laidOut<T>(
    share: ShareRecord,
    source: string,
    m: EntityManager | undefined,
    show: (all: ContentRow[]) => Promise<T>,
  ): Promise<T> {
    const known = m ? null : this.doors.laidOutOf(share);
    if (known && known.length <= MOST_AT_HAND) return show(known);
    return this.turns.run(source, async () =>
      show(m ? await contentsOfShare(m, share) : (this.doors.laidOutOf(share) ?? (await this.doors.layOut(share)))),
    );
  }

  /** Whether a visit brought a file itself. */
  async isOwn(visit: VisitRow, nodeId: string): Promise<boolean> {
    return (await this.ownOf(visit)).has(nodeId);
  }

  /** @throws Problem share.spent where as many visits have taken a file as may, and this one has not */
  async requireUnspent(
    { id: shareId, may: { fileLimit } }: ShareRecord,
    visit: VisitRow,
    nodeId: string,
  ): Promise<void> {
    if (fileLimit === null) return;
    const spent = await spentFiles(this.db.manager, { shareId, fileLimit, visitId: visit.id }, [nodeId]);
    if (spent.size > 0) throw fileSpent();
  }

  private async toward(
    { id: shareId, may: { fileLimit } }: ShareRecord,
    visit: VisitRow | null,
    m: EntityManager = this.db.manager,
  ): Promise<Toward> {
    const of = { shareId, fileLimit: fileLimit ?? 0, visitId: visit?.id ?? null };
    return {
      own: await this.ownOf(visit),
      spent: fileLimit === null ? new Set() : await spentFiles(m, of, null),
    };
  }

  private async ownOf(visit: VisitRow | null): Promise<Set<string>> {
    return visit?.actorId ? ownFiles(this.db.manager, visit.actorId) : new Set();
  }

  private copiesOf({ may }: ShareRecord, visit: VisitRow | null, toward: Toward, found: ContentRow[]): Promise<Copies> {
    const marked = visit ? markedOf(may, toward, found) : [];
    return visit && marked.length > 0 ? this.copies.known(visit, marked) : Promise.resolve(new Map());
  }

  private async arriving(share: ShareRecord): Promise<VisitorContents['arriving']> {
    if (liveIdsOf(share).length === 0 || !mayDo(share, 'see')) return [];
    return this.arrivals.once(share.id, () =>
      arrivingIn(this.db.manager, share, new Date(this.clock.now() - ARRIVING_MS), MOST_ARRIVING),
    );
  }
}

/** Whether visitors of a share may do something with what is in it. */
export const mayDo = ({ may }: ShareRecord, act: Act): boolean => visitorActs(may).all.includes(act);

const visible = (share: ShareRecord, all: ContentRow[], own: ReadonlySet<string>): ContentRow[] =>
  mayDo(share, 'see') ? all : all.filter((f) => own.has(f.id));

/** Where files may be brought: folders that are served as they are; where nothing else is seen, the items alone. */
function placesIn(share: ShareRecord, all: ContentRow[]): VisitorContents['places'] {
  const sees = mayDo(share, 'see');
  return all
    .filter((f) => f.kind === 'folder' && !share.frozenIds.includes(f.origin) && (sees || f.id === f.origin))
    .slice(0, MOST_PLACES)
    .map((f) => ({ id: f.id, path: f.path.replace(/\/$/, '') }));
}

/** Whom the copies of a visit name. */
const markedFor = (visit: VisitRow): string => visit.who ?? visitName(visit.id);
