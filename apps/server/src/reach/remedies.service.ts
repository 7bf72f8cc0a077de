import { Inject, Injectable } from '@nestjs/common';
import type { ReachCheck, RemedyAct, RemedyAnswer } from '@quay/contract';
import {
  addressText,
  isSameAddress,
  isSharedLine,
  lineAddress,
  portOf,
  type GuideStep,
  type Stage,
  type Vantage,
} from '@quay/core';
import { DataSource } from 'typeorm';
import { CONFIG, type Config } from '../platform/config.js';
import { log } from '../platform/log/log.js';
import { Problem } from '../platform/problems/problem.js';
import { CertificatesService } from './certificates.service.js';
import { CheckService } from './check.service.js';
import { ExposureService } from './exposure.service.js';
import { NameServersService } from './name-servers.service.js';
import { GUIDE_OF_NAME, type AddressRecord } from './reach.queries.js';
import { RelayLines } from './relay-lines.js';
import { RouterService } from './router.service.js';
import { OwnNetwork } from '../platform/own-network.js';
import { OrdersService } from './orders.service.js';
import { ZoneService } from './zone.service.js';
import { StepsService, type Actor } from './steps.service.js';

const RECORD_TTL_SECONDS = 300;
const RELAY_WAIT_MS = 6000;
/** What a router may refuse over IPv4 and grant over IPv6. */
const ONLY_FOUR: ReadonlySet<string> = new Set(['reach.no-mapping-protocol', 'reach.mapping-refused']);

/** What the program can do about a way in that does not work, and the steps of a guide: the same acts. */
@Injectable()
export class RemediesService {
  constructor(
    private readonly db: DataSource,
    private readonly names: NameServersService,
    private readonly zone: ZoneService,
    private readonly router: RouterService,
    private readonly certificates: CertificatesService,
    private readonly checks: CheckService,
    private readonly lines: RelayLines,
    private readonly exposure: ExposureService,
    private readonly steps: StepsService,
    private readonly orders: OrdersService,
    private readonly network: OwnNetwork,
    @Inject(CONFIG) private readonly config: Config,
  ) {}

  /** Does it, then checks again; what takes long is begun. @throws Problem with what stood in the way */
  async act(actor: Actor, address: AddressRecord, act: RemedyAct, vantage: Vantage): Promise<RemedyAnswer> {
    switch (act) {
      case 'update-record':
        await this.updateRecord(actor, address);
        break;
      case 'map-port':
        await this.mapPorts(actor, address);
        break;
      case 'get-certificate':
        return { order: await this.orders.ask(actor, address) };
      case 'redirect-on':
        await this.redirect(actor, address);
        break;
      case 'office-record':
        await this.insideRecord(actor, address, vantage === 'guest' ? 'guest' : 'office');
        break;
      case 'use-relay':
        await this.useRelay(actor, address);
        break;
    }
    return this.checks.check(address.id, 'remedy');
  }

  /** One step of the guide, by the program. */
  async step(actor: Actor, address: AddressRecord, step: GuideStep): Promise<RemedyAnswer> {
    const acts: Partial<Record<GuideStep, RemedyAct>> = {
      record: 'update-record',
      mapping: 'map-port',
      certificate: 'get-certificate',
      redirect: 'redirect-on',
      relay: 'use-relay',
    };
    const act = acts[step];
    return act ? this.act(actor, address, act, 'outside') : this.verify(address, step);
  }

  /** A step that was done by hand counts when a check finds it done. @throws Problem reach.step-not-seen */
  async verify(address: AddressRecord, step: GuideStep): Promise<ReachCheck> {
    const check = await this.checks.check(address.id, 'remedy');
    const stages: Record<GuideStep, Stage[]> = {
      record: ['name'],
      mapping: ['line', 'router', 'port'],
      relay: ['port'],
      certificate: ['certificate'],
      redirect: ['redirect'],
      closed: ['page'],
    };
    const trace = check.vantages.find((v) => v.vantage === 'outside')?.trace;
    if (!trace)
      throw new Problem(
        'conflict',
        'reach.no-vantage',
        'No probe stands outside and nobody came in from there, so nobody can see whether it is done. Open the code under By telephone on a telephone, and look again.',
      );
    if (step === 'closed') await this.requireClosed(address);
    const open = trace.find((s) => stages[step].includes(s.stage) && s.mark !== 'ok' && s.mark !== 'skipped');
    if (open)
      throw new Problem(
        'conflict',
        'reach.step-not-seen',
        open.mark === 'not-reached'
          ? 'An earlier step still stops the way in, so this one cannot be seen yet.'
          : `It cannot be seen yet. ${open.reason}`,
      );
    await this.steps.seen(address.id, step);
    return check;
  }

