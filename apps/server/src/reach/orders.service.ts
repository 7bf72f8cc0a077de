import { Inject, Injectable } from '@nestjs/common';
import type { CertificateOrder } from '@quay/contract';
import {
  asksAgainMs,
  caaForbids,
  dayInWords,
  orderWords,
  renewsWithin,
  SYSTEM_ACTOR,
  type OrderStep,
  type ProofKind,
} from '@quay/core';
import { X509Certificate } from 'node:crypto';
import { DataSource } from 'typeorm';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { OwnNetwork } from '../platform/own-network.js';
import { Dialler } from '../platform/dialler.js';
import { Events } from '../platform/events/events.js';
import { Jobs } from '../platform/jobs/jobs.service.js';
import { log } from '../platform/log/log.js';
import { Office } from '../platform/office.js';
import { Problem } from '../platform/problems/problem.js';
import { AccountsService } from './accounts.service.js';
import { authorityClient, insideOf, isAccountUnknown, type Directory } from './authority.js';
import { isTrustedChain } from './chain-trust.js';
import { CertificatesService, issuerOf, type KeptCertificate } from './certificates.service.js';
import { CheckService } from './check.service.js';
import { NameProofs } from './name-proofs.service.js';
import { orderCertificate } from './order.js';
import { loadAddresses, type AddressRecord } from './reach.queries.js';
import { readRenewalWish, renewalName } from './renewal-info.js';
import { StepsService, type Actor, type By } from './steps.service.js';
import { ZoneService } from './zone.service.js';

/** Whoever works on an order is heard of more often than this; another may take it up after it. */
const SILENT_MS = 60_000;
const WISH_MS = 5000;
const WITHOUT_WISH_MS = 86_400_000;

export const noAuthority = (): Problem =>
  new Problem('conflict', 'reach.no-authority', 'No certificate authority is configured.');

interface OrderRow {
  actor: Actor;
  step: OrderStep;
  kind: ProofKind | null;
  askedAt: Date;
  failure: string | null;
}

