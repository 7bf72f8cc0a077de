import { Injectable } from '@nestjs/common';
import { PASSWORD_TRIES_PER_MINUTE, visitMayContinue, VISIT_LIFETIME_SECONDS, type ShareState } from '@quay/core';
import type { VisitorContents, VisitorDoor } from '@quay/contract';
import { randomBytes } from 'node:crypto';
import { DataSource } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';
import { LedgerService } from '../ledger/ledger.service.js';
import { Attempts } from '../platform/attempts.js';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { Office } from '../platform/office.js';
import { passwordMatches } from '../platform/passwords.js';
import { Problem } from '../platform/problems/problem.js';
import { secretHash } from '../platform/seal.js';
import { factsOf, loadShares, stateOf, type ShareRecord } from '../shares/shares.queries.js';
import { contents, type ContentFile, type FileBytes } from '../stores/stores.queries.js';
import { planOf } from '../transfers/download.service.js';
import { DoorService } from './door.service.js';
import { countVisit, noteFile, type VisitRow } from './visits.queries.js';

/** Lookups of links that do not exist, from one address in a minute. */
const UNKNOWN_LINKS_PER_MINUTE = 60;
export const VISIT_COOKIE = 'quay_visit';
export { VISIT_LIFETIME_SECONDS };

export interface Visitor {
  token: string;
  /** The secret of this browser's visit, if it brought one. */
  cookie: string | null;
  fromAddress: string;
  agent: string;
}

