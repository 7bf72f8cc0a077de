import { Injectable } from '@nestjs/common';
import type { CreateShare, SeenPage, SeePage, VisitorContents, VisitorDoor } from '@quay/contract';
import { DataSource, type EntityManager } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';
import { AccessService } from '../access/access.service.js';
import type { Who } from '../people/who.js';
import { requireDuty } from '../people/duties.js';
import { Clock } from '../platform/clock.js';
import { Turns } from '../platform/turns.js';
import { GuardrailsService } from '../shares/guardrails.service.js';
import { sharesById, stateOf, type ShareRecord } from '../shares/shares.queries.js';
import { SharesService } from '../shares/shares.service.js';
import { PagesService, type Showing } from './pages.service.js';
import { RecipientsService, type Judged } from './recipients.service.js';
import type { VisitRow } from './visits.queries.js';

/** Drafts that are published and taken back at once: each holds a connection while it asks for another. */
const DRAFTS = { atOnce: 2, waitingPerPerson: 10 } as const;

/** The page of a share as others get it. Nothing is counted by it, and nothing of it can be taken. */
@Injectable()
export class SeeingService {
  private readonly drafts = new Turns(DRAFTS.atOnce, DRAFTS.waitingPerPerson);

  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly access: AccessService,
    private readonly shares: SharesService,
    private readonly guardrails: GuardrailsService,
    private readonly pages: PagesService,
    private readonly recipients: RecipientsService,
  ) {}

  /** Of a share that is out. @throws Problem not-found, home.closed, share.beyond */
  async ofShare(who: Who, shareId: string, asked: SeePage): Promise<SeenPage> {
    let share = await this.shares.open(who, shareId);
    if (!share.judged) {
      await this.guardrails.judge([shareId]);
      share = await this.shares.open(who, shareId);
    }
    const page = await this.page(this.db.manager, sourceOf(who), share, asked);
    if (share.createdBy === who.personId || !page.inside?.contents) return page;
    // Whoever looks after a share of others learns nothing by it of what they do not see.
    const { files } = page.inside.contents;
    const seen = await this.access.seen(
      who,
      files.map((f) => f.id),
    );
    const contents = { ...page.inside.contents, files: files.filter((f) => seen.has(f.id)) };
    return { ...page, inside: { ...page.inside, contents }, hidden: files.length - contents.files.length };
  }

  /** Of one that is being put together: it is published and shown in a transaction that is taken back. */
  ofDraft(who: Who, draft: CreateShare, asked: SeePage): Promise<SeenPage> {
    requireDuty(who, 'publish-outside');
    return this.drafts.run(sourceOf(who), () => this.draft(who, draft, asked));
  }

  private async draft(who: Who, draft: CreateShare, asked: SeePage): Promise<SeenPage> {
    const runner = this.db.createQueryRunner();
    await runner.connect();
    try {
      await runner.startTransaction();
      const id = await this.shares.draftIn(runner.manager, who, draft);
      const [share] = await sharesById(runner.manager, this.clock.date(), [id]);
      if (!share) throw new Error('a draft is not there');
      return await this.page(runner.manager, sourceOf(who), share, asked);
    } finally {
      if (runner.isTransactionActive) await runner.rollbackTransaction();
      await runner.release();
    }
  }

  /** As somebody gets it who is let in under a name. */
  async letIn(share: ShareRecord, name: string, source: string): Promise<VisitorDoor> {
    const showing = { share, visit: null, source };
    const door = await this.pages.door(showing);
    if (door.state !== 'open') return door;
    return { ...door, you: name, message: share.message, contents: await this.pages.contents(showing) };
  }

  private async page(m: EntityManager, source: string, share: ShareRecord, asked: SeePage): Promise<SeenPage> {
    const at = asked.at === null ? this.clock.now() : Date.parse(asked.at);
    const door = await this.pages.door({ share, visit: null, source }, undefined, at);
    const nothing = { door, inside: null, kept: null, hidden: 0 };
    if (stateOf(share, at) !== 'open') return nothing;
    const judged = await this.recipients.judge(m, share, asked);
    if (!judged.isAdmitted) {
      const { told, words } = judged;
      return { ...nothing, kept: { code: told.code, words, told: told.message } };
    }
    const showing = { share, visit: this.visitOf(judged), source };
    return { ...nothing, inside: await this.inside(m, showing, at) };
  }

  private async inside(m: EntityManager, showing: Showing, at: number): Promise<VisitorDoor> {
    const contents: VisitorContents = await this.pages.contents(showing, m);
    return this.pages.door(showing, contents, at);
  }

  private visitOf({ recipient, personId, name }: Extract<Judged, { isAdmitted: true }>): VisitRow {
    return {
      ...{ id: uuidv7(), beganAt: this.clock.date(), endedAt: null, recipient, personId, sessionHash: null },
      ...{ actorId: null, isGuest: false, who: recipient ?? name },
    };
  }
}

const sourceOf = ({ personId }: Who): string => `look of ${personId}`;
