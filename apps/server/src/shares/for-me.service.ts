import { Inject, Injectable } from '@nestjs/common';
import type { SeenAs, SharedWithMe } from '@quay/contract';
import { holdsAt, needsCode, shareLink } from '@quay/core';
import { canonicalAddress } from '@quay/core/recipients';
import { DataSource } from 'typeorm';
import { loadAskers } from '../access/access-facts.js';
import type { Who } from '../people/who.js';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { notFound } from '../platform/problems/problem.js';
import { unseal } from '../platform/seal.js';
import { sharesFor } from './audience.queries.js';
import { isClosedTo } from './rows.js';
import { couldBeOpened, sharesById, stateOf, type ShareRecord } from './shares.queries.js';

/** Shares that are told of to one person. */
const MOST_TOLD = 50;

/** What is shared with somebody who has an account: by name, by a group, or by their mail address. */
@Injectable()
export class ForMeService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    @Inject(CONFIG) private readonly config: Config,
  ) {}

  /** Those that are open or will be, the newest first. */
  async list({ personId }: Who): Promise<SharedWithMe[]> {
    return (await this.records(personId)).map((share) => ({
      ...this.told(share),
      link: shareLink(share.address, unseal(this.config.sealingKey, share.tokenSealed)),
    }));
  }

  /** The same of somebody else, as far as whoever looks may see those shares, and without what opens them. */
  async listAs(who: Who, personId: string): Promise<Pick<SeenAs, 'shares' | 'hiddenShares'>> {
    const all = await this.records(personId);
    const seen = all.filter((share) => maySee(who, share));
    return {
      shares: seen.map((share) => ({ ...this.told(share), id: share.id })),
      hiddenShares: all.length - seen.length,
    };
  }

  /** One of those. @throws Problem not-found: it is not for them, or not whoever looks' to see */
  async oneAs(who: Who, personId: string, shareId: string): Promise<ShareRecord> {
    const share = (await this.records(personId)).find(({ id }) => id === shareId);
    if (!share || !maySee(who, share)) throw notFound('This share');
    return share;
  }

  private told(share: ShareRecord): Omit<SharedWithMe, 'link'> {
    return {
      ...{ title: share.title, sender: share.creatorName },
      state: stateOf(share, this.clock.now()) === 'open' ? 'open' : 'scheduled',
      opensAt: share.opensAt?.toISOString() ?? null,
      closesAt: share.closesAt?.toISOString() ?? null,
      hasPassword: share.passwordHash !== null,
      byCode: needsCode(share.audience),
    };
  }

  private async records(personId: string): Promise<ShareRecord[]> {
    const m = this.db.manager;
    const at = this.clock.date();
    const now = at.getTime();
    const [asker] = await loadAskers(m, [personId]);
    const [person] = await m.query<{ email: string; guest: boolean; sponsorId: string | null }[]>(
      `SELECT email, role = 'guest' AS guest, sponsor_id AS "sponsorId" FROM person WHERE id = $1`,
      [personId],
    );
    if (!asker || !person) return [];
    const ids = await sharesFor(
      m,
      {
        personId,
        groupIds: asker.groups.filter((g) => holdsAt(g, now)).map((g) => g.groupId),
        // A guest for whom nobody answers is known by nobody's word.
        address: person.guest && person.sponsorId === null ? null : canonicalAddress(person.email),
        vouchedBy: person.guest ? person.sponsorId : null,
      },
      at,
      MOST_TOLD,
    );
    return (await sharesById(m, at, ids)).filter((share) => couldBeOpened(share, now));
  }
}

/** The admin sees all but what is from homes, others what they made. */
const maySee = (who: Who, share: ShareRecord): boolean =>
  !isClosedTo(who, share) && (who.role === 'admin' || share.createdBy === who.personId);
