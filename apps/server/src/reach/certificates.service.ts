import { Inject, Injectable } from '@nestjs/common';
import { coversName } from '@quay/core';
import { createPrivateKey, X509Certificate } from 'node:crypto';
import { createSecureContext, type SecureContext } from 'node:tls';
import { DataSource } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Events } from '../platform/events/events.js';
import { invalidField, Problem } from '../platform/problems/problem.js';
import { seal, unseal } from '../platform/seal.js';
import { NameServersService } from './name-servers.service.js';

export interface KeptCertificate {
  id: string;
  host: string;
  notBefore: Date;
  notAfter: Date;
  issuer: string;
}

const ACME_MS = 60_000;
/** The client of authorities, loaded when a certificate is got: a start need not wait for it. */
async function acmeClient() {
  const { default: acme } = await import('acme-client');
  // An authority that is out of order is asked again by the upkeep, not by whoever waits for an answer.
  const settings = (acme.axios.defaults as { acmeSettings?: object }).acmeSettings;
  Object.assign(acme.axios.defaults, {
    acmeSettings: { ...settings, retryMaxAttempts: 2, retryDefaultDelay: 1 },
  });
  return acme;
}
/** RFC 8555 §8.4: the digest is looked up by the authority, which may remember an old answer this long. */
const TXT_TTL_SECONDS = 60;

/** Gets certificates by ACME (RFC 8555), keeps them with their keys sealed, and hands them to the door. */
@Injectable()
export class CertificatesService {
  private readonly contexts = new Map<string, { id: string; context: SecureContext }>();

  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly events: Events,
    private readonly names: NameServersService,
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
      `SELECT id, host, not_before AS "notBefore", not_after AS "notAfter", issuer FROM certificate
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
   * Orders a certificate for a host and keeps it. What serves now goes on serving when that fails. @throws Problem
   * reach.no-authority, reach.certificate-failed
   */
  async obtain(host: string): Promise<KeptCertificate> {
    const directoryUrl = this.config.reach.acmeDirectory;
    if (!directoryUrl) throw new Problem('conflict', 'reach.no-authority', 'No certificate authority is configured.');
    try {
      const acme = await acmeClient();
      const newKey = () => acme.crypto.createPrivateEcdsaKey();
      const client = new acme.Client({
        directoryUrl,
        accountKey: await this.accountKey(directoryUrl, newKey),
        backoffAttempts: 6,
        backoffMin: 250,
        backoffMax: 3000,
      });
      const [key, request] = await acme.crypto.createCsr({ commonName: host, altNames: [host] }, await newKey());
      const byRecord = await this.names.canUpdate('public', `_acme-challenge.${host}`);
      const chain = await withinTime(
        client.auto({
          csr: request,
          termsOfServiceAgreed: true,
          skipChallengeVerification: true,
          challengePriority: byRecord ? ['dns-01', 'http-01'] : ['http-01'],
          challengeCreateFn: (authorization, challenge, proof) =>
            this.show(authorization.identifier.value, challenge, proof),
          challengeRemoveFn: (authorization, challenge) => this.hide(authorization.identifier.value, challenge),
        }),
      );
      return await this.keep(host, chain, key.toString());
    } catch (error) {
      if (error instanceof Problem) throw error;
      throw new Problem(
        'conflict',
        'reach.certificate-failed',
        `The certificate authority gave no certificate for ${host}: ${(error as Error).message.slice(0, 300)}`,
      );
    }
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
      issuer: /(?:^|\n)O=(.*)/.exec(leaf.issuer)?.[1] ?? /(?:^|\n)CN=(.*)/.exec(leaf.issuer)?.[1] ?? leaf.issuer,
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

  /** What is to be answered at a path of a proof; null when nothing was asked for there. */
  async challenge(token: string): Promise<string | null> {
    const [row] = await this.db.query<{ proof: string }[]>('SELECT proof FROM acme_challenge WHERE token = $1', [
      token,
    ]);
    return row?.proof ?? null;
  }

  private async show(host: string, challenge: { type: string; token: string }, proof: string): Promise<void> {
    if (challenge.type === 'dns-01')
      await this.names.update('public', [
        { name: `_acme-challenge.${host}`, type: 'TXT', value: proof, ttlSeconds: TXT_TTL_SECONDS },
      ]);
    else
      await this.db.query(
        'INSERT INTO acme_challenge (token, proof, made_at) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING',
        [challenge.token, proof, this.clock.date()],
      );
  }

  private async hide(host: string, challenge: { type: string; token: string }): Promise<void> {
    if (challenge.type === 'dns-01')
      await this.names.update('public', [{ name: `_acme-challenge.${host}`, type: 'TXT', value: null, ttlSeconds: 0 }]);
    else await this.db.query('DELETE FROM acme_challenge WHERE token = $1', [challenge.token]);
  }

  private async accountKey(directory: string, newKey: () => Promise<Buffer>): Promise<string> {
    const load = async () =>
      (
        await this.db.query<{ key: Buffer }[]>('SELECT key_sealed AS key FROM acme_account WHERE directory = $1', [
          directory,
        ])
      )[0]?.key;
    const made = (await newKey()).toString();
    // Two processes may come here at once: the first key counts.
    if (!(await load()))
      await this.db.query('INSERT INTO acme_account (directory, key_sealed) VALUES ($1, $2) ON CONFLICT DO NOTHING', [
        directory,
        seal(this.config.sealingKey, made),
      ]);
    return unseal(this.config.sealingKey, (await load()) as Buffer);
  }
}

async function withinTime<T>(work: Promise<T>): Promise<T> {
  let timer: NodeJS.Timeout | undefined;
  const late = new Promise<never>(
    (_, reject) => (timer = setTimeout(() => reject(new Error('it took longer than a minute')), ACME_MS)),
  );
  return Promise.race([work, late]).finally(() => clearTimeout(timer));
}
