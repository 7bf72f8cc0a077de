import { Inject, Injectable } from '@nestjs/common';
import type { ReachCheck, VantageResult } from '@quay/contract';
import {
  addressText,
  lineAddress,
  portOf,
  outsideMark,
  SEEN_WORDS,
  reachMark,
  traceReach,
  traceSeen,
  traceVerdict,
  VANTAGES,
  type AddressFacts,
  type ReachFacts,
  type Vantage,
  SYSTEM_ACTOR,
} from '@quay/core';
import { measure, type At, type Measured, type ProbeAsk } from '@quay/probe';
import { DataSource } from 'typeorm';
import { v7 as uuidv7 } from 'uuid';
import { LedgerService } from '../ledger/ledger.service.js';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Dialler } from '../platform/dialler.js';
import { Events } from '../platform/events/events.js';
import { log } from '../platform/log/log.js';
import { notFound } from '../platform/problems/problem.js';
import { CertificatesService } from './certificates.service.js';
import { ProofsService } from './proofs.service.js';
import { MORE_ADDRESSES } from './measured.js';
import { VantagesService } from './vantages.service.js';
import { loadAddresses, loadChecks, type AddressRecord } from './reach.queries.js';
import { RouterService } from './router.service.js';
import { OwnNetwork } from '../platform/own-network.js';

const INSIDE_MS = 1000;