  /** @throws Problem reach.exposed, with what answers and should not */
  private async requireClosed(address: AddressRecord): Promise<void> {
    const { rows } = await this.exposure.look(address);
    const wrong = rows.filter((r) => r.verdict === 'open-but-should-not');
    if (wrong.length > 0)
      throw new Problem(
        'conflict',
        'reach.exposed',
        `From outside answers what should not: ${wrong.map((r) => `${r.what} (${r.path || `TCP ${r.port}`})`).join(', ')}.`,
      );
  }

  async updateRecord(actor: Actor, address: AddressRecord): Promise<void> {
    await this.tellRecord(actor, address, await this.setRecord(address));
  }

  private async tellRecord(actor: Actor, address: AddressRecord, value: string): Promise<void> {
    await this.steps.record(actor, address, 'record', {
      kind: 'reach.record',
      detail: { name: address.host, value, network: 'public' },
    });
  }

  /** @returns where the name leads from now on */
  private async setRecord(address: AddressRecord): Promise<string> {
    const leadTo = await this.leadTo(address);
    if (leadTo.length === 0)
      throw new Problem(
        'unavailable',
        'reach.line-unknown',
        address.wayIn === 'relay'
          ? 'The relay has not said where names must lead.'
          : 'Neither the router nor the world could tell the address of the line.',
      );
    const end = await this.zone.endOf(address.host);
    if (end !== address.host.toLowerCase())
      throw new Problem(
        'conflict',
        'reach.other-name',
        `${address.host} is another name for ${end} (CNAME), so it can have no address of its own. Remove that record, or change ${end}.`,
      );
    // Of the family that is not named any more nothing is left.
    await this.names.update(
      'public',
      (['A', 'AAAA'] as const).map((type) => ({
        name: address.host,
        type,
        value: leadTo.find((a) => a.includes(':') === (type === 'AAAA')) ?? null,
        ttlSeconds: RECORD_TTL_SECONDS,
      })),
    );
    await this.db.query('UPDATE address SET recorded = $2 WHERE id = $1', [address.id, leadTo]);
    return leadTo.join(', ');
  }

  /**
   * The port of the address, and port 80 for the redirect and the authority's proof, over IPv4 and IPv6. Where only one of
   * the two can be had, that is enough; what is not the office's own stays as it is.
   */
  async mapPorts(actor: Actor, address: AddressRecord): Promise<void> {
    const refused = await this.mapFour(address).then(
      () => null,
      (error: unknown) => error,
    );
    if (refused !== null && !(refused instanceof Problem && ONLY_FOUR.has(refused.code))) throw refused;
    const opened = await this.openSix(address);
    if (refused !== null && !opened) throw refused;
    await this.steps.record(actor, address, 'mapping', {
      kind: 'reach.mapping',
      detail: { port: portOf(address), address: addressText(address) },
    });
    // The name leads to both from now on, where the program looks after it.
    if (opened && address.guide['record']?.by === 'program' && !address.recorded.some((a) => a.includes(':')))
      await this.updateRecord(actor, address);
  }

  /** @returns whether people come in over IPv6 now; what stands in the way keeps nobody from coming by IPv4 */
  private async openSix(address: AddressRecord): Promise<boolean> {
    const six = this.network.insideAddress6;
    if (six === null || !(await this.checks.answersInside(address, six))) return false;
    try {
      await this.router.openSix(address.id, portOf(address), six);
      if (portOf(address) !== 80) await this.router.openSix(address.id, 80, six);
      return true;
    } catch (error) {
      if (!(error instanceof Problem)) throw error;
      log.info({ err: error }, 'the firewall for IPv6 was not opened');
      return (await this.router.six(portOf(address)))?.opened === true;
    }
  }

  private async mapFour(address: AddressRecord): Promise<void> {
    const { insidePorts } = this.config.reach;
    await this.router.map(address.id, portOf(address), insidePorts.tls);
    // Routers have pages of their own on port 80: without it only the redirect is missing, which the check tells.
    if (portOf(address) !== 80)
      await this.router.map(address.id, 80, insidePorts.plain).catch((error: unknown) => {
        if (!(error instanceof Problem) || error.code === 'reach.no-mapping-protocol') throw error;
        log.info({ err: error }, 'port 80 could not be opened');
      });
  }

