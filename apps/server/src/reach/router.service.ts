import { Inject, Injectable } from '@nestjs/common';
import { hasForgotten, type Epoch, type OwnSix, type ReachFacts } from '@quay/core';
import { randomBytes } from 'node:crypto';
import { DataSource, type EntityManager } from 'typeorm';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config, type StunServer } from '../platform/config.js';
import { Dialler } from '../platform/dialler.js';
import { Problem } from '../platform/problems/problem.js';
import { Gateway, type ActionAnswer } from './gateway.js';
import { Pinholes } from './pinholes.js';
import { valueOf } from './protocols/gateway-device.js';
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
import { OwnNetwork } from '../platform/own-network.js';

/** RFC 6886 §3.3 recommends two hours. */
const LEASE_SECONDS = 7200;
/** RFC 6886 §3.1 begins at 250 ms and doubles; a person waits here, so it ends after the third. */
const WAITS_MS = [250, 500, 1000];

export interface LineFacts {
  line: NonNullable<ReachFacts['line']>;
  protocol: 'pcp' | 'nat-pmp' | 'upnp' | null;
}

interface MappingRow {
  addressId: string;
  family: 4 | 6;
  externalPort: number;
  internalPort: number;
  /** For IPv6: the address that requests are let in to, and by what a UPnP router knows it. */
  inside: string | null;
  pinhole: number | null;
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

function madeByUpnp(answer: ActionAnswer | null, externalPort: number, leaseSeconds: number | null): Made {
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
    private readonly gateway: Gateway,
    private readonly pinholes: Pinholes,
    @Inject(CONFIG) private readonly config: Config,
  ) {}

  /** The line's address as the world sees it (STUN) and as the router says it (NAT-PMP, or UPnP). */
  async line(): Promise<LineFacts> {
    const { gateway } = this.network;
    const [seenAddress, pmp, upnp] = await Promise.all([
      this.seenFromOutside(this.network.stun),
      gateway
        ? this.dialler.exchange(gateway, PORT_CONTROL_PORT, encodePmpAddress(), decodePmpAddress, WAITS_MS)
        : null,
      this.gateway.line('GetExternalIPAddress', {}),
    ]);
    if (pmp && 'address' in pmp) return { line: { seenAddress, routerAddress: pmp.address }, protocol: 'nat-pmp' };
    const told = upnp && upnp.status === 200 ? valueOf(upnp.text, 'NewExternalIPAddress') : null;
    // Where it has none that is public, some say nothing, and some that they are not connected (RFC 6886 §3.5).
    const routerHasNone = !told && (upnp !== null || (pmp !== null && 'refused' in pmp));
    const protocol = told ? 'upnp' : pmp ? 'nat-pmp' : upnp ? 'upnp' : null;
    return { line: { seenAddress, routerAddress: told || null, routerHasNone }, protocol };
  }

  /** The line's address as the world sees it: what the first of several servers says that answers. */
  private async seenFromOutside(servers: readonly StunServer[]): Promise<string | null> {
    const asked = servers.map(async ({ address, port }) => {
      const transaction = randomBytes(12);
      const read = (answer: Buffer) => decodeBinding(answer, transaction);
      const seen = await this.dialler.exchange(address, port, encodeBinding(transaction), read, WAITS_MS);
      // Asked over IPv6 it tells this machine's own address, which is none of the line.
      if (seen === null || seen.includes(':')) throw new Error('it does not answer');
      return seen;
    });
    return Promise.any(asked).catch(() => null);
  }

  /** Whether a port is mapped to this server, as far as it can be told without changing anything. */
  async mapping(externalPort: number, protocol: LineFacts['protocol']): Promise<NonNullable<ReachFacts['mapping']>> {
    const { insideAddress } = this.network;
    const { insidePorts } = this.config.reach;
    const nothing = { externalPort: null, internal: null, leaseSecondsLeft: null };
    const mine = (await this.rows(externalPort)).find((r) => r.family === 4);
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
    const known = (await this.rows(externalPort)).filter((r) => r.family === 4);
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
    const row = { addressId, family: 4, externalPort, internalPort, inside: null, pinhole: null, nonce } as const;
    const endsAt = await this.keep({ ...row, ...made });
    return { endsAt, protocol: made.protocol };
  }

  /**
   * Has the router's firewall let requests over IPv6 in to this machine, or renews that; what was opened to an address of
   * before is closed. @throws Problem reach.no-mapping-protocol, reach.mapping-refused
   */
  async openSix(addressId: string, port: number, inside: string): Promise<void> {
    const known = (await this.rows(port)).filter((r) => r.family === 6);
    const before = known.find((r) => r.inside === inside);
    const nonce = before?.nonce ?? randomBytes(12);
    const pinhole = before?.pinhole ?? null;
    const made = await this.pinholes.ask({ inside, port, lifetimeSeconds: LEASE_SECONDS, nonce, pinhole });
    if (made.outcome === 'no-protocol')
      throw new Problem(
        'conflict',
        'reach.no-mapping-protocol',
        'The router takes no word about its firewall for IPv6 (PCP, UPnP): open the port on its own pages.',
      );
    if (made.outcome === 'refused')
      throw new Problem(
        'conflict',
        'reach.mapping-refused',
        `The router refuses to let TCP ${port} in over IPv6: ${made.words}.`,
      );
    await this.close(known.filter((r) => r.addressId === addressId && r.inside !== inside));
    await this.keep({ addressId, family: 6, externalPort: port, internalPort: port, inside, nonce, ...made });
  }

