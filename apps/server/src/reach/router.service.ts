import { Inject, Injectable } from '@nestjs/common';
import { hasForgotten, type Epoch, type ReachFacts } from '@quay/core';
import { randomBytes } from 'node:crypto';
import { DataSource, type EntityManager } from 'typeorm';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config, type StunServer } from '../platform/config.js';
import { Dialler } from '../platform/dialler.js';
import { Problem } from '../platform/problems/problem.js';
import {
  decodeDescription,
  decodeSearchAnswer,
  encodeAction,
  SSDP_ADDRESS,
  SSDP_PORT,
  SSDP_SEARCH,
  SSDP_WAIT_MS,
  valueOf,
} from './protocols/gateway-device.js';
import {
  decodePcpAnnounce,
  decodePcpMap,
  decodePmpAddress,
  decodePmpMap,
  encodePcpAnnounce,
  encodePcpMap,
  encodePmpAddress,
  encodePmpMap,
  PORT_CONTROL_PORT,
  type MapAnswer,
  type MapAsk,
} from './protocols/port-control.js';
import { decodeBinding, encodeBinding } from './protocols/stun.js';
import { OwnNetwork } from './own-network.js';

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
  /** What the router said of its age, and when; null where its protocol has none. */
  epochSeconds: number | null;
  epochAt: Date | null;
}

type Made =
  | {
      outcome: 'made';
      protocol: MappingRow['protocol'];
      externalPort: number;
      leaseSeconds: number | null;
      epochSeconds: number | null;
    }
  | { outcome: 'taken'; by: string | null }
  | { outcome: 'refused'; words: string }
  | { outcome: 'no-protocol' };

function madeByUpnp(
  answer: { status: number; text: string } | null,
  externalPort: number,
  leaseSeconds: number | null,
): Made {
  if (!answer) return { outcome: 'no-protocol' };
  if (answer.status === 200)
    return { outcome: 'made', protocol: 'upnp', externalPort, leaseSeconds, epochSeconds: null };
  const code = valueOf(answer.text, 'errorCode');
  // WANIPConnection §2.4.16: 718 ConflictInMappingEntry.
  if (code === '718') return { outcome: 'taken', by: null };
  return { outcome: 'refused', words: valueOf(answer.text, 'errorDescription') || `error ${code ?? answer.status}` };
}

/** The router of the office: what the line is called, and what is mapped. */
@Injectable()
export class RouterService {
  constructor(
    private readonly db: DataSource,
    private readonly clock: Clock,
    private readonly dialler: Dialler,
    private readonly network: OwnNetwork,
    @Inject(CONFIG) private readonly config: Config,
  ) {}

  /** The line's address as the world sees it (STUN) and as the router says it (NAT-PMP, or UPnP). */
  async line(): Promise<LineFacts> {
    const { gateway } = this.network;
    const { stun } = this.config.reach;
    const [seenAddress, pmp] = await Promise.all([
      this.seenFromOutside(stun === null ? [] : [stun].flat()),
      gateway
        ? this.dialler.exchange(gateway, PORT_CONTROL_PORT, encodePmpAddress(), decodePmpAddress, WAITS_MS)
        : null,
    ]);
    if (pmp && 'address' in pmp) return { line: { seenAddress, routerAddress: pmp.address }, protocol: 'nat-pmp' };
    const upnp = await this.upnp('GetExternalIPAddress', {});
    const told = upnp && upnp.status === 200 ? valueOf(upnp.text, 'NewExternalIPAddress') : null;
    return { line: { seenAddress, routerAddress: told || null }, protocol: told ? 'upnp' : null };
  }

  /** The line's address as the world sees it: what the first of several servers says that answers. */
  private async seenFromOutside(servers: readonly StunServer[]): Promise<string | null> {
    const asked = servers.map(async ({ address, port }) => {
      const transaction = randomBytes(12);
      const read = (answer: Buffer) => decodeBinding(answer, transaction);
      const seen = await this.dialler.exchange(address, port, encodeBinding(transaction), read, WAITS_MS);
      if (seen === null) throw new Error('it does not answer');
      return seen;
    });
    return Promise.any(asked).catch(() => null);
  }

