import { Injectable } from '@nestjs/common';
import { handingOf, visitMayContinue, VISIT_LIFETIME_SECONDS, type Handing, type ShareState } from '@quay/core';
import type { AskCode, CodeAsked, OpenShare, QuayEvent, VisitorDoor } from '@quay/contract';
import { randomBytes } from 'node:crypto';
import { DataSource, type EntityManager } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';
import { LedgerService, type NewEntry } from '../ledger/ledger.service.js';
import { Attempts } from '../platform/attempts.js';
import { sourceOf } from '../platform/client-address.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { visitsCounted } from '../platform/metrics.js';
import { NoticesService } from '../people/notices.service.js';
import { PasswordDoor } from '../platform/password-door.js';
import { Problem } from '../platform/problems/problem.js';
import { secretHash } from '../platform/seal.js';
import { factsOf, sharesById, stateOf, type ShareRecord, countVisit } from '../shares/shares.queries.js';
import type { FileBytes } from '../stores/branch.queries.js';
import type { Going } from '../transfers/download.service.js';
import { CopiesService } from './copies.service.js';
import { withheld } from './given.js';
import { mayDo, PagesService } from './pages.service.js';
import { Takings } from './takings.service.js';
import { DoorService } from './door.service.js';
import { RefusalsService } from './refusals.service.js';
import { RecipientsService, type Proven } from './recipients.service.js';
import { holdShare } from './bringing.queries.js';
import { visitByCookie, type VisitRow } from './visits.queries.js';

/** Lookups of links that do not exist, from one address in a minute. */
const UNKNOWN_LINKS_PER_MINUTE = 60;
/** New visits that one source may ask for in a minute, whatever the share. */
const OPENINGS_PER_MINUTE = 60;
/** Lines that the visits of one share may write into the ledger in an hour; all are counted. */
const LINES_PER_HOUR = { 'share.visited': 200 } as const;
const HOUR_MS = 3_600_000;
export const VISIT_COOKIE = 'quay_visit';
export { VISIT_LIFETIME_SECONDS };

export interface Visitor {
  token: string;
  /** The secret of this browser's visit, if it brought one. */
  cookie: string | null;
  /** The secret of the session that somebody is signed in with, if they are. */
  session: string | null;
  fromAddress: string;
  agent: string;
}

export interface Inside {
  share: ShareRecord;
  visit: VisitRow;
}