  /** This machine's own way in over IPv6, and whether the router's firewall lets requests in there; null: it has none. */
  async six(port: number): Promise<OwnSix | null> {
    const address = this.network.insideAddress6;
    if (address === null) return null;
    const mine = (await this.rows(port)).filter((r) => r.family === 6 && r.inside === address).slice(0, 1);
    return { address, opened: mine.length > 0 && (await this.forgotten(mine)).length === 0 };
  }

  /** @returns when the lease ends; null: not by itself */
  private async keep(
    row: Omit<MappingRow, 'grantedAt' | 'endsAt' | 'epochAt'> & { leaseSeconds: number | null },
  ): Promise<Date | null> {
    const endsAt = row.leaseSeconds === null ? null : new Date(this.clock.now() + row.leaseSeconds * 1000);
    await this.db.query(
      `INSERT INTO port_mapping (address_id, external_port, internal_port, protocol, nonce, granted_at, ends_at,
                                 epoch_seconds, epoch_at, family, inside, pinhole)
        VALUES ($1, $2, $3, $4, $5, $6, $7, $8, CASE WHEN $8::bigint IS NOT NULL THEN $6::timestamptz END, $9, $10, $11)
       ON CONFLICT (address_id, family, external_port) DO UPDATE SET internal_port = $3, protocol = $4, nonce = $5,
         granted_at = $6, ends_at = $7, epoch_seconds = excluded.epoch_seconds, epoch_at = excluded.epoch_at,
         inside = $10, pinhole = $11`,
      [
        row.addressId,
        row.externalPort,
        row.internalPort,
        row.protocol,
        row.nonce,
        this.clock.date(),
        endsAt,
        row.epochSeconds,
        row.family,
        row.inside,
        row.pinhole,
      ],
    );
    return endsAt;
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
    for (const { externalPort, family } of mine) {
      const heir = others.find((o) => o.port === externalPort);
      if (heir)
        await m.query(
          `UPDATE port_mapping SET address_id = $2 WHERE address_id = $1 AND external_port = $3 AND family = $4
            AND NOT EXISTS
            (SELECT 1 FROM port_mapping WHERE address_id = $2 AND external_port = $3 AND family = $4)`,
          [addressId, heir.id, externalPort, family],
        );
    }
    return mine.filter((r) => !others.some((o) => o.port === r.externalPort));
  }

  /** Tells the router that mappings are not needed any more. */
  async close(mappings: readonly MappingRow[]): Promise<void> {
    for (const { internalPort, externalPort, nonce, inside, pinhole } of mappings)
      if (inside !== null) await this.pinholes.ask({ inside, port: externalPort, lifetimeSeconds: 0, nonce, pinhole });
      else await this.ask({ internalPort, externalPort, lifetimeSeconds: 0 }, nonce);
  }

  rows(externalPort: number | null, m: EntityManager = this.db.manager): Promise<MappingRow[]> {
    return m.query(
      `SELECT address_id AS "addressId", external_port AS "externalPort", internal_port AS "internalPort", protocol,
        family, inside, pinhole, nonce, granted_at AS "grantedAt", ends_at AS "endsAt", epoch_seconds::float8 AS "epochSeconds",
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
    const ages = new Map<4 | 6, Epoch | null>();
    for (const m of mappings) {
      if (m.protocol === 'upnp') {
        const known = m.inside === null ? this.knows(m) : this.pinholes.knows({ inside: m.inside, pinhole: m.pinhole });
        if ((await known) === false) gone.push(m);
        continue;
      }
      if (!ages.has(m.family)) ages.set(m.family, await this.age(m.family));
      const age = ages.get(m.family);
      if (!age || m.epochSeconds === null || !m.epochAt) continue;
      if (hasForgotten({ seconds: m.epochSeconds, at: m.epochAt.getTime() }, age)) gone.push(m);
    }
    return gone;
  }

  /** How long the router has known what it knows (PCP, or NAT-PMP); null: it does not say. */
  private async age(family: 4 | 6): Promise<Epoch | null> {
    const seconds = await (family === 6 ? this.pinholes.ageSeconds() : this.ageSeconds());
    return seconds === null ? null : { seconds, at: this.clock.now() };
  }

  private async ageSeconds(): Promise<number | null> {
    const { gateway, insideAddress } = this.network;
    if (!gateway) return null;
    const ask = <T>(bytes: Buffer, read: (answer: Buffer) => T | null) =>
      this.dialler.exchange(gateway, PORT_CONTROL_PORT, bytes, read, WAITS_MS);
    return (
      (await ask(encodePcpAnnounce(insideAddress), decodePcpAnnounce)) ??
      (await ask(encodePmpAddress(), (b) => {
        const told = decodePmpAddress(b);
        return told && 'epoch' in told ? told.epoch : null;
      }))
    );
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

  private entryOf(externalPort: number): Promise<ActionAnswer | null> {
    return this.gateway.line('GetSpecificPortMappingEntry', {
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
    return madeByUpnp(await this.gateway.line('DeletePortMapping', asked), externalPort, null);
  }

  private async addByUpnp(ask: MapAsk, leaseSeconds: number): Promise<Made> {
    const answer = await this.gateway.line('AddPortMapping', {
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
}
