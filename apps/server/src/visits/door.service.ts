import { Injectable, type OnModuleInit } from '@nestjs/common';
import type { QuayEvent } from '@quay/contract';
import { LRUCache } from 'lru-cache';
import { DataSource } from 'typeorm';
import { Clock } from '../platform/clock.js';
import { Events } from '../platform/events/events.js';
import { secretHash } from '../platform/seal.js';
import { GuardrailsService } from '../shares/guardrails.service.js';
import { frozenFile } from '../shares/frozen.queries.js';
import { shareByToken, type ShareRecord } from '../shares/shares.queries.js';
import { RecipientsService } from './recipients.service.js';
import { fileInShare, folderOfShare, visitByCookie, type VisitRow } from './visits.queries.js';
import type { FileBytes } from '../stores/branch.queries.js';

/** How long facts may be answered from memory at the most, should an event ever be missed. */
const MEMORY_MS = 2000;
const MOST_REMEMBERED = 500;

interface Remembered {
  share: ShareRecord;
  until: number;
  visits: Map<string, VisitRow | null>;
  files: Map<string, FileBytes | null>;
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
  /** Rises with every event, so that facts read before one are not remembered after it. */
  private generation = 0;

  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly events: Events,
    private readonly recipients: RecipientsService,
    private readonly guardrails: GuardrailsService,
  ) {}

  onModuleInit(): void {
    this.events.stream.subscribe((event) => {
      if (!['share', 'node', 'session'].includes(event.topic) && !isWide(event)) return;
      this.generation += 1;
      if (event.topic === 'share') this.forget((share) => share.id === event.id);
      // Somebody has signed in or out: that matters to shares for members alone.
      else if (event.topic === 'session') this.forget((share) => share.audience === 'members');
      else this.memory.clear();
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
    let visit = facts.visits.get(cookie);
    if (visit === undefined) {
      visit = await visitByCookie(this.db.manager, facts.share.id, secretHash(cookie));
      if (visit && !(await this.recipients.admits(facts.share, visit))) visit = null;
      if (visit) facts.visits.set(cookie, visit);
    }
    return visit;
  }

  /** A file of the share, or null when it is not in it (any more). */
  async file(token: string, nodeId: string): Promise<FileBytes | null> {
    const facts = await this.facts(token);
    if (!facts) return null;
    let file = facts.files.get(nodeId);
    if (file === undefined) {
      const { id, frozenIds } = facts.share;
      file = await fileInShare(this.db.manager, id, nodeId);
      if (!file && frozenIds.length > 0) file = await frozenFile(this.db.manager, id, nodeId);
      if (file) facts.files.set(nodeId, file);
    }
    return file;
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
    const { generation } = this;
    const share = await this.judged(key);
    if (!share) return null;
    const facts = { share, until: now + MEMORY_MS, visits: new Map(), files: new Map() };
    if (generation === this.generation) this.remember(key, facts);
    return facts;
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