/** What was found of the office's line and router. */
type LineLooked = Pick<ReachFacts, 'line' | 'mapping' | 'six'> & { exchange: string[] };

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
    private readonly certificates: CertificatesService,
    private readonly events: Events,
    private readonly ledger: LedgerService,
    private readonly network: OwnNetwork,
    private readonly stands: VantagesService,
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
    const [line, insideAnswers, ...looked] = await Promise.all([
      this.lineOf(address),
      this.answersInside(address),
      ...VANTAGES.map((v) => this.look(address, v)),
    ]);
    const outsideConnects = looked.some((l) => l.vantage === 'outside' && l.found?.connect?.outcome === 'connected');
    const nobody = looked.some((l) => l.vantage === 'outside' && !l.found);
    const seen = nobody ? await this.seenFrom(address, line) : null;
    const vantages = looked.map((l): VantageResult => {
      if (!l.found)
        return l.vantage === 'outside' && seen
          ? seen
          : { vantage: l.vantage, trace: null, exchange: [], unavailable: l.unavailable };
      return {
        vantage: l.vantage,
        trace: traceReach({
          ...this.factsOf(address, l.vantage, l.found, line, l.proven),
          insideAnswers,
          outsideConnects,
        }),
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

  /**
   * Whether somebody outside would get in where the name led to an address. @returns false also where nobody stands
   * outside who could look
   */
  async wouldWork(address: AddressRecord, at: string): Promise<boolean> {
    const { found, proven } = await this.look(address, 'outside', at);
    return proven[0] === true && found?.page?.outcome === 'answered' && found.tls?.trusted === true;
  }

  /** What is known of the way in from outside where nobody stands there: somebody came in, not long ago. */
  private async seenFrom(address: AddressRecord, line: LineLooked): Promise<VantageResult | null> {
    const seen = await this.proofs.lastFromOutside(address.id, line.line && lineAddress(line.line));
    if (!seen) return null;
    const kept = address.scheme === 'https' ? await this.certificates.current(address.host) : null;
    const trace = traceSeen({
      ...this.standing(address),
      line: line.line,
      mapping: line.mapping,
      seen,
      openedBy: address.guide['mapping']?.by ?? 'hand',
      certificate: kept && {
        notBefore: kept.notBefore.getTime(),
        notAfter: kept.notAfter.getTime(),
        issuer: kept.issuer,
        names: [kept.host],
      },
    });
    return {
      vantage: 'outside',
      trace,
      exchange: [
        `${new Date(seen.at).toISOString()}  came in ${SEEN_WORDS[seen.by]}, from ${seen.from}`,
        ...line.exchange,
      ],
      unavailable: trace ? null : 'Nobody stands there, and nobody has come in for a day. A proof by telephone tells.',
      seen: { at: new Date(seen.at).toISOString(), by: seen.by },
    };
  }

  /** Whether somebody outside would get a connection at an address; null: nobody stands there who could look. */
  async wouldConnect(address: AddressRecord, at: string): Promise<boolean | null> {
    const { found } = await this.look(address, 'outside', at);
    return found && found.connect?.outcome === 'connected';
  }

  /** Whether somebody inside who comes to this server's own address finds it at the address's port. */
  async answersInside(address: AddressRecord, at = this.network.insideAddress): Promise<boolean> {
    try {
      const socket = await this.dialler.connect(at, portOf(address), INSIDE_MS);
      socket.destroy();
      return true;
    } catch {
      return false;
    }
  }

  /** How an address is meant to be reached. */
  private standing(address: AddressRecord): Pick<ReachFacts, 'wayIn' | 'host' | 'port' | 'at' | 'server'> {
    const { insidePorts } = this.config.reach;
    const port = address.scheme === 'https' ? insidePorts.tls : portOf(address);
    return {
      wayIn: address.wayIn,
      host: address.host,
      port: portOf(address),
      at: this.clock.now(),
      server: { address: this.network.insideAddress, port },
    };
  }

  private factsOf(
    address: AddressRecord,
    vantage: Vantage,
    found: Measured,
    line: LineLooked,
    proven: readonly boolean[],
  ): ReachFacts {
    const [right = false, ...others] = proven;
    return {
      vantage,
      ...this.standing(address),
      lookup: found.lookup,
      recordSetAt: address.guide['record'] ? Date.parse(address.guide['record'].at) : null,
      line: line.line,
      six: line.six,
      mapping: line.mapping,
      redirect: found.redirect,
      ...judgedAt(found, right),
      others: found.others.map((at, i) => judgedAt(at, others[i] === true)),
    };
  }

  private async lineOf(address: AddressRecord): Promise<LineLooked> {
    const six =
      address.wayIn === 'mapping' || address.wayIn === 'fixed' ? await this.router.six(portOf(address)) : null;
    if (address.wayIn !== 'mapping') return { line: null, mapping: null, six, exchange: [] };
    const { line, protocol } = await this.router.line();
    const mapping = await this.router.mapping(portOf(address), protocol);
    const lease = mapping.leaseSecondsLeft === null ? '' : `  lease ${mapping.leaseSecondsLeft} s`;
    return {
      line,
      mapping,
      six,
      exchange: [
        `line  seen as ${line.seenAddress ?? 'unknown'}  router says ${line.routerAddress ?? 'nothing'}`,
        `mapping TCP ${portOf(address)}  ${mapping.outcome}${mapping.internal ? ` → ${mapping.internal.address}:${mapping.internal.port}` : ''}${lease}`,
        ...(six ? [`IPv6  ${six.address}  ${six.opened ? 'let in by the program' : 'not let in by the program'}`] : []),
      ],
    };
  }

  private async look(
    address: AddressRecord,
    vantage: Vantage,
    at: string | null = null,
  ): Promise<{ vantage: Vantage; found: Measured | null; proven: boolean[]; unavailable: string | null }> {
    const nobody = (unavailable: string) => ({ vantage, found: null, proven: [], unavailable });
    if (vantage !== 'office' && !(await this.stands.there(vantage)))
      return nobody(`No probe stands there.${vantage === 'outside' ? ' A proof by telephone tells.' : ''}`);
    const nonces = await this.proofs.makeForCheck(address.id, 1 + MORE_ADDRESSES);
    const [path = '', ...morePaths] = nonces.map((nonce) => `/reach/probe/${nonce}`);
    const { roots } = this.config.reach;
    const ask: ProbeAsk = { url: addressText(address), path, roots, address: at, morePaths };
    try {
      const found =
        vantage === 'office'
          ? await measure(ask, this.dialler.way(this.network.resolvers))
          : await this.stands.ask(vantage, ask);
      return {
        vantage,
        found,
        proven: [found, ...found.others].map((each) =>
          this.proofs.holds(each.page?.body ?? '', nonces[each.asked] ?? ''),
        ),
        unavailable: null,
      };
    } catch (error) {
      return nobody(`The probe there did not answer: ${(error as Error).message}.`);
    }
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

function judgedAt({ connect, tls, page }: At, right: boolean): AddressFacts {
  return {
    connect,
    tls,
    page: page && {
      outcome: page.outcome === 'answered' ? (right ? 'right' : 'wrong-server') : page.outcome,
      status: page.status,
      elapsedMs: page.elapsedMs,
    },
  };
}
