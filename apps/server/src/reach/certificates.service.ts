import { Inject, Injectable } from '@nestjs/common';
import { coversName } from '@quay/core';
import { createPrivateKey, X509Certificate } from 'node:crypto';
import { createSecureContext, type SecureContext } from 'node:tls';
import { DataSource } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Events } from '../platform/events/events.js';
import { invalidField } from '../platform/problems/problem.js';
import { seal, unseal } from '../platform/seal.js';

export interface KeptCertificate {
  id: string;
  host: string;
  notBefore: Date;
  notAfter: Date;
  issuer: string;
  /** When the authority would like it to be renewed (RFC 9773); null: it does not say. */
  renewAt: Date | null;
  askAgainAt: Date | null;
}

/** Keeps certificates, their keys sealed, and hands them to the door. */
@Injectable()
export class CertificatesService {
  private readonly contexts = new Map<string, { id: string; context: SecureContext }>();

  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly events: Events,
    @Inject(CONFIG) private readonly config: Config,
  ) {
    // Another process may have got one: the next handshake looks again.
    this.events.stream.subscribe((event) => event.topic === 'reach' && this.contexts.clear());
  }

  /**
   * The certificate that serves a host now: of those that cover it and are valid the newest; null while there is none.
   */
  async current(host: string): Promise<KeptCertificate | null> {
    const rows = await this.db.query<KeptCertificate[]>(
      `SELECT id, host, not_before AS "notBefore", not_after AS "notAfter", issuer, renew_at AS "renewAt",
              ask_again_at AS "askAgainAt" FROM certificate
        WHERE not_before <= $1 ORDER BY not_after > $1 DESC, obtained_at DESC, id DESC LIMIT 200`,
      [this.clock.date()],
    );
    return rows.find((r) => coversName([r.host], host)) ?? null;
  }

  /** From when until when the certificates hold that serve addresses now; milliseconds. */
  async lasting(): Promise<{ host: string; since: number; until: number }[]> {
    const addresses = await this.db.query<{ host: string }[]>(
      `SELECT DISTINCT host FROM address WHERE scheme = 'https' ORDER BY host`,
    );
    const lasting: { host: string; since: number; until: number }[] = [];
    for (const { host } of addresses) {
      const certificate = await this.current(host);
      if (!certificate) continue;
      lasting.push({ host, since: certificate.notBefore.getTime(), until: certificate.notAfter.getTime() });
    }
    return lasting;
  }

  /** For a handshake: the context of the host's certificate, made once; null while there is none. */
  async context(host: string): Promise<SecureContext | null> {
    const known = this.contexts.get(host);
    if (known) return known.context;
    const certificate = await this.current(host);
    if (!certificate) return null;
    const [row] = await this.db.query<{ chain: string; key: Buffer }[]>(
      'SELECT chain, key_sealed AS key FROM certificate WHERE id = $1',
      [certificate.id],
    );
    if (!row) return null;
    const context = createSecureContext({
      cert: row.chain,
      key: unseal(this.config.sealingKey, row.key),
      minVersion: 'TLSv1.2',
    });
    if (this.contexts.size > 100) this.contexts.clear();
    this.contexts.set(host, { id: certificate.id, context });
    return context;
  }

  /**
   * Takes a certificate that was got by hand. @throws Problem certificate.unreadable, .other-name, .other-key, .expired
   */
  async take(host: string, chain: string, key: string): Promise<KeptCertificate> {
    let leaf: X509Certificate;
    let secret: ReturnType<typeof createPrivateKey>;
    try {
      leaf = new X509Certificate(chain);
      secret = createPrivateKey(key);
      createSecureContext({ cert: chain, key });
    } catch (error) {
      const otherKey = /key values mismatch/i.test((error as Error).message);
      throw otherKey
        ? invalidField('key', 'certificate.other-key', 'The key belongs to another certificate.')
        : invalidField('chain', 'certificate.unreadable', 'That is no certificate with its key, as PEM.');
    }
    if (!leaf.checkPrivateKey(secret))
      throw invalidField('key', 'certificate.other-key', 'The key belongs to another certificate.');
    if (!leaf.checkHost(host, { subject: 'never' }))
      throw invalidField('chain', 'certificate.other-name', `The certificate is not for ${host}.`);
    if (Date.parse(leaf.validTo) <= this.clock.now())
      throw invalidField('chain', 'certificate.expired', 'The certificate has ended.');
    return this.keep(host, chain, key);
  }

  /** Keeps a certificate and its key; from the next handshake on it is served. */
  async keep(host: string, chain: string, key: string): Promise<KeptCertificate> {
    const leaf = new X509Certificate(chain);
    const kept: KeptCertificate = {
      id: uuidv7(),
      host,
      notBefore: new Date(leaf.validFrom),
      notAfter: new Date(leaf.validTo),
      issuer: issuerOf(leaf),
      renewAt: null,
      askAgainAt: null,
    };
    await this.events.change(async (tx) => {
      await tx.query(
        `INSERT INTO certificate (id, host, chain, key_sealed, not_before, not_after, issuer, obtained_at)
          VALUES ($1, $2, $3, $4, $5, $6, $7, $8)`,
        [
          kept.id,
          host,
          chain,
          seal(this.config.sealingKey, key),
          kept.notBefore,
          kept.notAfter,
          kept.issuer,
          this.clock.date(),
        ],
      );
      await this.events.tell(tx, { topic: 'reach', id: host });
    });
    return kept;
  }

  /** The chain of a certificate, as PEM. */
  async chain(id: string): Promise<string> {
    const [row] = await this.db.query<{ chain: string }[]>('SELECT chain FROM certificate WHERE id = $1', [id]);
    return row?.chain ?? '';
  }

  /** Keeps when the authority would like a certificate to be renewed. @param renewAt null: it does not say */
  async keepWish(
    { id, host, renewAt: before }: KeptCertificate,
    { renewAt, why, askAgainAt }: { renewAt: number | null; why: string | null; askAgainAt: number },
  ): Promise<void> {
    // A moment that was chosen stays, as long as the authority does not want it earlier.
    const chosen = renewAt === null || (before !== null && before.getTime() <= renewAt) ? before : new Date(renewAt);
    await this.events.change(async (tx) => {
      await tx.query('UPDATE certificate SET renew_at = $2, renew_why = $3, ask_again_at = $4 WHERE id = $1', [
        id,
        chosen,
        why,
        new Date(askAgainAt),
      ]);
      await this.events.tell(tx, { topic: 'reach', id: host });
    });
  }
}

/** Who has signed a certificate, by the name that people know. */
export const issuerOf = ({ issuer }: X509Certificate): string =>
  /(?:^|\n)O=(.*)/.exec(issuer)?.[1] ?? /(?:^|\n)CN=(.*)/.exec(issuer)?.[1] ?? issuer;
