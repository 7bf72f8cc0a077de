import { Injectable, type OnModuleInit } from '@nestjs/common';
import type { QuayEvent } from '@quay/contract';
import { actBits } from '@quay/core';
import { LRUCache } from 'lru-cache';
import { DataSource } from 'typeorm';
import { bitsReached, seenIn, type AccessPlace, type ReachOfRoots } from '../access/access.queries.js';
import { AccessService } from '../access/access.service.js';
import { Events } from '../platform/events/events.js';
import { hasDuty } from '../people/duties.js';
import type { Who } from '../people/who.js';

const MANAGES = actBits(['see', 'read', 'manage']);
/** Answers that a burst of events asks for again and again are remembered for this long. */
const REMEMBERED_MS = 1000;

/** Which events somebody who is signed in may hear: of what they could look at, and of nothing else. */
@Injectable()
export class StaffEars implements OnModuleInit {
  private readonly reaches = new LRUCache<string, Promise<ReachOfRoots>>({ max: 1000, ttl: REMEMBERED_MS });
  private readonly places = new LRUCache<string, Promise<AccessPlace | null>>({ max: 5000, ttl: REMEMBERED_MS });
  private readonly intakes = new LRUCache<string, Promise<{ owner: string; folderId: string } | null>>({
    ...{ max: 1000, ttl: REMEMBERED_MS },
  });
  private readonly ownerOfShare = new LRUCache<string, Promise<string | null>>({ max: 5000, ttl: REMEMBERED_MS });

  constructor(
    private readonly db: DataSource,
    private readonly access: AccessService,
    private readonly events: Events,
  ) {}

  onModuleInit(): void {
    this.events.stream.subscribe((event) => {
      if (event.topic !== 'access' && event.topic !== 'missed') return;
      this.reaches.clear();
      this.places.clear();
    });
  }

  async mayHear(who: Who, event: QuayEvent): Promise<boolean> {
    switch (event.topic) {
      case 'node':
      case 'preview':
        return this.sees(who, event.id);
      case 'store':
        return (await this.reach(who)).stores.has(event.id);
      case 'share':
        return who.role === 'admin' || (await this.ownerOf(event.id)) === who.personId;
      case 'intake':
        return who.role === 'admin' || (await this.isTheirIntake(who, event.id));
      case 'ledger':
        return hasDuty(who, 'see-ledger') || (await this.concerns(who, event));
      case 'task':
        return hasDuty(who, 'run-server');
      // That something changed in who may do what, and not what; how an address stands is seen by all who publish.
      case 'access':
      case 'missed':
      case 'reach':
      case 'session':
        return true;
    }
  }

  /** The ledger shows staff what they did, and what happened to their shares. */
  private async concerns(who: Who, event: QuayEvent): Promise<boolean> {
    if (event.personId === who.personId) return true;
    if (!event.shareId) return false;
    return (await this.ownerOf(event.shareId)) === who.personId;
  }

  /** Theirs who made it, and theirs who manage the folder. */
  private async isTheirIntake(who: Who, id: string): Promise<boolean> {
    const intake = await once(this.intakes, id, async () => {
      const [row] = await this.db.query<{ owner: string; folderId: string }[]>(
        'SELECT created_by AS owner, folder_id AS "folderId" FROM intake WHERE id = $1',
        [id],
      );
      return row ?? null;
    });
    if (intake === null) return false;
    if (intake.owner === who.personId) return true;
    const place = await once(this.places, intake.folderId, () => this.access.placeOf(intake.folderId));
    return place !== null && (bitsReached(await this.reach(who), place, who.personId) & MANAGES) === MANAGES;
  }

  private async sees(who: Who, nodeId: string): Promise<boolean> {
    const place = await once(this.places, nodeId, () => this.access.placeOf(nodeId));
    return place !== null && seenIn(await this.reach(who), place, who.personId);
  }

  private reach(who: Who): Promise<ReachOfRoots> {
    return once(this.reaches, who.personId, () => this.access.reachOf(who));
  }

  private ownerOf(shareId: string): Promise<string | null> {
    return once(this.ownerOfShare, shareId, async () => {
      const rows = await this.db.query<{ owner: string }[]>('SELECT created_by AS owner FROM share WHERE id = $1', [
        shareId,
      ]);
      return rows[0]?.owner ?? null;
    });
  }
}

/** Asks once for all who ask at the same time. What could not be asked is not remembered. */
function once<T>(cache: LRUCache<string, Promise<T>>, key: string, ask: () => Promise<T>): Promise<T> {
  const known = cache.get(key);
  if (known) return known;
  const asked = ask();
  cache.set(key, asked);
  asked.catch(() => cache.delete(key));
  return asked;
}
