import { Inject, Injectable } from '@nestjs/common';
import { PROOF_KINDS, type ProofKind } from '@quay/core';
import { createSecureContext, type SecureContext } from 'node:tls';
import { setTimeout as pause } from 'node:timers/promises';
import { DataSource } from 'typeorm';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Events } from '../platform/events/events.js';
import { NotProven, type Proving } from './order.js';
import { NameServersService } from './name-servers.service.js';
import type { AddressRecord } from './reach.queries.js';
import { ZoneService } from './zone.service.js';

/** RFC 8555 §8.4: the digest is looked up by the authority, whose resolver may remember the last one this long. */
const TXT_TTL_SECONDS = 1;
/** Until every process of this server has heard that a handshake shall show a proof. */
const HEARD_MS = 300;
/** What a handshake says that wants to see a proof (RFC 8737 §3). */
export const PROOF_PROTOCOL = 'acme-tls/1';

/** Shows authorities that a name is this office's: in the zone, on port 80, or in a handshake. */
@Injectable()
export class NameProofs {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly events: Events,
    private readonly names: NameServersService,
    private readonly zone: ZoneService,
    @Inject(CONFIG) private readonly config: Config,
  ) {}

  /** What can be shown for an address. @param beat called while something is waited for */
  async of(address: AddressRecord, beat: () => Promise<void>): Promise<Proving> {
    const { host } = address;
    const record = await this.zone.endOf(`_acme-challenge.${host}`);
    const inZone = await this.names.canUpdate('public', record, 'TXT');
    const open: Record<ProofKind, boolean> = {
      'dns-01': inZone,
      // A relay sends plain requests on to where there is no certificate yet.
      'http-01': address.wayIn !== 'relay',
      'tls-alpn-01': this.config.reach.tls !== null || address.wayIn === 'relay',
    };
    return {
      kinds: PROOF_KINDS.filter((kind) => open[kind]),
      show: async (kind, token, proof) => {
        if (kind === 'dns-01') return this.showInZone(record, proof, beat);
        await this.db.query(
          'INSERT INTO acme_challenge (token, proof, host, made_at) VALUES ($1, $2, $3, $4) ON CONFLICT DO NOTHING',
          [token, proof, kind === 'tls-alpn-01' ? host.toLowerCase() : null, this.clock.date()],
        );
        if (kind === 'tls-alpn-01') await this.tell(host);
      },
      hide: async (kind, token) => {
        if (kind === 'dns-01') await this.names.update('public', [txt(record, null)]);
        else await this.db.query('DELETE FROM acme_challenge WHERE token = $1', [token]);
        if (kind === 'tls-alpn-01') await this.tell(host);
      },
    };
  }

  /** What is to be answered on port 80; null when nothing was asked for there. */
  async onPort80(token: string): Promise<string | null> {
    const [row] = await this.db.query<{ proof: string }[]>(
      'SELECT proof FROM acme_challenge WHERE token = $1 AND host IS NULL',
      [token],
    );
    return row?.proof ?? null;
  }

  /** The names for which a handshake may ask for a proof now. */
  async inHandshakes(): Promise<string[]> {
    const rows = await this.db.query<{ host: string }[]>(
      'SELECT DISTINCT host FROM acme_challenge WHERE host IS NOT NULL',
    );
    return rows.map((row) => row.host);
  }

  /** The certificate that shows the proof (RFC 8737 §3); null when none is asked for. */
  async inHandshake(host: string): Promise<SecureContext | null> {
    const [row] = await this.db.query<{ proof: string }[]>(
      'SELECT proof FROM acme_challenge WHERE host = $1 ORDER BY made_at DESC LIMIT 1',
      [host],
    );
    if (!row) return null;
    const { default: acme } = await import('acme-client');
    const [key, cert] = await acme.crypto.createAlpnCertificate({ identifier: { value: host } } as never, row.proof);
    return createSecureContext({ key, cert });
  }

  private async showInZone(record: string, proof: string, beat: () => Promise<void>): Promise<void> {
    await this.names.update('public', [txt(record, proof)]);
    await this.zone.toldEverywhere(record, proof, beat).catch((error: Error) => {
      throw new NotProven('dns-01', `dns-01: ${error.message}`);
    });
  }

  private async tell(host: string): Promise<void> {
    await this.events.change((tx) => this.events.tell(tx, { topic: 'reach', id: host }));
    await pause(HEARD_MS);
  }
}

const txt = (name: string, value: string | null) =>
  ({ name, type: 'TXT', value, ttlSeconds: value === null ? 0 : TXT_TTL_SECONDS }) as const;
