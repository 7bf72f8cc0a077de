import { Injectable, type OnModuleInit } from '@nestjs/common';
import type { QuayEvent } from '@quay/contract';
import { LRUCache } from 'lru-cache';
import { DataSource } from 'typeorm';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { Office } from '../platform/office.js';
import { Once } from '../platform/once.js';
import { secretHash } from '../platform/seal.js';
import { GuardrailsService } from '../shares/guardrails.service.js';
import { contentsOfShare, frozenFile } from '../shares/frozen.queries.js';
import { shareByToken, type ShareRecord } from '../shares/shares.queries.js';
import { RecipientsService } from './recipients.service.js';
import { fileInShare, folderOfShare, visitByCookie, type VisitRow } from './visits.queries.js';
import type { ContentRow, FileBytes } from '../stores/branch.queries.js';

/** How long facts may be answered from memory at the most, should an event ever be missed. */
const MEMORY_MS = 10_000;
/** The same of a share for people who sign in: being in a group ends at a date, of which no event tells. */
const MEMORY_OF_MEMBERS_MS = 2000;
const MOST_REMEMBERED = 500;
/** Rows of contents that are remembered, of all shares together. */
const MOST_ROWS = 20_000;

/** Visits that are remembered, and files, of all shares together. */
const MOST_EACH = 20_000;

type Shown = Awaited<ReturnType<Office['toVisitors']>>;

interface Remembered {
  share: ShareRecord;
  until: number;
  /** What is remembered of its visits and files goes by this, and is forgotten with it. */
  epoch: number;
}

/** Who may do what has changed, or anything at all. */
const isWide = ({ topic }: QuayEvent): boolean => topic === 'access' || topic === 'missed';

/**
 * The facts that every visitor's request is decided by. They are remembered for a moment, because a visitor fetches
 * many files in a row; any change to the share or to any folder makes them forgotten, and while the event connection
 * is down nothing is remembered. The decision itself is made anew for every request, at that request's time.
 */