  /** Serves a certificate that was got by hand from the next handshake on; it is not renewed by the program. */
  async ownCertificate(actor: Actor, address: AddressRecord, chain: string, key: string): Promise<void> {
    const kept = await this.certificates.take(address.host, chain, key);
    await this.orders.came(actor, address, kept, 'hand');
    this.checks.checkAside(address.id, 'change');
  }

  /**
   * Reaches an address through the relay from now on, once that passes its name on; until then everything stays as it was.
   * Where the name server can be told, the name follows.
   * @param byItself the own way failed, and is taken again when it works
   */
  async useRelay(actor: Actor, address: AddressRecord, { byItself = false } = {}): Promise<void> {
    if (!(await this.lines.invitation()))
      throw new Problem('conflict', 'reach.no-relay', 'No relay is known to this server.');
    const trouble = await this.lines.standing(address.host, RELAY_WAIT_MS);
    if (trouble) throw new Problem('unavailable', 'reach.relay-away', `The relay cannot be used now: ${trouble}.`);
    const { wayIn } = address;
    const relayed: AddressRecord = { ...address, wayIn: 'relay' };
    const canUpdate = await this.names.canUpdate('public', address.host);
    const value = canUpdate ? await this.setRecord(relayed) : null;
    if (wayIn !== 'relay')
      await this.db.query(
        `UPDATE address SET way_in = 'relay', fell_from = $2, guide = ${GUIDE_OF_NAME} WHERE id = $1`,
        [address.id, byItself ? wayIn : null],
      );
    await this.steps.record(actor, relayed, 'relay', {
      kind: 'address.changed',
      detail: { address: addressText(relayed), what: 'reached through the relay' },
    });
    if (value !== null) await this.tellRecord(actor, relayed, value);
    // What is taken again by itself stays open.
    if (wayIn === 'mapping' && !byItself) await this.router.unmap(address.id);
  }

  /** The own way works again: the name leads there, and the relay is not needed any more. */
  async useOwnWay(actor: Actor, address: AddressRecord, wayIn: 'mapping' | 'fixed'): Promise<void> {
    const own = { ...address, wayIn };
    if (await this.names.canUpdate('public', address.host)) await this.updateRecord(actor, own);
    await this.db.query('UPDATE address SET way_in = $2, fell_from = NULL WHERE id = $1', [address.id, wayIn]);
    const step = wayIn === 'mapping' ? 'mapping' : 'record';
    await this.steps.record(actor, own, step, {
      kind: 'address.changed',
      detail: { address: addressText(own), what: 'reached by its own way again' },
    });
  }

  /** Where a name must lead: to the relay, or to the line. */
  private async leadTo(address: AddressRecord): Promise<string[]> {
    if (address.wayIn === 'relay') return this.lines.addresses();
    const { line } = await this.router.line();
    const four = lineAddress(line);
    const six = await this.sixOf(address);
    // What many customers share is nowhere to lead those who could come straight.
    return [isSharedLine(line) && six ? null : four, six].filter((a) => a !== null);
  }

  /** This machine's own address over IPv6, where people outside come in by it; null: they do not, or it has none. */
  private async sixOf(address: AddressRecord): Promise<string | null> {
    const six = await this.router.six(portOf(address));
    if (!six || !(await this.checks.answersInside(address, six.address))) return null;
    if (six.opened) return six.address;
    const connects = await this.checks.wouldConnect(address, six.address);
    // Where nobody can look, what the name leads to already stays.
    const stays = connects ?? (await this.zone.addressesOf(address.host))?.some((a) => isSameAddress(a, six.address));
    return stays ? six.address : null;
  }

  private async redirect(actor: Actor, address: AddressRecord): Promise<void> {
    await this.db.query('UPDATE address SET redirect = true, hsts = true WHERE id = $1', [address.id]);
    await this.steps.record(actor, address, 'redirect', {
      kind: 'address.changed',
      detail: { address: addressText(address), what: 'redirect to https, HSTS' },
    });
  }

  private async insideRecord(actor: Actor, address: AddressRecord, network: 'office' | 'guest'): Promise<void> {
    const value = this.network.insideAddress;
    if (!(await this.checks.answersInside(address)))
      throw new Problem(
        'conflict',
        'reach.inside-silent',
        `Nothing answers at ${value} port ${portOf(address)} inside, so the name would lead nowhere there.`,
      );
    await this.names.update(network, [{ name: address.host, type: 'A', value, ttlSeconds: RECORD_TTL_SECONDS }]);
    await this.steps.record(actor, address, null, {
      kind: 'reach.record',
      detail: { name: address.host, value, network },
    });
  }
}
