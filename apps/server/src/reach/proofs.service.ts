import { Inject, Injectable } from '@nestjs/common';
import { createHmac, hkdfSync, randomBytes, timingSafeEqual } from 'node:crypto';
import { DataSource } from 'typeorm';
import type { TelephoneProof } from '@quay/contract';
import { isSameAddress, SEEN_HOLDS_MS, type SeenFromOutside } from '@quay/core';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Events } from '../platform/events/events.js';
import { OwnNetwork } from '../platform/own-network.js';
import { secretHash } from '../platform/seal.js';

export type ProofPurpose = 'check' | 'telephone';
const LASTS_MS: Record<ProofPurpose, number> = { check: 60_000, telephone: 86_400_000 };

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
    private readonly network: OwnNetwork,
    @Inject(CONFIG) config: Config,
  ) {
    this.key = Buffer.from(hkdfSync('sha256', config.sealingKey, '', 'reach proof', 32));
  }

  /** For somebody's telephone. */
  async make(addressId: string): Promise<{ nonce: string; endsAt: Date }> {
    const { nonces, endsAt } = await this.makeSome(addressId, 'telephone', 1);
    return { nonce: nonces[0] as string, endsAt };
  }

  /** For a check of so many addresses. */
  async makeForCheck(addressId: string, count: number): Promise<string[]> {
    return (await this.makeSome(addressId, 'check', count)).nonces;
  }

  private async makeSome(
    addressId: string,
    purpose: ProofPurpose,
    count: number,
  ): Promise<{ nonces: string[]; endsAt: Date }> {
    const nonces = Array.from({ length: count }, () => randomBytes(18).toString('base64url'));
    const endsAt = new Date(this.clock.now() + LASTS_MS[purpose]);
    await this.db.query(
      `INSERT INTO reach_nonce (nonce_hash, address_id, purpose, made_at, ends_at)
        SELECT hash, $2, $3, $4, $5 FROM unnest($1::bytea[]) hash`,
      [nonces.map(secretHash), addressId, purpose, this.clock.date(), endsAt],
    );
    return { nonces, endsAt };
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
        AND seen_at IS NOT NULL ORDER BY seen_at DESC, made_at DESC LIMIT 1`,
      [addressId],
    );
    if (!row) return null;
    return {
      at: row.seenAt.toISOString(),
      from: row.seen.from,
      protocol: row.seen.protocol,
      outside: this.network.isOutside(row.seen.from),
    };
  }

  /**
   * Who came in last from outside by an address, as far as is remembered: by a proof on a telephone, or by opening a share.
   * @param line the office's own: whoever seems to come from there was inside, and sent back in by the router
   */
  async lastFromOutside(addressId: string, line: string | null): Promise<SeenFromOutside | null> {
    const since = new Date(this.clock.now() - SEEN_HOLDS_MS);
    const [telephone, visits] = await Promise.all([
      this.telephone(addressId),
      this.db.query<{ at: Date; from: string }[]>(
        `SELECT v.began_at AS at, v.from_address AS "from" FROM visit v JOIN share s ON s.id = v.share_id
          WHERE s.address_id = $1 AND v.began_at > $2 ORDER BY v.began_at DESC LIMIT 100`,
        [addressId, since],
      ),
    ]);
    const isOutside = (from: string) => this.network.isOutside(from) && !(line && isSameAddress(from, line));
    const visit = visits.find(({ from }) => isOutside(from));
    const seen: SeenFromOutside[] = [
      ...(telephone && isOutside(telephone.from)
        ? [
            {
              at: Date.parse(telephone.at),
              by: 'telephone' as const,
              from: telephone.from,
              encrypted: telephone.protocol === 'HTTPS',
            },
          ]
        : []),
      ...(visit ? [{ at: visit.at.getTime(), by: 'visitor' as const, from: visit.from, encrypted: true }] : []),
    ];
    return seen.sort((a, b) => b.at - a.at)[0] ?? null;
  }

  async tidy(): Promise<void> {
    await this.db.query(
      `DELETE FROM reach_nonce WHERE ends_at < $1 AND (purpose = 'check' OR ends_at < $1::timestamptz - interval '90 days')`,
      [this.clock.date()],
    );
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