/** Orders certificates, which takes as long as the authority takes: as a job, whose progress can be watched. */
@Injectable()
export class OrdersService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly dialler: Dialler,
    private readonly events: Events,
    private readonly jobs: Jobs,
    private readonly office: Office,
    private readonly accounts: AccountsService,
    private readonly certificates: CertificatesService,
    private readonly proofs: NameProofs,
    private readonly zone: ZoneService,
    private readonly network: OwnNetwork,
    private readonly steps: StepsService,
    private readonly checks: CheckService,
    @Inject(CONFIG) private readonly config: Config,
  ) {
    jobs.define<{ addressId: string; host: string }>(
      'certificates',
      ({ host }) => `Get a certificate for ${host}`,
      ({ addressId }) => this.work(addressId),
    );
  }

  /** Asks for a certificate: work that is begun at once. What is under way already goes on. @throws Problem reach.no-authority */
  async ask(actor: Actor, address: AddressRecord): Promise<CertificateOrder> {
    if (!this.network.authority) throw noAuthority();
    await this.events.change(async (tx) => {
      const now = this.clock.date();
      await tx.query(
        `INSERT INTO certificate_order AS o (address_id, actor, step, asked_at, touched_at)
          VALUES ($1, $2, 'waiting', $3, $3)
         ON CONFLICT (address_id) DO UPDATE SET actor = $2, step = 'waiting', kind = NULL, asked_at = $3, touched_at = $3,
           failure = NULL WHERE o.failure IS NOT NULL OR o.touched_at < $4`,
        [address.id, JSON.stringify(actor), now, new Date(now.getTime() - SILENT_MS)],
      );
      await this.jobs.handIn(tx, 'certificates', { addressId: address.id, host: address.host }, { key: address.id });
      await this.events.tell(tx, { topic: 'reach', id: address.id });
    });
    this.jobs.hurry('certificates');
    return (await this.of(address.id)) as CertificateOrder;
  }

  /** What is under way for an address, or failed last; null: nothing. */
  async of(addressId: string): Promise<CertificateOrder | null> {
    const row = await this.row(addressId);
    return (
      row && {
        step: row.step,
        words: orderWords(row.step, row.kind),
        askedAt: row.askedAt.toISOString(),
        failure: row.failure,
      }
    );
  }

  /** Takes up what nobody is at any more: the process that was has ended. */
  async takeUp(): Promise<void> {
    const silent = await this.db.query<{ addressId: string; host: string }[]>(
      `SELECT o.address_id AS "addressId", a.host FROM certificate_order o JOIN address a ON a.id = o.address_id
        WHERE o.failure IS NULL AND o.touched_at < $1`,
      [new Date(this.clock.now() - SILENT_MS)],
    );
    for (const order of silent)
      await this.db.transaction((tx) => this.jobs.handIn(tx, 'certificates', order, { key: order.addressId }));
  }

  /** A certificate came, from wherever: the address serves it, and is looked at. */
  async came(actor: Actor, address: AddressRecord, { notAfter }: KeptCertificate, by: By): Promise<void> {
    const { zone } = await this.office.settings();
    const until = dayInWords(notAfter.getTime(), this.clock.now(), zone);
    const entry = { kind: 'reach.certificate', detail: { host: address.host, until } };
    await this.steps.record(actor, address, 'certificate', entry, by);
    if (by === 'hand') await this.end(address.id);
  }

  /** Asks the authority when a certificate is to be renewed, when it is time to ask (RFC 9773). */
  async askForWish(certificate: KeptCertificate): Promise<void> {
    const { authority } = this.network;
    if (!authority || (certificate.askAgainAt && certificate.askAgainAt.getTime() > this.clock.now())) return;
    const wish = await this.wishFor(certificate, authority).catch((error: unknown) => {
      log.info({ err: error }, 'the authority did not say when to renew');
      return null;
    });
    await this.certificates.keepWish(certificate, {
      renewAt: wish && renewsWithin(wish.window, Math.random()),
      why: wish?.why ?? null,
      askAgainAt: this.clock.now() + (wish ? asksAgainMs(wish.askAgainMs) : WITHOUT_WISH_MS),
    });
  }

  private async wishFor(certificate: KeptCertificate, directory: string) {
    const name = renewalName(await this.certificates.chain(certificate.id));
    const asked = await this.dialler.http('GET', directory, {}, null, WISH_MS);
    const { renewalInfo } = JSON.parse(asked.text) as Directory;
    if (!name || typeof renewalInfo !== 'string') return null;
    const { status, text, headers } = await this.dialler.http('GET', `${renewalInfo}/${name}`, {}, null, WISH_MS);
    return status === 200 ? readRenewalWish(text, headers['retry-after']) : null;
  }

  /** The job: once more from the beginning, wherever another was interrupted. */
  private async work(addressId: string): Promise<void> {
    const [address] = await loadAddresses(this.db.manager, this.clock.date(), addressId);
    const row = await this.row(addressId);
    if (!address || !row || !(await this.claim(addressId))) return;
    try {
      const kept = await this.obtain(address);
      await this.came(row.actor, address, kept, 'program');
    } catch (error) {
      const failure = `The certificate authority gave no certificate for ${address.host}: ${(error as Error).message.slice(0, 2000)}`;
      log.warn({ err: error, host: address.host }, 'no certificate was got');
      await this.events.change(async (tx) => {
        await tx.query('UPDATE certificate_order SET failure = $2 WHERE address_id = $1', [addressId, failure]);
        await this.events.tell(tx, { topic: 'reach', id: addressId });
      });
      if (row.actor.kind === SYSTEM_ACTOR.kind) await this.steps.renewed(addressId, 'certificate', failure);
      return;
    }
    await this.checks.check(addressId, 'remedy').finally(() => this.end(addressId));
  }

  /** Takes an order that waits, or that nobody is at any more. @returns false: somebody else is at it */
  private async claim(addressId: string): Promise<boolean> {
    const now = this.clock.date();
    const [rows] = (await this.db.query(
      `UPDATE certificate_order SET step = 'ordering', kind = NULL, touched_at = $2
        WHERE address_id = $1 AND failure IS NULL AND (step = 'waiting' OR touched_at < $3) RETURNING 1`,
      [addressId, now, new Date(now.getTime() - SILENT_MS)],
    )) as [object[], number];
    return rows.length > 0;
  }

  private async end(addressId: string): Promise<void> {
    await this.events.change(async (tx) => {
      await tx.query('DELETE FROM certificate_order WHERE address_id = $1', [addressId]);
      await this.events.tell(tx, { topic: 'reach', id: addressId });
    });
  }

  private async obtain(address: AddressRecord, again = false): Promise<KeptCertificate> {
    const { authority: directory } = this.network;
    const { roots } = this.config.reach;
    if (!directory) throw new Error('none is configured');
    const { default: acme } = await import('acme-client');
    const account = await this.accounts.of(directory);
    const client = await authorityClient(account, roots);
    let last: [OrderStep, ProofKind | null] = ['ordering', null];
    const say = (step: OrderStep, kind: ProofKind | null) => this.say(address.id, ...(last = [step, kind]));
    try {
      await say('ordering', null);
      await this.requireAllowed(address.host, await insideOf(client).http.getDirectory());
      if (!account.url) await client.createAccount({ termsOfServiceAgreed: true });
      const newKey = await acme.crypto.createPrivateEcdsaKey();
      const [key, request] = await acme.crypto.createCsr(
        { commonName: address.host, altNames: [address.host] },
        newKey,
      );
      const before = await this.certificates.current(address.host);
      const chain = await orderCertificate(
        client,
        {
          host: address.host,
          request,
          replaces: before?.renewAt ? renewalName(await this.certificates.chain(before.id)) : null,
        },
        await this.proofs.of(address, () => say(...last)),
        say,
      );
      await this.requireNoWorse(before, chain);
      return await this.certificates.keep(address.host, chain, key.toString());
    } catch (error) {
      // An authority that began anew knows nobody: the key is good for another account there.
      if (again || !account.url || !isAccountUnknown(error)) throw error;
      await this.accounts.keepUrl(directory, null);
      return this.obtain(address, true);
    } finally {
      if (!account.url) await this.accounts.keepUrl(directory, accountUrlOf(client));
    }
  }

  /** What visitors trust goes on serving. @throws Error where nobody would trust what would take its place */
  private async requireNoWorse(before: KeptCertificate | null, chain: string): Promise<void> {
    const { roots } = this.config.reach;
    if (!before || before.notAfter.getTime() <= this.clock.now() || isTrustedChain(chain, roots)) return;
    if (!isTrustedChain(await this.certificates.chain(before.id), roots)) return;
    const issuer = issuerOf(new X509Certificate(chain));
    throw new Error(
      `what it gave is signed by ${issuer}, which nobody trusts yet. The one that is served now stays. If the authority has a new root, name it under "roots"`,
    );
  }

  /** @throws Error where the zone says that others give certificates for the name (RFC 8659) */
  private async requireAllowed(host: string, { meta }: Directory): Promise<void> {
    const identities = meta?.caaIdentities ?? [];
    if (identities.length === 0) return;
    const others = caaForbids(await this.zone.caa(host), identities);
    if (others)
      throw new Error(
        `the zone lets ${others.length > 0 ? `only ${others.join(' and ')}` : 'nobody'} give certificates for it (CAA). Add there: ${host} CAA 0 issue "${identities[0]}"`,
      );
  }

  /** @throws Error when the address is not there any more */
  private async say(addressId: string, step: OrderStep, kind: ProofKind | null): Promise<void> {
    await this.events.change(async (tx) => {
      const [rows] = (await tx.query(
        `UPDATE certificate_order o SET step = $2, kind = $3, touched_at = $4 FROM certificate_order before
          WHERE o.address_id = $1 AND before.address_id = $1
          RETURNING (before.step, before.kind) IS DISTINCT FROM (o.step, o.kind) AS moved`,
        [addressId, step, kind, this.clock.date()],
      )) as [{ moved: boolean }[], number];
      if (rows.length === 0) throw new Error('the address was removed');
      if (rows[0]?.moved) await this.events.tell(tx, { topic: 'reach', id: addressId });
    });
  }

  private async row(addressId: string): Promise<OrderRow | null> {
    const [row] = await this.db.query<OrderRow[]>(
      `SELECT actor, step, kind, asked_at AS "askedAt", failure FROM certificate_order
        WHERE address_id = $1`,
      [addressId],
    );
    return row ?? null;
  }
}

/** The address of the account, once there is one. */
function accountUrlOf(client: { getAccountUrl: () => string }): string | null {
  try {
    return client.getAccountUrl();
  } catch {
    return null;
  }
}
