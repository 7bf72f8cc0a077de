import { Inject, Injectable } from '@nestjs/common';
import type { ReachFacts } from '@quay/core';
import { randomBytes } from 'node:crypto';
import { DataSource } from 'typeorm';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Dialler } from '../platform/dialler.js';
import { Problem } from '../platform/problems/problem.js';
import {
  decodeDescription,
  decodeSearchAnswer,
  encodeAction,
  SSDP_ADDRESS,
  SSDP_PORT,
  SSDP_SEARCH,
  valueOf,
} from './protocols/gateway-device.js';
import {
  decodePcpMap,
  decodePmpAddress,
  decodePmpMap,
  encodePcpMap,
  encodePmpAddress,
  encodePmpMap,
  PORT_CONTROL_PORT,
  type MapAnswer,
  type MapAsk,
} from './protocols/port-control.js';
import { decodeBinding, encodeBinding } from './protocols/stun.js';

/** RFC 6886 §3.3 recommends two hours. */
const LEASE_SECONDS = 7200;
/** RFC 6886 §3.1 begins at 250 ms and doubles; a person waits here, so it ends after the third. */
const WAITS_MS = [250, 500, 1000];
const UPNP_MS = 2500;

export interface LineFacts {
  line: NonNullable<ReachFacts['line']>;
  protocol: 'pcp' | 'nat-pmp' | 'upnp' | null;
}

interface MappingRow {
  addressId: string;
  externalPort: number;
  internalPort: number;
  protocol: 'pcp' | 'nat-pmp' | 'upnp';
  nonce: Buffer;
  grantedAt: Date;
  endsAt: Date | null;
}

type Made =
  | { outcome: 'made'; protocol: MappingRow['protocol']; externalPort: number; leaseSeconds: number | null }
  | { outcome: 'taken'; by: string | null }
  | { outcome: 'refused'; words: string }
  | { outcome: 'no-protocol' };

