import { Inject, Injectable } from '@nestjs/common';
import type { Upkeep } from '@quay/contract';
import { certificateRenewsAt, fallsBack, mappingRenewsAt, renewalWaitMs, SYSTEM_ACTOR } from '@quay/core';
import { measure } from '@quay/probe';
import { DataSource } from 'typeorm';

import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Events } from '../platform/events/events.js';
import { Housekeeping } from '../platform/housekeeping.js';
import { Jobs } from '../platform/jobs/jobs.service.js';
import { LOCKS } from '../platform/locks.js';
import { CertificatesService } from './certificates.service.js';
import { CheckService } from './check.service.js';
import { Dialler } from '../platform/dialler.js';
import { ProofsService } from './proofs.service.js';
import { loadAddresses, type AddressRecord } from './reach.queries.js';
import { RemediesService } from './remedies.service.js';
import { RouterService } from './router.service.js';

const EVERY_MINUTE = '* * * * *';
type Kind = Upkeep['kind'];

/** Renews what lapses before it does, and checks every address on a schedule. One process does it at a time. */
@Injectable()
export class UpkeepService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly dialler: Dialler,
    private readonly router: RouterService,
    private readonly certificates: CertificatesService,
    private readonly remedies: RemediesService,
    private readonly checks: CheckService,
    private readonly events: Events,
    proofs: ProofsService,
    housekeeping: Housekeeping,
    jobs: Jobs,
    @Inject(CONFIG) private readonly config: Config,
  ) {
    housekeeping.add('old proofs', () => proofs.tidy());
    if (config.reach.checkEveryMinutes === 0) return;
    jobs.define(
      'ways-in',
      () => 'Look after the ways in',
      () => this.round(),
    );
    jobs.regularly('ways-in', EVERY_MINUTE);
  }

  /** Everything that is due, once. Another process that is at it already goes on alone. */
  async round(): Promise<void> {
    const runner = this.db.createQueryRunner();
    try {
      const [lock] = (await runner.query('SELECT pg_try_advisory_lock($1) AS got', [LOCKS.upkeep])) as {
        got: boolean;
      }[];
      if (!lock?.got) return;
      try {
        for (const address of await loadAddresses(this.db.manager, this.clock.date())) await this.lookAfter(address);
      } finally {
        await runner.query('SELECT pg_advisory_unlock($1)', [LOCKS.upkeep]);
      }
    } finally {
      await runner.release();
    }
  }

  /** What lapses for an address, when it is renewed, and how that went last. */
  async of(address: AddressRecord): Promise<Upkeep[]> {
    const tried = await this.db.query<{ kind: Kind; failure: string | null }[]>(
      'SELECT kind, failure FROM renewal WHERE address_id = $1',
      [address.id],
    );
    const failure = (kind: Kind) => tried.find((t) => t.kind === kind)?.failure ?? null;
    const mine = (await this.router.rows(null)).filter((m) => m.addressId === address.id && m.endsAt !== null);
    const certificate = address.scheme === 'https' ? await this.certificates.current(address.host) : null;
    const rows: Upkeep[] = mine.map((m) => ({
      kind: 'mapping',
      endsAt: m.endsAt?.toISOString() ?? null,
      renewsAt: new Date(mappingRenewsAt(m.grantedAt.getTime(), (m.endsAt as Date).getTime())).toISOString(),
      failure: failure('mapping'),
      words: `Port ${m.externalPort} on the router (${m.protocol === 'upnp' ? 'UPnP' : m.protocol.toUpperCase()})`,
    }));
    if (certificate)
      rows.push({
        kind: 'certificate',
        endsAt: certificate.notAfter.toISOString(),
        renewsAt: byProgram(address, 'certificate')
          ? new Date(certificateRenewsAt(certificate.notBefore.getTime(), certificate.notAfter.getTime())).toISOString()
          : null,
        failure: failure('certificate'),
        words: `Certificate by ${certificate.issuer}`,
      });
    if (byProgram(address, 'record'))
      rows.push({
        kind: 'record',
        endsAt: null,
        renewsAt: null,
        failure: failure('record'),
        words: 'Record of the name, whenever the line gets another address',
      });
    return rows;
  }

  private async lookAfter(address: AddressRecord): Promise<void> {
    const now = this.clock.now();
    let renewed = false;
    const mine = (await this.router.rows(null)).filter((m) => m.addressId === address.id && m.endsAt !== null);
    if (
      address.wayIn === 'mapping' &&
      mine.some((m) => mappingRenewsAt(m.grantedAt.getTime(), (m.endsAt as Date).getTime()) <= now)
    )
      renewed = (await this.renew(address, 'mapping', () => this.remedies.mapPorts(SYSTEM_ACTOR, address))) || renewed;
    if (byProgram(address, 'record') && (await this.lineMoved(address)))
      renewed =
        (await this.renew(address, 'record', () => this.remedies.updateRecord(SYSTEM_ACTOR, address))) || renewed;
    const certificate = byProgram(address, 'certificate') ? await this.certificates.current(address.host) : null;
    if (certificate && certificateRenewsAt(certificate.notBefore.getTime(), certificate.notAfter.getTime()) <= now)
      renewed =
        (await this.renew(address, 'certificate', () => this.remedies.getCertificate(SYSTEM_ACTOR, address))) ||
        renewed;
    const due =
      address.checkedAt === null || now - address.checkedAt.getTime() >= this.config.reach.checkEveryMinutes * 60_000;
    if (!renewed && !due) return;
    const { mark } = await this.checks.check(address.id, renewed ? 'change' : 'schedule');
    if (this.config.reach.relay === null || !fallsBack(address, address.mark ?? 'unknown', mark)) return;
    await this.remedies.useRelay(SYSTEM_ACTOR, address);
    await this.checks.check(address.id, 'change');
  }

  /** Not before the wait after earlier failures is over; what serves now goes on serving. */
  private async renew(address: AddressRecord, kind: Kind, work: () => Promise<void>): Promise<boolean> {
    const [before] = await this.db.query<{ triedAt: Date; failures: number }[]>(
      'SELECT tried_at AS "triedAt", failures FROM renewal WHERE address_id = $1 AND kind = $2',
      [address.id, kind],
    );
    if (before && this.clock.now() - before.triedAt.getTime() < renewalWaitMs(kind, before.failures)) return false;
    let failure: string | null = null;
    try {
      await work();
    } catch (error) {
      failure = (error as Error).message;
    }
    await this.events.change(async (tx) => {
      await tx.query(
        `INSERT INTO renewal (address_id, kind, tried_at, failure, failures) VALUES ($1, $2, $3, $4, $5)
         ON CONFLICT (address_id, kind) DO UPDATE SET tried_at = $3, failure = $4,
           failures = CASE WHEN $4::text IS NULL THEN 0 ELSE renewal.failures + 1 END`,
        [address.id, kind, this.clock.date(), failure, failure === null ? 0 : 1],
      );
      await this.events.tell(tx, { topic: 'reach', id: address.id });
    });
    return failure === null;
  }

  /** Whether the name leads elsewhere than the line is now. An unknown line is no reason to change anything. */
  private async lineMoved(address: AddressRecord): Promise<boolean> {
    const { line } = await this.router.line();
    if (!line.seenAddress) return false;
    const [server] = await this.db.query<{ address: string }[]>(
      `SELECT address FROM name_server WHERE network = 'public'`,
    );
    if (!server) return false;
    const found = await measure(
      { url: `http://${address.host}`, path: '/', address: '0.0.0.0' },
      { ...this.dialler.way([server.address]), place: () => null },
    );
    return found.lookup?.outcome === 'answered' && found.lookup.addresses[0] !== line.seenAddress;
  }
}

const byProgram = (address: AddressRecord, step: string): boolean => address.guide[step]?.by === 'program';