@Injectable()
export class DoorService implements OnModuleInit {
  private readonly memory = new Map<string, Remembered>();
  private shown: { office: Shown; until: number } | null = null;
  private epochs = 0;
  /** Each by itself for as long as that, so that they are not all asked for anew at the same moment. */
  private readonly visits = new LRUCache<string, VisitRow>({ max: MOST_EACH });
  private readonly files = new LRUCache<string, FileBytes>({ max: MOST_EACH });
  /** What is being asked by several at this moment is asked once; what came of it after an event is for those before it. */
  private readonly asking = new Once<Remembered | null>();
  private readonly laying = new Once<ContentRow[]>();
  private readonly laidOut = new LRUCache<string, { rows: ContentRow[]; until: number }>({
    maxSize: MOST_ROWS,
    sizeCalculation: ({ rows }) => rows.length + 1,
  });
  /** Rises with every event, so that facts read before one are not remembered after it. */
  private generation = 0;

  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly events: Events,
    private readonly recipients: RecipientsService,
    private readonly guardrails: GuardrailsService,
    private readonly offices: Office,
  ) {}

  onModuleInit(): void {
    this.events.stream.subscribe((event) => {
      if (!['share', 'node', 'session'].includes(event.topic) && !isWide(event)) return;
      this.generation += 1;
      // Of the office it is told as of everybody's session.
      if (event.topic === 'session' || isWide(event)) this.shown = null;
      if (event.topic === 'share') {
        this.forget((share) => share.id === event.id);
        this.laidOut.delete(event.id);
      }
      // Somebody has signed in or out: that matters to shares for members alone.
      else if (event.topic === 'session') this.forget((share) => share.audience === 'members');
      else {
        this.memory.clear();
        this.laidOut.clear();
      }
    });
  }

  /** The share behind a token as it is now, or null. Malformed tokens are looked up like any other. */
  async share(token: string): Promise<ShareRecord | null> {
    return (await this.facts(token))?.share ?? null;
  }

  /** The visit that a browser's cookie stands for, while whoever it was let in as is still meant; or null. */
  async visit(token: string, cookie: string): Promise<VisitRow | null> {
    const facts = await this.facts(token);
    if (!facts) return null;
    const { share, epoch } = facts;
    const key = `${epoch} ${cookie}`;
    const known = this.visits.get(key);
    if (known) return known;
    const visit = await visitByCookie(this.db.manager, share.id, secretHash(cookie));
    if (!visit || !(await this.recipients.admits(share, visit))) return null;
    this.visits.set(key, visit, { ttl: this.memoryOf(share) });
    return visit;
  }

  /** A file of the share, or null when it is not in it (any more). */
  async file(token: string, nodeId: string): Promise<FileBytes | null> {
    const facts = await this.facts(token);
    if (!facts) return null;
    const { share, epoch } = facts;
    const key = `${epoch} ${nodeId}`;
    const known = this.files.get(key);
    if (known) return known;
    let file = await fileInShare(this.db.manager, share.id, nodeId);
    if (!file && share.frozenIds.length > 0) file = await frozenFile(this.db.manager, share.id, nodeId);
    if (file) this.files.set(key, file, { ttl: this.memoryOf(share) });
    return file;
  }

  /** What a share serves, where that is remembered: everybody who looks at it is shown the same. */
  laidOutOf({ id }: ShareRecord): ContentRow[] | null {
    const known = this.laidOut.get(id);
    return known && known.until > performance.now() && this.events.listening ? known.rows : null;
  }

  /** The same, asked anew. Whoever gets it leaves it as it is. */
  layOut(share: ShareRecord): Promise<ContentRow[]> {
    return this.laying.once(`${this.generation} ${share.id}`, async () => {
      const { generation } = this;
      const until = performance.now() + this.memoryOf(share);
      const rows = await contentsOfShare(this.db.manager, share);
      if (generation === this.generation) this.laidOut.set(share.id, { rows, until });
      return rows;
    });
  }

  /** What the office shows to visitors. */
  async office(): Promise<Shown> {
    const known = this.shown;
    if (known && known.until > performance.now() && this.events.listening) return known.office;
    const { generation } = this;
    const office = await this.offices.toVisitors();
    if (generation === this.generation) this.shown = { office, until: performance.now() + MEMORY_MS };
    return office;
  }

  private readonly places = new LRUCache<string, ReturnType<typeof folderOfShare>>({ max: 5000, ttl: 1000 });
  /** How the items of shares were when they were last looked at, for those that somebody listens to. */
  private readonly itemsSeen = new LRUCache<string, string>({ max: 5000 });

  /** Somebody begins to listen: from here on a change of the items is a change. */
  async beginListening(share: ShareRecord): Promise<void> {
    this.itemsSeen.set(share.id, (await folderOfShare(this.db.manager, share.id, share.id)).items);
  }

  /** Whether what changed in a folder is something the share shows. One question for all who listen to that share. */
  async concerns(share: ShareRecord, folderId: string): Promise<boolean> {
    const key = `${share.id} ${folderId}`;
    let asked = this.places.get(key);
    if (!asked) {
      asked = folderOfShare(this.db.manager, share.id, folderId).then((place) => {
        const changed = place.items !== this.itemsSeen.get(share.id);
        this.itemsSeen.set(share.id, place.items);
        return { ...place, beside: place.beside && changed };
      });
      this.places.set(key, asked);
      asked.catch(() => this.places.delete(key));
    }
    const { within, beside } = await asked;
    return within || beside;
  }

  private async facts(token: string): Promise<Remembered | null> {
    const key = token.slice(0, 200);
    const known = this.memory.get(key);
    const now = performance.now();
    if (known && known.until > now && this.events.listening) return known;
    return this.asking.once(`${this.generation} ${key}`, async () => {
      const { generation } = this;
      const share = await this.judged(key);
      if (!share) return null;
      // Asked anew because its time was over, and not because anything changed: what belongs to it stays.
      const before = this.events.listening ? this.memory.get(key) : undefined;
      const epoch = before?.epoch ?? (this.epochs += 1);
      const facts = { share, until: performance.now() + this.memoryOf(share), epoch };
      if (generation === this.generation) this.remember(key, facts);
      return facts;
    });
  }

  /** For how long, in ms: what its publisher may can end by itself, at a moment that is known. */
  private memoryOf({ audience, publisherUntil }: ShareRecord): number {
    const longest = audience === 'members' ? MEMORY_OF_MEMBERS_MS : MEMORY_MS;
    const ends = publisherUntil === null ? Infinity : publisherUntil.getTime() - this.clock.now();
    return Math.max(1, Math.min(longest, ends));
  }

  /** The share by the guardrails as they stand at this moment. */
  private async judged(token: string): Promise<ShareRecord | null> {
    const found = () => shareByToken(this.db.manager, this.clock.date(), secretHash(token));
    const share = await found();
    if (!share || share.judged) return share;
    await this.guardrails.judge([share.id]);
    return found();
  }

  private forget(which: (share: ShareRecord) => boolean): void {
    for (const [key, known] of this.memory) if (which(known.share)) this.memory.delete(key);
  }

  private remember(key: string, facts: Remembered): void {
    if (this.memory.size >= MOST_REMEMBERED) this.memory.delete(this.memory.keys().next().value as string);
    this.memory.set(key, facts);
  }
}