/** The router of the office: what the line is called, and what is mapped. */
@Injectable()
export class RouterService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly dialler: Dialler,
    @Inject(CONFIG) private readonly config: Config,
  ) {}

  /** The line's address as the world sees it (STUN) and as the router says it (NAT-PMP, or UPnP). */
  async line(): Promise<LineFacts> {
    const { gateway, stun } = this.config.reach;
    const transaction = randomBytes(12);
    const [seenAddress, pmp] = await Promise.all([
      stun
        ? this.dialler.exchange(
            stun.address,
            stun.port,
            encodeBinding(transaction),
            (b) => decodeBinding(b, transaction),
            WAITS_MS,
          )
        : null,
      gateway
        ? this.dialler.exchange(gateway, PORT_CONTROL_PORT, encodePmpAddress(), decodePmpAddress, WAITS_MS)
        : null,
    ]);
    if (pmp && 'address' in pmp) return { line: { seenAddress, routerAddress: pmp.address }, protocol: 'nat-pmp' };
    const upnp = await this.upnp('GetExternalIPAddress', {});
    const told = upnp && upnp.status === 200 ? valueOf(upnp.text, 'NewExternalIPAddress') : null;
    return { line: { seenAddress, routerAddress: told || null }, protocol: told ? 'upnp' : null };
  }

  /** Whether a port is mapped to this server, as far as it can be told without changing anything. */
  async mapping(externalPort: number, protocol: LineFacts['protocol']): Promise<NonNullable<ReachFacts['mapping']>> {
    const { insideAddress, insidePorts } = this.config.reach;
    const nothing = { externalPort: null, internal: null, leaseSecondsLeft: null };
    const [mine] = await this.rows(externalPort);
    // UPnP can say what is mapped, also by others; PCP and NAT-PMP know only how to ask for it.
    const told = await this.upnp('GetSpecificPortMappingEntry', {
      NewRemoteHost: '',
      NewExternalPort: externalPort,
      NewProtocol: 'TCP',
    });
    if (told?.status === 200) {
      const internal = {
        address: valueOf(told.text, 'NewInternalClient') ?? '',
        port: Number(valueOf(told.text, 'NewInternalPort')),
      };
      const lease = Number(valueOf(told.text, 'NewLeaseDuration') ?? 0);
      const taken = internal.address !== insideAddress;
      return {
        protocol: mine?.protocol ?? 'upnp',
        outcome: taken ? 'taken' : 'present',
        externalPort,
        internal,
        leaseSecondsLeft: lease === 0 ? null : lease,
      };
    }
    if (told) return { protocol: 'upnp', outcome: 'absent', ...nothing };
    if (protocol === null) return { protocol: null, outcome: 'no-protocol', ...nothing };
    const left = mine?.endsAt ? Math.floor((mine.endsAt.getTime() - this.clock.now()) / 1000) : null;
    if (!mine || (left !== null && left <= 0)) return { protocol, outcome: 'absent', ...nothing };
    return {
      protocol: mine.protocol,
      outcome: 'present',
      externalPort,
      internal: { address: insideAddress, port: externalPort === 80 ? insidePorts.plain : insidePorts.tls },
      leaseSecondsLeft: left,
    };
  }

  /**
   * Opens a port, or renews its lease. @throws Problem reach.port-taken, reach.mapping-refused,
   * reach.no-mapping-protocol
   */
  async map(
    addressId: string,
    externalPort: number,
    internalPort: number,
  ): Promise<{ endsAt: Date | null; protocol: string }> {
    const [before] = (await this.rows(externalPort)).filter((r) => r.addressId === addressId);
    const nonce = before?.nonce ?? randomBytes(12);
    const made = await this.ask({ internalPort, externalPort, lifetimeSeconds: LEASE_SECONDS }, nonce);
    if (made.outcome === 'no-protocol')
      throw new Problem(
        'conflict',
        'reach.no-mapping-protocol',
        'The router speaks none of the protocols for mappings (PCP, NAT-PMP, UPnP): open the port on its own pages.',
      );
    if (made.outcome === 'refused')
      throw new Problem('conflict', 'reach.mapping-refused', `The router refuses: ${made.words}.`);
    if (made.outcome === 'taken')
      throw new Problem(
        'conflict',
        'reach.port-taken',
        `Port ${externalPort} of the router already leads to ${made.by ?? 'another device'}.`,
      );
    if (made.externalPort !== externalPort) {
      await this.ask({ internalPort, externalPort: made.externalPort, lifetimeSeconds: 0 }, nonce);
      throw new Problem(
        'conflict',
        'reach.port-taken',
        `Port ${externalPort} of the router already leads to another device; it offers ${made.externalPort} instead.`,
      );
    }
    const endsAt = made.leaseSeconds === null ? null : new Date(this.clock.now() + made.leaseSeconds * 1000);
    await this.db.query(
      `INSERT INTO port_mapping (address_id, external_port, internal_port, protocol, nonce, granted_at, ends_at)
        VALUES ($1, $2, $3, $4, $5, $6, $7)
       ON CONFLICT (address_id, external_port) DO UPDATE SET internal_port = $3, protocol = $4, nonce = $5,
         granted_at = $6, ends_at = $7`,
      [addressId, externalPort, internalPort, made.protocol, nonce, this.clock.date(), endsAt],
    );
    return { endsAt, protocol: made.protocol };
  }

  /** Takes back what was opened for an address; a router that does not answer forgets by itself when the lease ends. */
  async unmap(addressId: string): Promise<void> {
    for (const m of (await this.rows(null)).filter((r) => r.addressId === addressId)) {
      await this.ask({ internalPort: m.internalPort, externalPort: m.externalPort, lifetimeSeconds: 0 }, m.nonce);
      await this.db.query('DELETE FROM port_mapping WHERE address_id = $1 AND external_port = $2', [
        addressId,
        m.externalPort,
      ]);
    }
  }

  rows(externalPort: number | null): Promise<MappingRow[]> {
    return this.db.query(
      `SELECT address_id AS "addressId", external_port AS "externalPort", internal_port AS "internalPort", protocol,
        nonce, granted_at AS "grantedAt", ends_at AS "endsAt" FROM port_mapping
        WHERE $1::integer IS NULL OR external_port = $1`,
      [externalPort],
    );
  }

  /** PCP first, then NAT-PMP, then UPnP: each newer one can say more. */
  private async ask(ask: MapAsk, nonce: Buffer): Promise<Made> {
    const { gateway, insideAddress } = this.config.reach;
    const granted = (answer: MapAnswer, protocol: 'pcp' | 'nat-pmp'): Made =>
      answer.outcome === 'granted'
        ? { outcome: 'made', protocol, externalPort: answer.externalPort, leaseSeconds: answer.lifetimeSeconds }
        : { outcome: 'refused', words: answer.words };
    if (gateway) {
      const pcp = await this.dialler.exchange(
        gateway,
        PORT_CONTROL_PORT,
        encodePcpMap(ask, insideAddress, nonce),
        (b) => decodePcpMap(b, ask, nonce),
        WAITS_MS,
      );
      if (pcp && pcp !== 'other-version') return granted(pcp, 'pcp');
      const pmp = await this.dialler.exchange(
        gateway,
        PORT_CONTROL_PORT,
        encodePmpMap(ask),
        (b) => decodePmpMap(b, ask),
        WAITS_MS,
      );
      if (pmp) return granted(pmp, 'nat-pmp');
    }
    const answer =
      ask.lifetimeSeconds === 0
        ? await this.upnp('DeletePortMapping', {
            NewRemoteHost: '',
            NewExternalPort: ask.externalPort,
            NewProtocol: 'TCP',
          })
        : await this.upnp('AddPortMapping', {
            NewRemoteHost: '',
            NewExternalPort: ask.externalPort,
            NewProtocol: 'TCP',
            NewInternalPort: ask.internalPort,
            NewInternalClient: insideAddress,
            NewEnabled: 1,
            NewPortMappingDescription: 'Lockfast Quay',
            NewLeaseDuration: ask.lifetimeSeconds,
          });
    if (!answer) return { outcome: 'no-protocol' };
    if (answer.status === 200)
      return { outcome: 'made', protocol: 'upnp', externalPort: ask.externalPort, leaseSeconds: ask.lifetimeSeconds };
    const code = valueOf(answer.text, 'errorCode');
    // WANIPConnection §2.4.16: 718 ConflictInMappingEntry.
    return code === '718'
      ? { outcome: 'taken', by: null }
      : { outcome: 'refused', words: valueOf(answer.text, 'errorDescription') || `error ${code ?? answer.status}` };
  }

  private device: { controlUrl: string; service: string } | null = null;

  /** One action of the gateway device; null when there is none, or it does not answer. */
  private async upnp(
    action: string,
    values: Record<string, string | number>,
  ): Promise<{ status: number; text: string } | null> {
    if (!this.config.reach.gateway) return null;
    try {
      this.device ??= await this.discover();
      if (!this.device) return null;
      const answer = await this.dialler.http(
        'POST',
        this.device.controlUrl,
        { 'content-type': 'text/xml; charset="utf-8"', soapaction: `"${this.device.service}#${action}"` },
        encodeAction(this.device.service, action, values),
        UPNP_MS,
        50_000,
      );
      // A device that no longer knows its own address is not there any more.
      if (answer.status === 404) this.device = null;
      return answer.status === 404 ? null : answer;
    } catch {
      this.device = null;
      return null;
    }
  }

  private async discover(): Promise<{ controlUrl: string; service: string } | null> {
    const location = await this.dialler.exchange(SSDP_ADDRESS, SSDP_PORT, SSDP_SEARCH, decodeSearchAnswer, [600]);
    // Only the router itself may send us somewhere: an answer that points elsewhere would make this server ask for it.
    if (!location || new URL(location).hostname !== this.config.reach.gateway) return null;
    const { status, text } = await this.dialler.http('GET', location, {}, null, UPNP_MS, 200_000);
    const device = status === 200 ? decodeDescription(text, location) : null;
    return device && new URL(device.controlUrl).hostname === this.config.reach.gateway ? device : null;
  }
}
