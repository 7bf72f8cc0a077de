import { Inject, Injectable } from '@nestjs/common';
import type { Upkeep } from '@quay/contract';
import {
  certificateRenewsAt,
  fallsBack,
  isSameAddress,
  isSharedLine,
  lineAddress,
  mappingRenewsAt,
  portOf,
  renewalWaitMs,
  SYSTEM_ACTOR,
} from '@quay/core';
import { measure } from '@quay/probe';
import { isIP } from 'node:net';
import { DataSource } from 'typeorm';

import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Housekeeping } from '../platform/housekeeping.js';
import { Jobs } from '../platform/jobs/jobs.service.js';
import { log } from '../platform/log/log.js';
import { LOCKS } from '../platform/locks.js';
import { CertificatesService, type KeptCertificate } from './certificates.service.js';
import { CheckService } from './check.service.js';
import { Dialler } from '../platform/dialler.js';
import { OwnNetwork } from '../platform/own-network.js';
import { LookoutsService } from './lookouts.service.js';
import { ProofsService } from './proofs.service.js';
import { loadAddresses, type AddressRecord } from './reach.queries.js';
import { RelayLines } from './relay-lines.js';
import { RemediesService } from './remedies.service.js';
import { OrdersService } from './orders.service.js';
import { RouterService } from './router.service.js';
import { StepsService } from './steps.service.js';
import { ZoneService } from './zone.service.js';

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
    private readonly orders: OrdersService,
    private readonly steps: StepsService,
    private readonly lines: RelayLines,
    private readonly zone: ZoneService,
    private readonly network: OwnNetwork,
    proofs: ProofsService,
    lookouts: LookoutsService,
    housekeeping: Housekeeping,
    jobs: Jobs,
    @Inject(CONFIG) private readonly config: Config,
  ) {
    housekeeping.add('old proofs', () => proofs.tidy());
    housekeeping.add('codes that nobody took', () => lookouts.tidy());
    if (config.reach.checkEveryMinutes === 0) return;
    jobs.define(
      'ways-in',
      () => 'Look after the ways in',
      async () => {
        await this.round();
      },
    );
    jobs.regularly('ways-in', EVERY_MINUTE);
  }

  /** Everything that is due, once. @returns false when another round is at it already, which goes on alone */
  async round(): Promise<boolean> {
    const runner = this.db.createQueryRunner();
    try {
      const [lock] = (await runner.query('SELECT pg_try_advisory_lock($1) AS got', [LOCKS.upkeep])) as {
        got: boolean;
      }[];
      if (!lock?.got) return false;
      try {
        await this.orders.takeUp();
        for (const address of await loadAddresses(this.db.manager, this.clock.date())) await this.lookAfter(address);
        return true;
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
      words: `Port ${m.externalPort} ${m.inside === null ? 'on the router' : "in the router's firewall for IPv6"} (${m.protocol === 'upnp' ? 'UPnP' : m.protocol.toUpperCase()})`,
    }));
    if (certificate)
      rows.push({
        kind: 'certificate',
        endsAt: certificate.notAfter.toISOString(),
        renewsAt: byProgram(address, 'certificate') ? new Date(renewsAt(certificate)).toISOString() : null,
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
    if ((address.wayIn === 'mapping' || address.fellFrom === 'mapping') && (await this.mappingsLapse(address, now)))
      renewed = (await this.renew(address, 'mapping', () => this.remedies.mapPorts(SYSTEM_ACTOR, address))) || renewed;
    if (byProgram(address, 'record') && (await this.lineMoved(address)))
      renewed =
        (await this.renew(address, 'record', () => this.remedies.updateRecord(SYSTEM_ACTOR, address))) || renewed;
    const certificate = byProgram(address, 'certificate') ? await this.certificates.current(address.host) : null;
    if (certificate) {
      await this.orders.askForWish(certificate);
      // As a job: how it went is told when it has ended.
      if (renewsAt(certificate) <= now && (await this.mayTry(address, 'certificate')))
        await this.orders.ask(SYSTEM_ACTOR, address);
    }
    const due =
      address.checkedAt === null || now - address.checkedAt.getTime() >= this.config.reach.checkEveryMinutes * 60_000;
    if (!renewed && !due) return;
    const { mark } = await this.checks.check(address.id, renewed ? 'change' : 'schedule');
    if (address.fellFrom) return this.triedAside(address, this.comeBack(address, address.fellFrom));
    if (!fallsBack(address, address.mark ?? 'unknown', mark) || !(await this.lines.invitation())) return;
    await this.triedAside(address, this.fall(address));
  }

  /** Through the relay, where that answers; where it does not, the next check tries again. */
  private async fall(address: AddressRecord): Promise<void> {
    await this.remedies.useRelay(SYSTEM_ACTOR, address, { byItself: true });
    await this.checks.check(address.id, 'change');
  }

  /** What fails for one address stops none of the others, and is tried again by the next round. */
  private async triedAside(address: AddressRecord, work: Promise<void>): Promise<void> {
    await work.catch((error: unknown) =>
      log.warn({ err: error, address: address.host }, 'the way in could not be changed by itself'),
    );
  }

  /** By the own way again, once somebody outside gets in by it. */
  private async comeBack(address: AddressRecord, wayIn: 'mapping' | 'fixed'): Promise<void> {
    const line = lineAddress((await this.router.line()).line);
    if (!line || !(await this.checks.wouldWork(address, line))) return;
    await this.remedies.useOwnWay(SYSTEM_ACTOR, address, wayIn);
    await this.checks.check(address.id, 'change');
  }

  /** Whether a mapping is to be made again: half of its lease is over, or the router has forgotten it. */
  private async mappingsLapse(address: AddressRecord, now: number): Promise<boolean> {
    const mine = (await this.router.rows(null)).filter((m) => m.addressId === address.id);
    // What is let in to an address of before lets nobody in.
    const moved = mine.some((m) => m.inside !== null && m.inside !== this.network.insideAddress6);
    const isHalfOver = mine.some((m) => m.endsAt && mappingRenewsAt(m.grantedAt.getTime(), m.endsAt.getTime()) <= now);
    return moved || isHalfOver || (await this.router.forgotten(mine)).length > 0;
  }

  /** Not before the wait after earlier failures is over; what serves now goes on serving. */
  private async renew(address: AddressRecord, kind: Kind, work: () => Promise<void>): Promise<boolean> {
    if (!(await this.mayTry(address, kind))) return false;
    let failure: string | null = null;
    try {
      await work();
    } catch (error) {
      failure = (error as Error).message;
    }
    await this.steps.renewed(address.id, kind, failure);
    return failure === null;
  }

  private async mayTry(address: AddressRecord, kind: Kind): Promise<boolean> {
    const [before] = await this.db.query<{ triedAt: Date; failures: number }[]>(
      'SELECT tried_at AS "triedAt", failures FROM renewal WHERE address_id = $1 AND kind = $2',
      [address.id, kind],
    );
    return !before || this.clock.now() - before.triedAt.getTime() >= renewalWaitMs(kind, before.failures);
  }

  /** Whether the name leads elsewhere than the line is now. An unknown line is no reason to change anything. */
  private async lineMoved(address: AddressRecord): Promise<boolean> {
    const [{ line }, six, told] = await Promise.all([
      this.router.line(),
      this.router.six(portOf(address)),
      this.toldNow(address),
    ]);
    if (told === null) return false;
    const leads = (to: string) => told.some((a) => isSameAddress(a, to));
    const present = lineAddress(line);
    if (present && !leads(present) && !(isSharedLine(line) && six && leads(six.address))) return true;
    // Over IPv6: what was opened is to be told, and what the program told before and is not this machine's any more, not.
    if (six?.opened && !leads(six.address) && (await this.checks.answersInside(address, six.address))) return true;
    return address.recorded.some((a) => a.includes(':') && a !== six?.address && leads(a));
  }

  /** Where the name leads by the word of its own name servers; null: they could not be asked, or will not say. */
  private async toldNow(address: AddressRecord): Promise<string[] | null> {
    const [server] = await this.db.query<{ address: string; port: number }[]>(
      `SELECT address, port FROM name_server WHERE network = 'public'`,
    );
    if (!server || !isIP(server.address)) return this.zone.addressesOf(address.host);
    const found = await measure(
      { url: `http://${address.host}`, path: '/', address: '0.0.0.0' },
      { ...this.dialler.way([server.address], server.port), place: () => null },
    );
    if (found.lookup?.outcome === 'no-such-name' || found.lookup?.outcome === 'no-address') return [];
    return found.lookup?.outcome === 'answered' ? found.lookup.addresses : null;
  }
}

/** When a certificate is renewed: when its authority wishes, but never later than usual. */
function renewsAt({ notBefore, notAfter, renewAt }: KeptCertificate): number {
  const usually = certificateRenewsAt(notBefore.getTime(), notAfter.getTime());
  return Math.min(renewAt?.getTime() ?? usually, usually);
}

const byProgram = (address: AddressRecord, step: string): boolean => address.guide[step]?.by === 'program';
