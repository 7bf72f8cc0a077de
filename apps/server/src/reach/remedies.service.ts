import { Inject, Injectable } from '@nestjs/common';
import type { ReachCheck, RemedyAct } from '@quay/contract';
import { addressText, dayInWords, portOf, type GuideStep, type Stage, type Vantage, SYSTEM_ACTOR } from '@quay/core';
import { DataSource, type EntityManager } from 'typeorm';
import type { LedgerBody } from '@quay/core';
import { LedgerService } from '../ledger/ledger.service.js';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Events } from '../platform/events/events.js';
import { Office } from '../platform/office.js';
import { Problem } from '../platform/problems/problem.js';
import { CertificatesService, type KeptCertificate } from './certificates.service.js';
import { CheckService } from './check.service.js';
import { ExposureService } from './exposure.service.js';
import { NameServersService } from './name-servers.service.js';
import { type AddressRecord } from './reach.queries.js';
import { RelayLines } from './relay-lines.js';
import { RouterService } from './router.service.js';

const RECORD_TTL_SECONDS = 300;
const RELAY_WAIT_MS = 6000;
export type Actor = LedgerBody['actor'];

/** What the program can do about a way in that does not work, and the steps of a guide: the same acts. */
@Injectable()
export class RemediesService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly names: NameServersService,
    private readonly router: RouterService,
    private readonly certificates: CertificatesService,
    private readonly checks: CheckService,
    private readonly lines: RelayLines,
    private readonly exposure: ExposureService,
    private readonly events: Events,
    private readonly ledger: LedgerService,
    private readonly office: Office,
    @Inject(CONFIG) private readonly config: Config,
  ) {}

  /** Does it, then checks again. @throws Problem with what stood in the way */
  async act(actor: Actor, address: AddressRecord, act: RemedyAct, vantage: Vantage): Promise<ReachCheck> {
    switch (act) {
      case 'update-record':
        await this.updateRecord(actor, address);
        break;
      case 'map-port':
        await this.mapPorts(actor, address);
        break;
      case 'get-certificate':
        await this.getCertificate(actor, address);
        break;
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
  async step(actor: Actor, address: AddressRecord, step: GuideStep): Promise<ReachCheck> {
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
        'No probe stands outside, so nobody can see whether it is done.',
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
    await this.db.transaction((tx) => this.done(tx, address.id, step, 'hand'));
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
    const { line } =
      address.wayIn === 'relay'
        ? { line: { seenAddress: this.config.reach.relay?.address ?? null, routerAddress: null } }
        : await this.router.line();
    const value = line.seenAddress ?? line.routerAddress;
    if (!value)
      throw new Problem(
        'unavailable',
        'reach.line-unknown',
        'Neither the router nor the world could tell the address of the line.',
      );
    await this.names.update('public', [
      { name: address.host, type: value.includes(':') ? 'AAAA' : 'A', value, ttlSeconds: RECORD_TTL_SECONDS },
    ]);
    await this.record(actor, address, 'record', {
      kind: 'reach.record',
      detail: { name: address.host, value, network: 'public' },
    });
  }

  /** The port of the address, and port 80 for the redirect and the authority's proof. */
  async mapPorts(actor: Actor, address: AddressRecord): Promise<void> {
    const { insidePorts } = this.config.reach;
    await this.router.map(address.id, portOf(address), insidePorts.tls);
    if (portOf(address) !== 80) await this.router.map(address.id, 80, insidePorts.plain);
    await this.record(actor, address, 'mapping', {
      kind: 'reach.mapping',
      detail: { port: portOf(address), address: addressText(address) },
    });
  }

  async getCertificate(actor: Actor, address: AddressRecord): Promise<void> {
    const kept = await this.certificates.obtain(address.host);
    await this.tellCertificate(actor, address, kept);
  }

  /** Serves a certificate that was got by hand from the next handshake on; it is not renewed by the program. */
  async ownCertificate(actor: Actor, address: AddressRecord, chain: string, key: string): Promise<void> {
    const kept = await this.certificates.take(address.host, chain, key);
    await this.tellCertificate(actor, address, kept, 'hand');
    this.checks.checkAside(address.id, 'change');
  }

  private async tellCertificate(
    actor: Actor,
    address: AddressRecord,
    { notAfter }: KeptCertificate,
    by: 'program' | 'hand' = 'program',
  ): Promise<void> {
    const { zone } = await this.office.settings();
    const until = dayInWords(notAfter.getTime(), this.clock.now(), zone);
    const entry = { kind: 'reach.certificate', detail: { host: address.host, until } };
    await this.record(actor, address, 'certificate', entry, by);
  }

  /** Reaches an address through the relay from now on; where the name server can be told, the name follows. */
  async useRelay(actor: Actor, address: AddressRecord): Promise<void> {
    const { relay } = this.config.reach;
    if (!relay) throw new Problem('conflict', 'reach.no-relay', 'No relay is known to this server.');
    if (address.wayIn !== 'relay') {
      await this.db.query(`UPDATE address SET way_in = 'relay', guide = '{}' WHERE id = $1`, [address.id]);
      if (address.wayIn === 'mapping') await this.router.unmap(address.id);
      address = { ...address, wayIn: 'relay', guide: {} };
    }
    await this.record(actor, address, 'relay', {
      kind: 'address.changed',
      detail: { address: addressText(address), what: 'reached through the relay' },
    });
    const trouble = await this.lines.standing(address.host, RELAY_WAIT_MS);
    if (trouble) throw new Problem('unavailable', 'reach.relay-away', `The relay cannot be used now: ${trouble}.`);
    if (await this.names.canUpdate('public', address.host)) await this.updateRecord(actor, address);
  }

  private async redirect(actor: Actor, address: AddressRecord): Promise<void> {
    await this.db.query('UPDATE address SET redirect = true, hsts = true WHERE id = $1', [address.id]);
    await this.record(actor, address, 'redirect', {
      kind: 'address.changed',
      detail: { address: addressText(address), what: 'redirect to https, HSTS' },
    });
  }

  private async insideRecord(actor: Actor, address: AddressRecord, network: 'office' | 'guest'): Promise<void> {
    const value = this.config.reach.insideAddress;
    await this.names.update(network, [{ name: address.host, type: 'A', value, ttlSeconds: RECORD_TTL_SECONDS }]);
    await this.record(actor, address, null, { kind: 'reach.record', detail: { name: address.host, value, network } });
  }

  private async record(
    actor: Actor,
    address: AddressRecord,
    step: GuideStep | null,
    entry: { kind: string; detail: LedgerBody['detail'] },
    by: 'program' | 'hand' = 'program',
  ): Promise<void> {
    await this.events.change(async (tx) => {
      if (step) await this.done(tx, address.id, step, by);
      await tx.query('DELETE FROM renewal WHERE address_id = $1 AND kind = $2', [address.id, step]);
      await this.events.tell(tx, { topic: 'reach', id: address.id });
      // What is renewed by itself is not worth a line each time.
      if (actor !== SYSTEM_ACTOR || entry.kind !== 'reach.mapping') await this.ledger.append(tx, { ...entry, actor });
    });
  }

  private async done(tx: EntityManager, addressId: string, step: GuideStep, by: 'program' | 'hand'): Promise<void> {
    await tx.query('UPDATE address SET guide = guide || $2 WHERE id = $1', [
      addressId,
      JSON.stringify({ [step]: { at: this.clock.date().toISOString(), by } }),
    ]);
  }
}