interface Inside {
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
    private readonly ledger: LedgerService,
    private readonly events: Events,
    private readonly office: Office,
  ) {}

  /** What the page may show: the door, and the contents while this browser's visit lasts. */
  async look(visitor: Visitor): Promise<VisitorDoor> {
    const share = await this.shareOf(visitor);
    const visit = await this.visitOf(visitor, share);
    return this.doorOf(share, visit);
  }

  /** Opens the share for this browser: a visit. A browser whose visit lasts is let in again without a new one. */
  async open(visitor: Visitor, password: string | null): Promise<{ door: VisitorDoor; cookie: string | null }> {
    const share = await this.shareOf(visitor);
    const present = await this.visitOf(visitor, share);
    if (present) return { door: await this.doorOf(share, present), cookie: null };
    requireOpen(share, this.clock.now());
    await this.requirePassword(visitor, share, password);
    const cookie = randomBytes(24).toString('base64url');
    const visit = await this.begin(visitor, share.id, cookie);
    const [fresh] = await loadShares(this.db.manager, { ids: [share.id] });
    return { door: await this.doorOf(fresh ?? share, visit), cookie };
  }

  /** The share and the visit of a request that wants bytes. @throws Problem for every reason it may not have them */
  async inside(visitor: Visitor): Promise<Inside> {
    const share = await this.shareOf(visitor);
    const visit = await this.visitOf(visitor, share);
    if (visit) return { share, visit };
    requireOpen(share, this.clock.now());
    throw new Problem(
      'unauthenticated',
      'share.not-opened',
      'Open the share first; this browser has no visit, or it has ended.',
    );
  }

  async file(visitor: Visitor, nodeId: string): Promise<FileBytes> {
    const { share, visit } = await this.inside(visitor);
    const file = await this.door.file(visitor.token, nodeId);
    if (!file) throw new Problem('not-found', 'share.no-such-file', 'That file is not in this share any more.');
    await this.note(share, visit, file.id, file.name);
    return file;
  }

  async archive(visitor: Visitor) {
    const { share, visit } = await this.inside(visitor);
    const archive = planOf(await contents(this.db.manager, share.itemIds));
    await this.note(share, visit, share.itemIds[0] as string, 'everything as one archive');
    return { ...archive, name: `${share.title}.zip` };
  }

  /** @throws Problem share.not-found; the same for malformed, unknown and wrong tokens, after the same work */
  async shareOf(visitor: Visitor): Promise<ShareRecord> {
    const share = await this.door.share(visitor.token);
    if (share) return share;
    await this.attempts.take(`unknown link from ${visitor.fromAddress}`, UNKNOWN_LINKS_PER_MINUTE);
    throw new Problem(
      'not-found',
      'share.not-found',
      'There is no share at this link. Check that the whole link was copied.',
    );
  }

  private async visitOf(visitor: Visitor, share: ShareRecord): Promise<VisitRow | null> {
    if (!visitor.cookie) return null;
    const visit = await this.door.visit(visitor.token, visitor.cookie);
    const lasts =
      visit && visit.endedAt === null && visitMayContinue(factsOf(share), visit.beganAt.getTime(), this.clock.now());
    return lasts ? visit : null;
  }

  private async requirePassword(visitor: Visitor, share: ShareRecord, password: string | null): Promise<void> {
    if (share.passwordHash === null) return;
    if (!password) throw new Problem('unauthenticated', 'share.password-needed', 'This share needs a password.');
    // Counted before hashing: the rate that guessing is limited to, and what hashing may cost, hold together.
    const key = `share ${share.id}`;
    const triesLeft = await this.attempts.take(key, PASSWORD_TRIES_PER_MINUTE);
    if (await passwordMatches(share.passwordHash, password)) {
      await this.attempts.giveBack(key);
      return;
    }
    await this.events.change((tx) =>
      this.ledger.append(tx, {
        kind: 'share.wrong-password',
        actor: visitorActor(visitor),
        shareId: share.id,
        detail: { title: share.title, from: visitor.fromAddress },
      }),
    );
    throw new Problem(
      'unauthenticated',
      'share.wrong-password',
      `That is not the password. ${triesLeft === 0 ? 'Wait a minute before the next try.' : `${triesLeft} ${triesLeft === 1 ? 'try' : 'tries'} left in this minute.`}`,
      { triesLeft },
    );
  }

  private async begin(visitor: Visitor, shareId: string, cookie: string): Promise<VisitRow> {
    const now = this.clock.date();
    const visit: VisitRow = { id: uuidv7(), beganAt: now, endedAt: null };
    await this.events.change(async (tx) => {
      const counted = await countVisit(tx, shareId, now);
      const [share] = await loadShares(tx, { ids: [shareId] });
      if (!share) throw new Problem('not-found', 'share.not-found', 'There is no share at this link.');
      if (!counted || share.broken) {
        requireOpen(share, this.clock.now());
        throw refusal(share, 'usedUp');
      }
      await tx.query(
        'INSERT INTO visit (id, share_id, cookie_hash, began_at, from_address, agent) VALUES ($1, $2, $3, $4, $5, $6)',
        [visit.id, shareId, secretHash(cookie), now, visitor.fromAddress, visitor.agent.slice(0, 200)],
      );
      await this.events.tell(tx, { topic: 'share', id: shareId });
      const last = counted.visitLimit !== null && counted.visitsUsed >= counted.visitLimit;
      await this.ledger.append(tx, {
        kind: last ? 'share.last-visit' : 'share.visited',
        actor: visitorActor(visitor),
        shareId,
        detail: { title: share.title, visit: counted.visitsUsed, from: visitor.fromAddress },
      });
    });
    return visit;
  }

  private readonly noted = new Set<string>();

  /** Writes down the first time that a visit fetches something; ranges and repeats are the same fetch. */
  private async note(share: ShareRecord, visit: VisitRow, nodeId: string, name: string): Promise<void> {
    const key = `${visit.id} ${nodeId} ${name}`;
    if (this.noted.has(key)) return;
    if (this.noted.size > 100_000) this.noted.clear();
    await this.events.change(async (tx) => {
      if (await noteFile(tx, visit.id, nodeId, this.clock.date())) {
        await this.ledger.append(tx, {
          kind: 'share.downloaded',
          actor: { kind: 'visitor', id: visit.id, name: 'A visitor' },
          shareId: share.id,
          nodeId,
          detail: { title: share.title, name },
        });
      }
    });
    this.noted.add(key);
  }

  private async doorOf(share: ShareRecord, visit: VisitRow | null): Promise<VisitorDoor> {
    const now = this.clock.now();
    const state = stateOf(share, now);
    const { name, zone } = await this.office.settings();
    const shown = visit !== null || share.passwordHash === null;
    return {
      office: name,
      zone,
      sender: share.creatorName,
      title: share.title,
      message: shown && (visit !== null || state === 'open') ? share.message : '',
      state: visit ? 'open' : state,
      opensAt: share.opensAt?.toISOString() ?? null,
      closesAt: share.closesAt?.toISOString() ?? null,
      needsPassword: share.passwordHash !== null,
      countsVisits: share.visitLimit !== null,
      visitsLeft: share.visitLimit === null ? null : Math.max(0, share.visitLimit - share.visitsUsed),
      now: new Date(now).toISOString(),
      contents: visit ? await this.contentsOf(share) : null,
    };
  }

  private async contentsOf(share: ShareRecord): Promise<VisitorContents> {
    const found = await contents(this.db.manager, share.itemIds);
    const files = found
      .filter((f): f is ContentFile => f.kind === 'file')
      .map((f) => ({ id: f.id, path: f.path, sizeBytes: f.sizeBytes, mediaType: f.mediaType, sha256: f.sha256 }));
    return {
      files,
      totalBytes: files.reduce((sum, f) => sum + f.sizeBytes, 0),
      archiveBytes: planOf(found).plan.sizeBytes,
    };
  }
}

function visitorActor(visitor: Visitor): { kind: 'visitor'; id: null; name: string } {
  return { kind: 'visitor', id: null, name: `Visitor from ${visitor.fromAddress}` };
}

const REFUSALS: Record<Exclude<ShareState, 'open'>, [code: string, words: string]> = {
  scheduled: ['share.not-yet', 'This share is not open yet.'],
  closed: ['share.closed', 'This share has closed. Ask the sender to open it again.'],
  usedUp: ['share.used-up', 'All visits of this share have been used. Ask the sender for more.'],
  withdrawn: ['share.withdrawn', 'The sender has withdrawn this share.'],
  broken: ['share.broken', 'The files of this share are not there at the moment. Ask the sender to put them back.'],
};

function refusal(share: ShareRecord, state: Exclude<ShareState, 'open'>): Problem {
  const [code, words] = REFUSALS[state];
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