@Injectable()
export class VisitsService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly door: DoorService,
    private readonly attempts: Attempts,
    private readonly passwords: PasswordDoor,
    private readonly ledger: LedgerService,
    private readonly takings: Takings,
    private readonly events: Events,
    private readonly notices: NoticesService,
    private readonly recipients: RecipientsService,
    private readonly refusals: RefusalsService,
    private readonly copies: CopiesService,
    private readonly pages: PagesService,
  ) {}

  /** What the page may show: the door, and the contents while this browser's visit lasts. */
  async look(visitor: Visitor): Promise<VisitorDoor> {
    const share = await this.shareOf(visitor);
    const visit = await this.visitOf(visitor, share);
    return this.pages.door({ share, visit, source: sourceOf(visitor.fromAddress) });
  }

  /** Opens the share for this browser: a visit. A browser whose visit lasts is let in again without a new one. */
  async open(visitor: Visitor, asked: OpenShare): Promise<{ door: VisitorDoor; cookie: string | null }> {
    const share = await this.shareOf(visitor);
    const present = await this.visitOf(visitor, share);
    const source = sourceOf(visitor.fromAddress);
    if (present) return { door: await this.pages.door({ share, visit: present, source }), cookie: null };
    return this.refusals.counting(share, visitor.fromAddress, () => this.letIn(visitor, share, asked));
  }

  private async letIn(
    visitor: Visitor,
    share: ShareRecord,
    asked: OpenShare,
  ): Promise<{ door: VisitorDoor; cookie: string }> {
    requireOpen(share, this.clock.now());
    await this.attempts.take(`open from ${sourceOf(visitor.fromAddress)}`, OPENINGS_PER_MINUTE);
    await this.requirePassword(visitor, share, asked.password);
    const proven = await this.recipients.require(share, asked, visitor.session, visitor.fromAddress);
    const cookie = randomBytes(24).toString('base64url');
    // A visit counts when its page can be shown: what is to be shown is at hand before it is counted.
    const source = sourceOf(visitor.fromAddress);
    const shown = await this.pages.contents({ share, visit: null, source });
    const visit = await this.begin(visitor, share, proven, cookie);
    const [fresh] = await sharesById(this.db.manager, this.clock.date(), [share.id]);
    return { door: await this.pages.door({ share: fresh ?? share, visit, source }, shown), cookie };
  }

  /** Sends a code to whoever the share is for, once they have the password. */
  async sendCode(visitor: Visitor, asked: AskCode): Promise<CodeAsked> {
    const share = await this.shareOf(visitor);
    return this.refusals.counting(share, visitor.fromAddress, async () => {
      requireOpen(share, this.clock.now());
      await this.attempts.take(`open from ${sourceOf(visitor.fromAddress)}`, OPENINGS_PER_MINUTE);
      await this.requirePassword(visitor, share, asked.password);
      return this.recipients.sendCode(share, asked.address, visitor.fromAddress);
    });
  }

  /** The share and the visit of a request that wants bytes. @throws Problem for every reason it may not have them */
  async inside(visitor: Visitor): Promise<Inside> {
    const share = await this.shareOf(visitor);
    const visit = await this.visitOf(visitor, share);
    if (visit) return { share, visit };
    requireOpen(share, this.clock.now());
    throw notOpened();
  }

  /** The same as things are within a transaction, which holds the share until it ends. */
  async insideIn(tx: EntityManager, visitor: Visitor): Promise<Inside> {
    const shareId = await holdShare(tx, secretHash(visitor.token.slice(0, 200)));
    const [share] = shareId ? await sharesById(tx, this.clock.date(), [shareId]) : [];
    if (!share) throw notAtThisLink();
    // The next try looks at it first, as every door does.
    if (!share.judged)
      throw new Problem('conflict', 'share.being-judged', 'What holds for this share has just changed. Try again.');
    const { cookie } = visitor;
    const found = cookie && (await visitByCookie(tx, share.id, secretHash(cookie)));
    const meant = found && (await this.recipients.admits(share, found, tx)) ? found : null;
    const visit = await this.lasting(visitor, share, meant);
    if (visit) return { share, visit };
    requireOpen(share, this.clock.now());
    throw notOpened();
  }

  /** The share of a visit that begins to listen. */
  async listening(visitor: Visitor): Promise<Inside> {
    const inside = await this.inside(visitor);
    await this.door.beginListening(inside.share);
    return inside;
  }

  /** Whether this browser's visit goes on. */
  async lasts(visitor: Visitor): Promise<boolean> {
    const share = await this.door.share(visitor.token);
    return share !== null && (await this.visitOf(visitor, share)) !== null;
  }

  /**
   * Whether an event is about what this share shows: itself, a folder within it, or one that holds an item and in which
   * that has changed.
   */
  async concerns(share: ShareRecord, event: QuayEvent): Promise<boolean> {
    if (event.topic === 'missed' || event.topic === 'access') return true;
    if (event.topic === 'share') return event.id === share.id;
    return event.topic === 'node' && this.door.concerns(share, event.id);
  }

  /** A file that this visit may look at, and how it gets it. @throws Problem share.no-such-file */
  async seen(
    visitor: Visitor,
    nodeId: string,
  ): Promise<Inside & { file: FileBytes; handing: Handing; isTheirs: boolean }> {
    const { share, visit } = await this.inside(visitor);
    const file = await this.door.file(visitor.token, nodeId);
    const isTheirs = file !== null && (await this.pages.isOwn(visit, nodeId));
    const handing = file && howGiven(file, share, isTheirs);
    if (!file || !handing) throw noSuchFile();
    return { share, visit, file, handing, isTheirs };
  }

  /** A file of the share, whether it may go on being sent, and what notes that it was taken. */
  async file(visitor: Visitor, nodeId: string): Promise<{ file: FileBytes; going: Going; taken: () => Promise<void> }> {
    const { share, visit, file: found, handing, isTheirs } = await this.seen(visitor, nodeId);
    if (handing === 'withheld') throw withheld(share.may);
    if (!isTheirs) await this.pages.requireUnspent(share, visit, nodeId);
    const file = handing === 'marked' ? { ...found, ...(await this.copies.whole(share, visit, found)) } : found;
    // A copy takes its time to make: what was so before may be so no more.
    if (file !== found && (await this.seen(visitor, nodeId)).handing !== 'marked') throw withheld(share.may);
    const still = async (now: ShareRecord) => {
      const isThere = (await this.door.file(visitor.token, nodeId)) !== null;
      return isThere && howGiven(found, now, await this.pages.isOwn(visit, nodeId)) === handing;
    };
    return {
      file,
      going: this.going(visitor, share, visit, still),
      taken: () => this.takings.note({ visitId: visit.id, share, what: { file: found } }, isTheirs),
    };
  }

  /** Whether a download goes on: while the visit lasts, and `still` says so of what is being sent. */
  going(visitor: Visitor, share: ShareRecord, visit: VisitRow, still: (now: ShareRecord) => Promise<boolean>): Going {
    const until = (of: ShareRecord) =>
      new Date(Math.min(of.closesAt?.getTime() ?? Infinity, visit.beganAt.getTime() + VISIT_LIFETIME_SECONDS * 1000));
    return {
      until: until(share),
      wakes: (event) => unsettles(share, event),
      decide: async () => {
        const now = await this.door.share(visitor.token);
        const may = now !== null && (await this.visitOf(visitor, now)) !== null && (await still(now));
        return { may, until: now && until(now) };
      },
    };
  }

  /** @throws Problem share.not-found; the same for malformed, unknown and wrong tokens, after the same work */
  async shareOf(visitor: Visitor): Promise<ShareRecord> {
    const share = await this.door.share(visitor.token);
    if (share) return share;
    await this.attempts.take(`unknown link from ${sourceOf(visitor.fromAddress)}`, UNKNOWN_LINKS_PER_MINUTE);
    throw notAtThisLink();
  }

  private async visitOf(visitor: Visitor, share: ShareRecord): Promise<VisitRow | null> {
    if (!visitor.cookie) return null;
    return this.lasting(visitor, share, await this.door.visit(visitor.token, visitor.cookie));
  }

  /** A visit, while it lasts. */
  private async lasting(visitor: Visitor, share: ShareRecord, visit: VisitRow | null): Promise<VisitRow | null> {
    const lasts =
      visit && visit.endedAt === null && visitMayContinue(factsOf(share), visit.beganAt.getTime(), this.clock.now());
    if (!lasts) return null;
    const { session, fromAddress } = visitor;
    const stands = share.audience !== 'members' || (await this.recipients.holdsSession(visit, session, fromAddress));
    return stands ? visit : null;
  }

  private requirePassword(visitor: Visitor, share: ShareRecord, password: string | null): Promise<void> {
    return this.passwords.require(share, sourceOf(visitor.fromAddress), password);
  }

  /**
   * Begins a visit, by what the share is at this moment: not by a password that was changed while it was being checked.
   */
  private async begin(visitor: Visitor, asked: ShareRecord, proven: Proven, cookie: string): Promise<VisitRow> {
    const now = this.clock.date();
    const { recipient, personId, sessionHash } = proven;
    const visit: VisitRow = {
      ...{ id: uuidv7(), beganAt: now, endedAt: null, recipient, personId, sessionHash, actorId: null, isGuest: false },
      who: recipient ?? proven.name,
    };
    await this.events.change(async (tx) => {
      const counted = await countVisit(tx, asked.id, asked.passwordHash, now);
      const [share] = await sharesById(tx, this.clock.date(), [asked.id]);
      if (!share) throw new Problem('not-found', 'share.not-found', 'There is no share at this link.');
      if (share.passwordHash !== asked.passwordHash)
        throw new Problem(
          'unauthenticated',
          'share.password-needed',
          'The password of this share was changed just now. Enter the new one.',
        );
      // By whom it is for at this moment, too.
      if (
        share.audience !== asked.audience ||
        !(await this.recipients.admits(share, visit, tx)) ||
        !(await proven.use(tx))
      )
        throw new Problem(
          'conflict',
          'share.audience-changed',
          'Whom this share is for was changed just now. Begin again.',
        );
      if (!counted || share.broken) {
        requireOpen(share, this.clock.now());
        throw refusal(share, 'usedUp');
      }
      await tx.query(
        `INSERT INTO visit (id, share_id, cookie_hash, began_at, from_address, agent, recipient, person_id, session_hash)
          VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9)`,
        [
          ...[visit.id, share.id, secretHash(cookie), now, visitor.fromAddress, visitor.agent.slice(0, 200)],
          ...[recipient, personId, sessionHash],
        ],
      );
      await this.events.tell(tx, { topic: 'share', id: share.id });
      const last = counted.visitLimit !== null && counted.visitsUsed >= counted.visitLimit;
      const detail = { title: share.title, visit: counted.visitsUsed, from: visitor.fromAddress, who: visit.who };
      const actor = visitorActor(visitor);
      if (last) await this.ledger.append(tx, { kind: 'share.last-visit', actor, shareId: share.id, detail });
      else await this.writeDown(tx, 'share.visited', visitor, share, detail);
      if (counted.visitsUsed === 1) await this.tellOpened(tx, share);
      if (last) await this.tellUsedUp(tx, share);
    });
    visitsCounted.inc();
    return visit;
  }

  private tellUsedUp(tx: EntityManager, { title, createdBy }: ShareRecord): Promise<void> {
    return this.notices.give(tx, 'share-used-up', createdBy, {
      subject: 'The last visit of a share of yours was used',
      text: `The last visit of ${title} was used just now. If others are to get in, allow more under Shares.`,
    });
  }

  private tellOpened(tx: EntityManager, { title, createdBy }: ShareRecord): Promise<void> {
    return this.notices.give(tx, 'share-opened', createdBy, {
      // Whoever runs the server sees subjects, and nothing of what is in homes.
      subject: 'A share of yours was opened',
      text: `${title} was opened for the first time just now. Who opened it, and what was taken, stands in Shares.`,
    });
  }

  /** Strangers can cause these lines: an hour holds so many for each share, then one that says that there are more. */
  private async writeDown(
    tx: EntityManager,
    kind: keyof typeof LINES_PER_HOUR,
    visitor: Visitor,
    share: ShareRecord,
    detail: NewEntry['detail'],
  ): Promise<void> {
    const { count } = await this.attempts.count(`ledger ${kind} ${share.id}`, HOUR_MS, tx);
    if (count > LINES_PER_HOUR[kind]) return;
    const more = count === LINES_PER_HOUR[kind];
    const entry = { kind, actor: visitorActor(visitor), shareId: share.id, detail };
    await this.ledger.append(
      tx,
      more ? { ...entry, kind: `${kind}-often`, detail: { title: share.title, count } } : entry,
    );
  }
}

