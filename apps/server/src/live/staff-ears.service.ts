import { Injectable } from '@nestjs/common';
import type { QuayEvent } from '@quay/contract';
import { LRUCache } from 'lru-cache';
import { DataSource } from 'typeorm';
import type { Who } from '../people/who.js';
import { AccessService } from '../stores/access.service.js';

/** Answers that a burst of events asks for again and again are remembered for this long. */
const REMEMBERED_MS = 1000;

/** Which events somebody who is signed in may hear: of what they could look at, and of nothing else. */
@Injectable()
export class StaffEars {
  private readonly storesOf = new LRUCache<string, Promise<Set<string>>>({ max: 1000, ttl: REMEMBERED_MS });
  private readonly storeOfNode = new LRUCache<string, Promise<string | null>>({ max: 5000, ttl: REMEMBERED_MS });
  private readonly ownerOfShare = new LRUCache<string, Promise<string | null>>({ max: 5000, ttl: REMEMBERED_MS });

  constructor(
    private readonly db: DataSource,
    private readonly access: AccessService,
  ) {}

  async mayHear(who: Who, event: QuayEvent): Promise<boolean> {
    switch (event.topic) {
      case 'node':
      case 'preview':
        return this.reaches(who, await this.once(this.storeOfNode, event.id, STORE_OF_NODE));
      case 'store':
        return this.reaches(who, event.id);
      case 'share':
        return who.role === 'admin' || (await this.once(this.ownerOfShare, event.id, OWNER_OF_SHARE)) === who.personId;
      case 'ledger':
        return who.role === 'admin' || (await this.concerns(who, event));
      case 'task':
        return who.role === 'admin';
      // How an address stands is seen by everybody who publishes.
      case 'reach':
      case 'session':
        return true;
    }
  }

  /** The ledger shows staff what they did, and what happened to their shares. */
  private async concerns(who: Who, event: QuayEvent): Promise<boolean> {
    if (event.personId === who.personId) return true;
    if (!event.shareId) return false;
    return (await this.once(this.ownerOfShare, event.shareId, OWNER_OF_SHARE)) === who.personId;
  }

  private async reaches(who: Who, storeId: string | null): Promise<boolean> {
    if (storeId === null) return false;
    let stores = this.storesOf.get(who.personId);
    if (!stores) {
      stores = this.access.storesAt(who, 'view').then((ids) => new Set(ids));
      this.storesOf.set(who.personId, stores);
    }
    return (await stores).has(storeId);
  }

  private once(cache: LRUCache<string, Promise<string | null>>, id: string, sql: string): Promise<string | null> {
    const known = cache.get(id);
    if (known) return known;
    const asked = this.db.query<{ found: string }[]>(sql, [id]).then((rows) => rows[0]?.found ?? null);
    cache.set(id, asked);
    // What could not be asked is not remembered.
    asked.catch(() => cache.delete(id));
    return asked;
  }
}

const STORE_OF_NODE = 'SELECT store_id AS found FROM node WHERE id = $1';
const OWNER_OF_SHARE = 'SELECT created_by AS found FROM share WHERE id = $1';