  /** Whether a port is mapped to this server, as far as it can be told without changing anything. */
  async mapping(externalPort: number, protocol: LineFacts['protocol']): Promise<NonNullable<ReachFacts['mapping']>> {
    const { insideAddress } = this.network;
    const { insidePorts } = this.config.reach;
    const nothing = { externalPort: null, internal: null, leaseSecondsLeft: null };
    const [mine] = await this.rows(externalPort);
    const leaseSeconds = mine?.endsAt ? (mine.endsAt.getTime() - mine.grantedAt.getTime()) / 1000 : null;
    // UPnP can say what is mapped, also by others; PCP and NAT-PMP know only how to ask for it.
    const told = await this.entryOf(externalPort);
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
        leaseSeconds,
      };
    }
    if (told) return { protocol: 'upnp', outcome: 'absent', ...nothing };
    if (protocol === null) return { protocol: null, outcome: 'no-protocol', ...nothing };
    const left = mine?.endsAt ? Math.floor((mine.endsAt.getTime() - this.clock.now()) / 1000) : null;
    const isOver = !mine || (left !== null && left <= 0) || (await this.forgotten([mine])).length > 0;
    if (isOver) return { protocol, outcome: 'absent', ...nothing };
    return {
      protocol: mine.protocol,
      outcome: 'present',
      externalPort,
      internal: { address: insideAddress, port: externalPort === 80 ? insidePorts.plain : insidePorts.tls },
      leaseSecondsLeft: left,
      leaseSeconds,
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
    const known = await this.rows(externalPort);
    // A port has one mapping, whichever addresses need it: it is the same one to the router (RFC 6887 §11.2).
    const before = known.find((r) => r.addressId === addressId) ?? known[0];
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
      `INSERT INTO port_mapping (address_id, external_port, internal_port, protocol, nonce, granted_at, ends_at,
                                 epoch_seconds, epoch_at)
        VALUES ($1, $2, $3, $4, $5, $6, $7, $8, CASE WHEN $8::bigint IS NOT NULL THEN $6::timestamptz END)
       ON CONFLICT (address_id, external_port) DO UPDATE SET internal_port = $3, protocol = $4, nonce = $5,
         granted_at = $6, ends_at = $7, epoch_seconds = excluded.epoch_seconds, epoch_at = excluded.epoch_at`,
      [addressId, externalPort, internalPort, made.protocol, nonce, this.clock.date(), endsAt, made.epochSeconds],
    );
    return { endsAt, protocol: made.protocol };
  }

  /**
   * Takes back what was opened for an address and nobody needs any more; a router that does not answer forgets by itself
   * when the lease ends.
   * @param needs the ports that the address itself goes on needing
   */
  async unmap(addressId: string, needs: readonly number[] = []): Promise<void> {
    const mine = await this.bequeathed(this.db.manager, addressId, needs);
    await this.db.query('DELETE FROM port_mapping WHERE address_id = $1 AND NOT external_port = ANY($2)', [
      addressId,
      needs,
    ]);
    await this.close(mine);
  }

  /**
   * Hands on what was opened for an address to others that need it. @returns what nobody needs, for `close`
   * @param needs the ports that the address itself goes on needing
   */
  async bequeathed(m: EntityManager, addressId: string, needs: readonly number[] = []): Promise<MappingRow[]> {
    const others = await m.query<{ id: string; port: number }[]>(
      `SELECT a.id, p.port FROM address a, LATERAL (VALUES (coalesce(a.port, CASE a.scheme WHEN 'https' THEN 443 ELSE 80 END)), (80)) p (port)
        WHERE a.id <> $1 AND (a.way_in = 'mapping' OR a.fell_from = 'mapping')`,
      [addressId],
    );
    const mine = (await this.rows(null, m)).filter((r) => r.addressId === addressId && !needs.includes(r.externalPort));
    for (const { externalPort } of mine) {
      const heir = others.find((o) => o.port === externalPort);
      if (heir)
        await m.query(
          `UPDATE port_mapping SET address_id = $2 WHERE address_id = $1 AND external_port = $3 AND NOT EXISTS
            (SELECT 1 FROM port_mapping WHERE address_id = $2 AND external_port = $3)`,
          [addressId, heir.id, externalPort],
        );
    }
    return mine.filter((r) => !others.some((o) => o.port === r.externalPort));
  }

  /** Tells the router that mappings are not needed any more. */
  async close(mappings: readonly MappingRow[]): Promise<void> {
    for (const { internalPort, externalPort, nonce } of mappings)
      await this.ask({ internalPort, externalPort, lifetimeSeconds: 0 }, nonce);
  }

  rows(externalPort: number | null, m: EntityManager = this.db.manager): Promise<MappingRow[]> {
    return m.query(
      `SELECT address_id AS "addressId", external_port AS "externalPort", internal_port AS "internalPort", protocol,
        nonce, granted_at AS "grantedAt", ends_at AS "endsAt", epoch_seconds::float8 AS "epochSeconds",
        epoch_at AS "epochAt" FROM port_mapping
        WHERE $1::integer IS NULL OR external_port = $1`,
      [externalPort],
    );
  }

  /**
   * Of mappings that were made, those that the router does not know any more: it was started anew, or somebody removed
   * them. One that does not answer has forgotten nothing, as far as is known.
   */
  async forgotten(mappings: readonly MappingRow[]): Promise<MappingRow[]> {
    const gone: MappingRow[] = [];
    let age: Epoch | null | undefined;
    for (const m of mappings) {
      if (m.protocol === 'upnp') {
        if ((await this.knows(m)) === false) gone.push(m);
        continue;
      }
      age ??= await this.age();
      if (!age || m.epochSeconds === null || !m.epochAt) continue;
      if (hasForgotten({ seconds: m.epochSeconds, at: m.epochAt.getTime() }, age)) gone.push(m);
    }
    return gone;
  }

  /** How long the router has known what it knows (PCP, or NAT-PMP); null: it does not say. */
  private async age(): Promise<Epoch | null> {
    const { gateway, insideAddress } = this.network;
    if (!gateway) return null;
    const ask = <T>(bytes: Buffer, read: (answer: Buffer) => T | null) =>
      this.dialler.exchange(gateway, PORT_CONTROL_PORT, bytes, read, WAITS_MS);
    const seconds =
      (await ask(encodePcpAnnounce(insideAddress), decodePcpAnnounce)) ??
      (await ask(encodePmpAddress(), (b) => {
        const told = decodePmpAddress(b);
        return told && 'epoch' in told ? told.epoch : null;
      }));
    return seconds === null ? null : { seconds, at: this.clock.now() };
  }

  /** Whether the router still leads a port here, as UPnP tells; null: it does not say. */
  private async knows({ externalPort, internalPort }: MappingRow): Promise<boolean | null> {
    const told = await this.entryOf(externalPort);
    if (!told) return null;
    if (told.status === 200)
      return (
        valueOf(told.text, 'NewInternalClient') === this.network.insideAddress &&
        Number(valueOf(told.text, 'NewInternalPort')) === internalPort
      );
    // WANIPConnection §2.4.14: 714 NoSuchEntryInArray.
    return valueOf(told.text, 'errorCode') === '714' ? false : null;
  }

  private entryOf(externalPort: number): Promise<{ status: number; text: string } | null> {
    return this.upnp('GetSpecificPortMappingEntry', {
      NewRemoteHost: '',
      NewExternalPort: externalPort,
      NewProtocol: 'TCP',
    });
  }

  /** PCP first, then NAT-PMP, then UPnP: each newer one can say more. */
  private async ask(ask: MapAsk, nonce: Buffer): Promise<Made> {
    const { gateway, insideAddress } = this.network;
    const granted = (answer: MapAnswer, protocol: 'pcp' | 'nat-pmp'): Made =>
      answer.outcome === 'granted'
        ? {
            outcome: 'made',
            protocol,
            externalPort: answer.externalPort,
            leaseSeconds: answer.lifetimeSeconds,
            epochSeconds: answer.epoch,
          }
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
    return ask.lifetimeSeconds === 0 ? this.removeByUpnp(ask) : this.addByUpnp(ask, ask.lifetimeSeconds);
  }

  private async removeByUpnp({ externalPort }: MapAsk): Promise<Made> {
    const asked = { NewRemoteHost: '', NewExternalPort: externalPort, NewProtocol: 'TCP' };
    return madeByUpnp(await this.upnp('DeletePortMapping', asked), externalPort, null);
  }

  private async addByUpnp(ask: MapAsk, leaseSeconds: number): Promise<Made> {
    const answer = await this.upnp('AddPortMapping', {
      NewRemoteHost: '',
      NewExternalPort: ask.externalPort,
      NewProtocol: 'TCP',
      NewInternalPort: ask.internalPort,
      NewInternalClient: this.network.insideAddress,
      NewEnabled: 1,
      NewPortMappingDescription: 'Lockfast Quay',
      NewLeaseDuration: leaseSeconds,
    });
    // WANIPConnection:1 §2.4.16: 725 OnlyPermanentLeasesSupported. What is permanent ends when it is removed.
    if (leaseSeconds > 0 && answer && answer.status !== 200 && valueOf(answer.text, 'errorCode') === '725')
      return this.addByUpnp(ask, 0);
    return madeByUpnp(answer, ask.externalPort, leaseSeconds === 0 ? null : leaseSeconds);
  }

  private device: { controlUrl: string; service: string } | null = null;

  /** One action of the gateway device; null when there is none, or it does not answer. */
  private async upnp(
    action: string,
    values: Record<string, string | number>,
  ): Promise<{ status: number; text: string } | null> {
    if (!this.network.gateway) return null;
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
    const { gateway, insideAddress } = this.network;
    // Anybody may answer. Only the router itself may send us somewhere: an answer that points elsewhere would make this
    // server ask for it.
    const isRouters = (url: string): boolean => new URL(url).hostname === gateway;
    const locations = await this.dialler.search(SSDP_ADDRESS, SSDP_PORT, SSDP_SEARCH, decodeSearchAnswer, {
      from: insideAddress,
      waitMs: SSDP_WAIT_MS,
      enough: (found) => found.some(isRouters),
    });
    for (const location of new Set(locations.filter(isRouters))) {
      const { status, text } = await this.dialler.http('GET', location, {}, null, UPNP_MS, 200_000);
      const device = status === 200 ? decodeDescription(text, location) : null;
      if (device && isRouters(device.controlUrl)) return device;
    }
    return null;
  }
}