/** Whether an event may mean that a visit of this share is over; a member's ends with their session, too. */
export const unsettles = ({ id, audience }: ShareRecord, event: QuayEvent): boolean =>
  event.topic === 'access' ||
  (event.topic === 'share' && event.id === id) ||
  (event.topic === 'session' && audience === 'members');

function visitorActor(visitor: Visitor): { kind: 'visitor'; id: null; name: string } {
  return { kind: 'visitor', id: null, name: `Visitor from ${visitor.fromAddress}` };
}

export const noSuchFile = (): Problem =>
  new Problem('not-found', 'share.no-such-file', 'That file is not in this share any more.');

/** How a visit gets a file; null: to it, there is none. */
const howGiven = (file: FileBytes, share: ShareRecord, isOwn: boolean): Handing | null => {
  if (isOwn) return 'plain';
  return mayDo(share, 'see') ? handingOf(share.may, file) : null;
};

const notOpened = (): Problem =>
  new Problem(
    'unauthenticated',
    'share.not-opened',
    'Open the share first; this browser has no visit, or it has ended.',
  );

const notAtThisLink = (): Problem =>
  new Problem('not-found', 'share.not-found', 'There is no share at this link. Check that the whole link was copied.');

const REFUSALS: Record<Exclude<ShareState, 'open'>, [code: string, words: string]> = {
  scheduled: ['share.not-yet', 'This share is not open yet.'],
  closed: ['share.closed', 'This share has closed. Ask the sender to open it again.'],
  usedUp: ['share.used-up', 'All visits of this share have been used. Ask the sender for more.'],
  withdrawn: ['share.withdrawn', 'The sender has withdrawn this share.'],
  broken: ['share.broken', 'The files of this share are not there at the moment. Ask the sender to put them back.'],
};

const BARRED = ['share.barred', 'A rule of the office keeps this share closed. Ask the sender.'] as const;

function refusal(share: ShareRecord, state: Exclude<ShareState, 'open'>): Problem {
  const [code, words] = state === 'closed' && share.barredAt ? BARRED : REFUSALS[state];
  return new Problem(state === 'scheduled' ? 'forbidden' : 'gone', code, words, {
    state,
    opensAt: share.opensAt,
    closesAt: share.closesAt,
  });
}

/** @throws Problem that says why the share is not open at that moment */
function requireOpen(share: ShareRecord, at: number): void {
  const state = stateOf(share, at);
  if (state !== 'open') throw refusal(share, state);
}
