import { Inject, Injectable } from '@nestjs/common';
import type { ReachCheck, VantageResult } from '@quay/contract';
import {
  addressText,
  portOf,
  outsideMark,
  reachMark,
  traceReach,
  traceVerdict,
  VANTAGES,
  type ReachFacts,
  type Vantage,
  SYSTEM_ACTOR,
} from '@quay/core';
import { measure, type Measured, type ProbeAsk } from '@quay/probe';
import { DataSource } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';
import { LedgerService } from '../ledger/ledger.service.js';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Dialler } from '../platform/dialler.js';
import { Events } from '../platform/events/events.js';
import { log } from '../platform/log/log.js';
import { notFound } from '../platform/problems/problem.js';
import { ProofsService } from './proofs.service.js';
import { loadAddresses, loadChecks, type AddressRecord } from './reach.queries.js';
import { RouterService } from './router.service.js';

/** A probe measures for 4.6 s at most; the rest is for the way to it. */
const PROBE_MS = 4900;

/** A check of an address, and the one that follows it where somebody has asked meanwhile. */
interface UnderWay {
  now: Promise<ReachCheck>;
  next: Promise<ReachCheck> | null;
}

/** Follows the way in to an address from every vantage at once, with real exchanges, and keeps what was found. */
@Injectable()
export class CheckService {
  private readonly running = new Map<string, UnderWay>();

  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly dialler: Dialler,
    private readonly router: RouterService,
    private readonly proofs: ProofsService,
    private readonly events: Events,
    private readonly ledger: LedgerService,
    @Inject(CONFIG) private readonly config: Config,
  ) {}

  /**
   * Checks once more, also while a check is under way: that one may have looked before whatever changed that somebody
   * asks about. All who ask meanwhile get the next one's result.
   */
  check(addressId: string, why: ReachCheck['why']): Promise<ReachCheck> {
    const under = this.running.get(addressId);
    if (!under) return this.begin(addressId, why);
    under.next ??= under.now.then(
      () => this.begin(addressId, why),
      () => this.begin(addressId, why),
    );
    return under.next;
  }

  private begin(addressId: string, why: ReachCheck['why']): Promise<ReachCheck> {
    const now = this.run(addressId, why);
    const entry: UnderWay = { now, next: null };
    this.running.set(addressId, entry);
    return now.finally(() => entry.next ?? this.running.delete(addressId));
  }

  /** After a change nobody waits for the check; what goes wrong with it is told to the log. */
  checkAside(addressId: string, why: ReachCheck['why']): void {
    this.check(addressId, why).catch((error: unknown) =>
      log.warn({ err: error, addressId }, 'a check of the way in did not come to an end'),
    );
  }

  private async run(addressId: string, why: ReachCheck['why']): Promise<ReachCheck> {
    const [address] = await loadAddresses(this.db.manager, this.clock.date(), addressId);
    if (!address) throw notFound('This address');
    const began = performance.now();
    const [line, ...looked] = await Promise.all([this.lineOf(address), ...VANTAGES.map((v) => this.look(address, v))]);
    const vantages = looked.map((l): VantageResult => {
      if (!l.found) return { vantage: l.vantage, trace: null, exchange: [], unavailable: l.unavailable };
      return {
        vantage: l.vantage,
        trace: traceReach(this.factsOf(address, l.vantage, l.found, line, l.right)),
        exchange: [...l.found.exchange, ...line.exchange],
        unavailable: null,
      };
    });
    const check: ReachCheck = {
      id: uuidv7(),
      at: this.clock.date().toISOString(),
      why,
      tookMs: Math.round(performance.now() - began),
      mark: reachMark(address.wayIn, vantages),
      vantages,
    };
    await this.keep(address, check);
    return check;
  }

  private factsOf(
    address: AddressRecord,
    vantage: Vantage,
    found: Measured,
    line: Pick<ReachFacts, 'line' | 'mapping'>,
    right: boolean,
  ): ReachFacts {
    const { insideAddress, insidePorts } = this.config.reach;
    const { page } = found;
    return {
      vantage,
      wayIn: address.wayIn,
      host: address.host,
      port: portOf(address),
      at: this.clock.now(),
      server: { address: insideAddress, port: address.scheme === 'https' ? insidePorts.tls : portOf(address) },
      lookup: found.lookup,
      line: line.line,
      mapping: line.mapping,
      connect: found.connect,
      tls: found.tls,
      redirect: found.redirect,
      page: page && {
        outcome: page.outcome === 'answered' ? (right ? 'right' : 'wrong-server') : page.outcome,
        status: page.status,
        elapsedMs: page.elapsedMs,
      },
    };
  }

  private async lineOf(address: AddressRecord): Promise<Pick<ReachFacts, 'line' | 'mapping'> & { exchange: string[] }> {
    if (address.wayIn !== 'mapping') return { line: null, mapping: null, exchange: [] };
    const { line, protocol } = await this.router.line();
    const mapping = await this.router.mapping(portOf(address), protocol);
    const lease = mapping.leaseSecondsLeft === null ? '' : `  lease ${mapping.leaseSecondsLeft} s`;
    return {
      line,
      mapping,
      exchange: [
        `line  seen as ${line.seenAddress ?? 'unknown'}  router says ${line.routerAddress ?? 'nothing'}`,
        `mapping TCP ${portOf(address)}  ${mapping.outcome}${mapping.internal ? ` → ${mapping.internal.address}:${mapping.internal.port}` : ''}${lease}`,
      ],
    };
  }

  private async look(
    address: AddressRecord,
    vantage: Vantage,
  ): Promise<{ vantage: Vantage; found: Measured | null; right: boolean; unavailable: string | null }> {
    const { nonce } = await this.proofs.make(address.id, 'check');
    const ask: ProbeAsk = { url: addressText(address), path: `/reach/probe/${nonce}`, roots: this.config.reach.roots };
    try {
      const found =
        vantage === 'office'
          ? await measure(ask, this.dialler.way(this.config.reach.resolvers))
          : await this.askProbe(vantage, ask);
      return {
        vantage,
        found,
        right: this.proofs.holds(found?.page?.body ?? '', nonce),
        unavailable: found ? null : 'No probe stands there.',
      };
    } catch (error) {
      return {
        vantage,
        found: null,
        right: false,
        unavailable: `The probe there did not answer: ${(error as Error).message}.`,
      };
    }
  }

  private async askProbe(vantage: Exclude<Vantage, 'office'>, ask: ProbeAsk): Promise<Measured | null> {
    const probe = this.config.reach.probes[vantage];
    if (!probe) return null;
    const { status, text } = await this.dialler.http(
      'POST',
      probe.url,
      { authorization: `Bearer ${probe.token}`, 'content-type': 'application/json' },
      JSON.stringify(ask),
      PROBE_MS,
      100_000,
    );
    const found = status === 200 ? readMeasured(text) : null;
    if (!found)
      throw new Error(
        status === 200 ? 'it answers something that is no measurement' : `it answers with the status ${status}`,
      );
    return found;
  }

  private async keep(address: AddressRecord, check: ReachCheck): Promise<void> {
    const [before] = await loadChecks(this.db.manager, address.id, 1);
    await this.events.change(async (tx) => {
      await tx.query(
        `INSERT INTO reach_check (id, address_id, at, why, took_ms, mark, outside, vantages)
          VALUES ($1, $2, $3, $4, $5, $6, $7, $8)`,
        [
          check.id,
          address.id,
          check.at,
          check.why,
          check.tookMs,
          check.mark,
          outsideMark(check.vantages),
          JSON.stringify(check.vantages),
        ],
      );
      await this.events.tell(tx, { topic: 'reach', id: address.id });
      const [was, is] = [before?.mark === 'fail', check.mark === 'fail'];
      if (!before || was === is || address.wayIn === 'office') return;
      const trace = check.vantages.find((v) => v.vantage === 'outside')?.trace ?? [];
      const reason = trace.find((s) => s.stage === traceVerdict(trace).stage)?.reason ?? '';
      await this.ledger.append(tx, {
        kind: is ? 'reach.lost' : 'reach.found',
        actor: SYSTEM_ACTOR,
        detail: { address: addressText(address), ...(is && { reason }) },
      });
    });
  }
}

/**
 * What a probe answered; null when it is not a measurement. Probes stand elsewhere: what they say is looked at before
 * it is believed.
 */
export function readMeasured(text: string): Measured | null {
  try {
    const m = JSON.parse(text) as Measured;
    const object = (v: unknown) => v === null || (typeof v === 'object' && !Array.isArray(v));
    const texts = (v: unknown): boolean =>
      Array.isArray(v) && v.length <= 50 && v.every((t) => typeof t === 'string' && t.length <= 500);
    const sound =
      m !== null &&
      typeof m === 'object' &&
      [m.lookup, m.connect, m.tls, m.redirect, m.page].every(object) &&
      texts(m.exchange) &&
      (!m.lookup || texts(m.lookup.addresses)) &&
      (!m.tls || (texts(m.tls.names) && typeof m.tls.issuer === 'string')) &&
      (!m.connect || typeof m.connect.address === 'string') &&
      (!m.page || typeof m.page.body === 'string');
    return sound
      ? {
          lookup: m.lookup ?? null,
          connect: m.connect ?? null,
          tls: m.tls ?? null,
          redirect: m.redirect ?? null,
          page: m.page ?? null,
          exchange: m.exchange,
        }
      : null;
  } catch {
    return null;
  }
}
