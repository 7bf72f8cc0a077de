import { Inject, Injectable } from '@nestjs/common';
import { createHmac, hkdfSync, randomBytes, timingSafeEqual } from 'node:crypto';
import { DataSource } from 'typeorm';
import type { TelephoneProof } from '@quay/contract';
import { addressScope } from '@quay/core';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Events } from '../platform/events/events.js';
import { secretHash } from '../platform/seal.js';

export type ProofPurpose = 'check' | 'telephone';
const LASTS_MS: Record<ProofPurpose, number> = { check: 60_000, telephone: 600_000 };

export interface SeenRequest {
  from: string;
  protocol: string;
  host: string;
}

/** Nonces that prove that a request came all the way through to this very server. Each counts once. */
@Injectable()
export class ProofsService {
  private readonly key: Buffer;

  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly events: Events,
    @Inject(CONFIG) config: Config,
  ) {
    this.key = Buffer.from(hkdfSync('sha256', config.sealingKey, '', 'reach proof', 32));
  }

  async make(addressId: string, purpose: ProofPurpose): Promise<{ nonce: string; endsAt: Date }> {
    const nonce = randomBytes(18).toString('base64url');
    const endsAt = new Date(this.clock.now() + LASTS_MS[purpose]);
    await this.db.query(
      'INSERT INTO reach_nonce (nonce_hash, address_id, purpose, made_at, ends_at) VALUES ($1, $2, $3, $4, $5)',
      [secretHash(nonce), addressId, purpose, this.clock.date(), endsAt],
    );
    return { nonce, endsAt };
  }

  /**
   * Takes a nonce that came with a request and answers what only this server can: null when it is unknown, too old or
   * was there before.
   */
  async take(nonce: string, seen: SeenRequest): Promise<{ proof: string; purpose: ProofPurpose } | null> {
    const [rows] = (await this.db.query(
      `UPDATE reach_nonce SET seen_at = $2, seen = $3 WHERE nonce_hash = $1 AND seen_at IS NULL AND ends_at > $2
        RETURNING purpose, address_id AS "addressId"`,
      [secretHash(nonce), this.clock.date(), JSON.stringify(seen)],
    )) as [{ purpose: ProofPurpose; addressId: string }[], number];
    const [row] = rows;
    if (!row) return null;
    if (row.purpose === 'telephone')
      await this.events.change((tx) => this.events.tell(tx, { topic: 'reach', id: row.addressId }));
    return { proof: this.proofOf(nonce), purpose: row.purpose };
  }

  /** Whether a page that was fetched holds the proof for a nonce. */
  holds(body: string, nonce: string): boolean {
    const told = /quay-proof ([\w-]{43})/.exec(body)?.[1];
    return told !== undefined && timingSafeEqual(Buffer.from(told), Buffer.from(this.proofOf(nonce)));
  }

  /** The newest proof by telephone of an address, seen or not; null when none was asked for. */
  async telephone(addressId: string): Promise<TelephoneProof['seen']> {
    const [row] = await this.db.query<{ seenAt: Date; seen: SeenRequest }[]>(
      `SELECT seen_at AS "seenAt", seen FROM reach_nonce WHERE address_id = $1 AND purpose = 'telephone'
        AND seen_at IS NOT NULL ORDER BY seen_at DESC LIMIT 1`,
      [addressId],
    );
    if (!row) return null;
    const scope = addressScope(row.seen.from);
    return {
      at: row.seenAt.toISOString(),
      from: row.seen.from,
      protocol: row.seen.protocol,
      outside: scope === 'public' || scope === 'documentation',
    };
  }

  async tidy(): Promise<void> {
    await this.db.query(`DELETE FROM reach_nonce WHERE purpose = 'check' AND ends_at < $1`, [this.clock.date()]);
    await this.db.query(`DELETE FROM acme_challenge WHERE made_at < $1::timestamptz - interval '1 day'`, [
      this.clock.date(),
    ]);
    await this.db.query(`DELETE FROM reach_check c WHERE c.at < $1::timestamptz - interval '90 days'`, [
      this.clock.date(),
    ]);
  }

  private proofOf(nonce: string): string {
    return createHmac('sha256', this.key).update(nonce).digest('base64url');
  }
}
