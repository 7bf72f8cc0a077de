import { probeServer, type Way } from '@quay/probe';
import type { Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import { Authority } from './authority/server.js';
import { DirectoryServer } from './directory/server.js';
import { crowdedDirectory } from './directory/state.js';
import { IdentityServer } from './identity/server.js';
import { TYPE } from './names/codec.js';
import { NameServer } from './names/server.js';
import { addressRecord, newZone, withRecord, type Zone } from './names/state.js';
import { live, type RouterState } from './router/state.js';
import { invitationText, Register, Relay, Usage } from '@quay/relay';
import { Router } from './router/server.js';
import { StunResponder } from './stun/server.js';
import {
  GATEWAY_ADDRESS,
  NETWORKS,
  OTHER_PUBLIC_ADDRESS,
  PUBLIC_ADDRESS,
  RELAY_ADDRESS,
  RELAY_LINE_PORT,
  routesFrom,
  SERVER_ADDRESS,
  SERVER_PORTS,
  UPNP_PORT,
  VANTAGES,
  ZONE,
  type Places,
  type Route,
  type Vantage,
} from './wiring.js';

/** The key with which records are updated; told to the product by its configuration. */
export const UPDATE_KEY_NAME = 'quay-update';

/** A device of the office that has taken the port. */
const OTHER_DEVICE = '192.168.20.55';

/** What is told to the world and to the product alike. */
export interface Secrets {
  /** TSIG key of the name servers. */
  updateKey: Buffer;
  /** What the probes ask for. */
  probeToken: string;
  /** The secret that the office has in common with the relay; 32 bytes. */
  relayKey: Buffer;
  /** How far the authority's clock is ahead of the machine's; for pictures. */
  clockAheadMs?: number;
  /** So many people more in the directory, and so much of anything at once; for tests. */
  crowd?: { people: number; span: number };
}

/** The services that an office stands in the middle of, wired to one another. */
export class World {
  private readonly probes: Server[] = [];

  private constructor(
    readonly names: NameServer,
    readonly officeNames: NameServer,
    readonly guestNames: NameServer,
    readonly router: Router,
    readonly stun: StunResponder,
    readonly authority: Authority,
    readonly relay: Relay,
    readonly directory: DirectoryServer,
    readonly identity: IdentityServer,
    private readonly relaySecret: Buffer,
    readonly places: Places,
  ) {}

  static async open(places: Places, secrets: Secrets): Promise<World> {
    const keys = new Map([[UPDATE_KEY_NAME, secrets.updateKey]]);
    const names = new NameServer([publicZone()], keys);
    const around = () => names.zones;
    const own = newZone(ZONE, `ns1.${ZONE}`, 1);
    const officeNames = new NameServer(
      [withRecord(own, addressRecord(`files.${ZONE}`, SERVER_ADDRESS, 300))],
      keys,
      around,
    );
    const guestNames = new NameServer([own], keys, around);
    const router = new Router(places.publicAddress, {
      publicSide: (port) =>
        port + places.publicOffset <= 65_535 ? { host: places.publicSide, port: port + places.publicOffset } : null,
      inside: (address, port) => ({
        host: '127.0.0.1',
        port: (address === SERVER_ADDRESS && serverPort(places, port)) || 9,
      }),
      who: insideAddress,
      description: `http://${GATEWAY_ADDRESS}:${UPNP_PORT}/rootDesc.xml`,
    });
    const stun = new StunResponder(() => router.state.publicAddress);
    const authority = await Authority.create(
      {
        web: (host) =>
          Promise.resolve(
            addressOf(names.zones, host) === router.state.publicAddress
              ? { host: places.publicSide, port: 80 + places.publicOffset }
              : null,
          ),
        txt: (name) => Promise.resolve(textsOf(names.zones, name)),
      },
      () => Date.now() + (secrets.clockAheadMs ?? 0),
    );
    places.names = await names.listen('127.0.0.1', places.names);
    places.officeNames = await officeNames.listen('127.0.0.1', places.officeNames);
    places.guestNames = await guestNames.listen('127.0.0.1', places.guestNames);
    ({
      pmp: places.pmp,
      upnp: places.upnp,
      ssdp: places.ssdp,
    } = await router.listen(places.gateway, places.pmp, places.upnp));
    places.stun = await stun.listen('127.0.0.1', places.stun);
    places.authority = await authority.listen('127.0.0.1', places.authority);
    const relay = openRelay(secrets.relayKey);
    places.relay = await relay.listen('127.0.0.1', places.relay);
    const directory = await (secrets.crowd
      ? DirectoryServer.create(crowdedDirectory(secrets.crowd.people), secrets.crowd.span)
      : DirectoryServer.create());
    places.directory = await directory.listen('127.0.0.1', places.directory);
    const identity = new IdentityServer();
    places.identity = await identity.listen('127.0.0.1', places.identity);
    const world = new World(
      ...([names, officeNames, guestNames, router, stun, authority, relay, directory, identity] as const),
      secrets.relayKey,
      places,
    );
    for (const vantage of VANTAGES) if (vantage !== 'office') await world.openProbe(vantage, secrets.probeToken);
    return world;
  }

  /** What the office is invited to the relay with. */
  get invitation(): string {
    return invitationText({
      host: RELAY_ADDRESS,
      port: RELAY_LINE_PORT,
      office: OFFICE_THERE,
      secret: this.relaySecret,
    });
  }

  async close(): Promise<void> {
    for (const probe of this.probes) probe.close().closeAllConnections();
    await Promise.all([
      this.names.close(),
      this.officeNames.close(),
      this.guestNames.close(),
      this.router.close(),
      this.stun.close(),
      this.authority.close(),
      this.relay.close(),
      this.directory.close(),
      this.identity.close(),
    ]);
  }

  /** What an address leads to on this machine, seen from a network: for the dialler of whoever stands there. */
  wiring(vantage: Vantage): { localAddress: string; resolvers: string[]; routes: Route[] } {
    return {
      localAddress: NETWORKS[vantage].localAddress,
      resolvers: [NETWORKS[vantage].resolver],
      routes: [PUBLIC_ADDRESS, OTHER_PUBLIC_ADDRESS].flatMap((publicAddress) =>
        routesFrom(vantage, { ...this.places, publicAddress }),
      ),
    };
  }

  private async openProbe(vantage: Exclude<Vantage, 'office'>, token: string): Promise<void> {
    const { places } = this;
    const server = probeServer(token, wayFrom(vantage, places));
    await new Promise<void>((resolve, reject) =>
      server.once('error', reject).listen(places.probes[vantage], '127.0.0.1', resolve),
    );
    places.probes[vantage] = (server.address() as AddressInfo).port;
    this.probes.push(server);
  }

  /** The state of everything, for the page and for tests. */
  state() {
    const now = Math.floor(Date.now() / 1000);
    return {
      places: this.places,
      faults: this.faults(),
      records: [
        ...shownRecords('public', this.names.zones),
        ...shownRecords('office', this.officeNames.zones),
        ...shownRecords('guest', this.guestNames.zones),
      ],
      mappings: live(this.router.state, now).map((m) => ({
        external: m.externalPort,
        protocol: m.protocol,
        to: `${m.internalAddress}:${m.internalPort}`,
        secondsLeft: m.endsAt === null ? null : m.endsAt - now,
        by: m.description,
      })),
      relayed: { names: this.relay.names, bytes: this.relay.passed },
      certificates: this.authority.issued.slice(-20),
    };
  }

  /** Every fault by its name, "router.firewall", with its value. */
  faults(): Record<string, boolean | number> {
    const parts = {
      names: this.names.faults,
      router: this.router.state.faults,
      authority: this.authority.faults,
      stun: { silent: this.stun.silent },
      relay: { down: this.relay.down },
      directory: this.directory.faults,
      identity: { down: this.identity.down },
      line: { changed: this.places.publicAddress !== PUBLIC_ADDRESS },
    };
    return Object.fromEntries(
      Object.entries(parts).flatMap(([part, faults]) =>
        Object.entries(faults).map(([name, value]) => [`${part}.${name}`, value as boolean | number]),
      ),
    );
  }

  /** Sets faults by name; those that are not named are switched off. @throws Error for a name that is not known */
  setFaults(wanted: Record<string, boolean | number>): void {
    const known = this.faults();
    const unknown = Object.keys(wanted).find((name) => !(name in known));
    if (unknown) throw new Error(`there is no fault called ${unknown}`);
    const part = <T extends object>(prefix: string, of: T): T =>
      Object.fromEntries(
        Object.entries(of).map(([name, value]) => [
          name,
          wanted[`${prefix}.${name}`] ?? (typeof value === 'number' ? 0 : false),
        ]),
      ) as T;
    const isRestart = Boolean(wanted['router.restarted']) && !this.router.state.faults.restarted;
    this.names.faults = part('names', this.names.faults);
    // Those of networks keep what others told them.
    for (const server of [this.officeNames, this.guestNames])
      server.faults = { ...server.faults, caches: this.names.faults.caches };
    this.places.publicAddress = wanted['line.changed'] ? OTHER_PUBLIC_ADDRESS : PUBLIC_ADDRESS;
    this.router.state = {
      ...this.router.state,
      publicAddress: this.places.publicAddress,
      faults: part('router', this.router.state.faults),
    };
    this.authority.faults = part('authority', this.authority.faults);
    this.router.state = withPortTaken(this.router.state);
    if (isRestart) this.router.beginAnew();
    this.stun.silent = Boolean(wanted['stun.silent']);
    this.relay.down = Boolean(wanted['relay.down']);
    this.identity.down = Boolean(wanted['identity.down']);
    this.directory.faults = part('directory', this.directory.faults);
    if (this.relay.down) this.relay.hangUp();
  }
}

/** How a probe that stands in a network gets about. The table is read at each use: ports are known once everything listens. */
export function wayFrom(vantage: Vantage, places: Places): Way {
  const found = (transport: Route['transport'], address: string, port: number) => {
    const route = routesFrom(vantage, places).find(
      (r) => r.transport === transport && r.address === address && (r.port === null || r.port === port),
    );
    return route ? { host: route.host, port: route.toPort ?? port + route.offset } : null;
  };
  const { localAddress, resolver } = NETWORKS[vantage];
  return {
    get resolvers() {
      const place = found('udp', resolver, 53);
      return place ? [`${place.host}:${place.port}`] : null;
    },
    place: (address, port) => {
      const place = found('tcp', address, port);
      return place && { ...place, localAddress };
    },
  };
}

/** The port for pages as another device has it, mapped by hand; or as it was before. */
function withPortTaken(state: RouterState): RouterState {
  const others = state.mappings.filter((m) => m.internalAddress !== OTHER_DEVICE);
  if (!state.faults.portTaken) return { ...state, mappings: others };
  return {
    ...state,
    mappings: [
      ...others.filter((m) => m.externalPort !== 443),
      {
        protocol: 'tcp',
        externalPort: 443,
        internalAddress: OTHER_DEVICE,
        internalPort: 443,
        endsAt: null,
        description: 'by hand',
      },
    ],
  };
}

function serverPort(places: Places, port: number): number | null {
  if (port === SERVER_PORTS.tls) return places.serverTls;
  return port === SERVER_PORTS.plain ? places.serverPlain : null;
}

function publicZone(): Zone {
  const zone = newZone(ZONE, `ns1.${ZONE}`, 2026112501);
  return [
    addressRecord(`ns1.${ZONE}`, '203.0.113.53', 3600),
    addressRecord(`files.${ZONE}`, PUBLIC_ADDRESS, 300),
    addressRecord(`www.${ZONE}`, '203.0.113.80', 3600),
    addressRecord(`relay.${ZONE}`, RELAY_ADDRESS, 300),
  ].reduce(withRecord, zone);
}

/** How the office is called at the relay. */
const OFFICE_THERE = 'saltmarsh';

/** The relay, as it stands on a rented machine; it has its own office, and keeps nothing. */
function openRelay(secret: Buffer): Relay {
  const register = new Register(null);
  register.add({ id: OFFICE_THERE, names: [`files.${ZONE}`, `relay.${ZONE}`], brings: true, limits: {} }, secret);
  return new Relay({
    register,
    usage: new Usage(null, Date.now),
    limits: { visitors: 1000, perSecond: 1000, monthBytes: null },
    sources: { connections: 1000, perSecond: 1000, sources: 1000 },
    addresses: [RELAY_ADDRESS],
    seenAs: insideAddress,
  });
}

/** Which inside address a peer on loopback stands for: the last number of 127.0.20.N is that of 192.168.20.N. */
function insideAddress(peer: string): string {
  const match = /^(?:::ffff:)?127\.0\.(20|40|113)\.(\d+)$/.exec(peer);
  if (!match) return SERVER_ADDRESS;
  return match[1] === '113' ? `203.0.113.${match[2]}` : `192.168.${match[1]}.${match[2]}`;
}

function shownRecords(
  network: string,
  zones: readonly Zone[],
): { network: string; name: string; type: string; ttl: number; value: string }[] {
  return zones
    .flatMap((z) => z.records)
    .flatMap((r) => {
      if (r.type === TYPE.A) return [{ network, name: r.name, type: 'A', ttl: r.ttl, value: [...r.data].join('.') }];
      if (r.type === TYPE.TXT)
        return [{ network, name: r.name, type: 'TXT', ttl: r.ttl, value: r.data.subarray(1).toString('latin1') }];
      return r.type === TYPE.CNAME
        ? [{ network, name: r.name, type: 'CNAME', ttl: r.ttl, value: r.data.toString('hex') }]
        : [];
    });
}

function addressOf(zones: readonly Zone[], host: string): string | null {
  const found = zones.flatMap((z) => z.records).find((r) => r.name === host.toLowerCase() && r.type === TYPE.A);
  return found ? [...found.data].join('.') : null;
}

/** The texts of TXT records; a record may hold several strings, which are joined (RFC 1035 §3.3.14, RFC 7208 §3.3). */
function textsOf(zones: readonly Zone[], name: string): string[] {
  return zones
    .flatMap((z) => z.records)
    .filter((r) => r.name === name.toLowerCase() && r.type === TYPE.TXT)
    .map((r) => {
      let text = '';
      for (let at = 0; at < r.data.length; at += 1 + (r.data[at] as number))
        text += r.data.toString('latin1', at + 1, at + 1 + (r.data[at] as number));
      return text;
    });
}
