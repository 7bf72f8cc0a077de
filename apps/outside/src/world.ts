import { Authority } from './authority/server.js';
import { TYPE } from './names/codec.js';
import { NameServer } from './names/server.js';
import { addressRecord, newZone, withRecord, type Zone } from './names/state.js';
import { live } from './router/state.js';
import { Router } from './router/server.js';
import { StunResponder } from './stun/server.js';

/** Addresses of the simulated world: documentation addresses outside (RFC 5737), private ones inside (RFC 1918). */
export const PUBLIC_ADDRESS = '198.51.100.24';
export const SERVER_ADDRESS = '192.168.20.10';
export const ZONE = 'saltmarsh.example';
/** The key with which records are updated; told to the product by its configuration. */
export const UPDATE_KEY_NAME = 'quay-update';

/** Where the parts of the simulated world are on this machine. Everything is on loopback. */
export interface Places {
  /** Stands for the router inside: the mapping protocols answer here. */
  gateway: string;
  /** Stands for the public address: what is mapped answers here, on external port + `publicOffset`. */
  publicSide: string;
  publicOffset: number;
  /** The port of the product's server on 127.0.0.1. */
  serverPort: number;
  names: number;
  stun: number;
  authority: number;
  pmp: number;
  upnp: number;
}

/** The services that an office stands in the middle of, wired to one another. */
export class World {
  private constructor(readonly names: NameServer, readonly router: Router, readonly stun: StunResponder, readonly authority: Authority, readonly places: Places) {}

  static async open(places: Places, updateKey: Buffer): Promise<World> {
    const names = new NameServer([firstZone()], new Map([[UPDATE_KEY_NAME, updateKey]]));
    const router = new Router(PUBLIC_ADDRESS, {
      publicSide: (port) => (port + places.publicOffset <= 65_535 ? { host: places.publicSide, port: port + places.publicOffset } : null),
      inside: (address) => ({ host: '127.0.0.1', port: address === SERVER_ADDRESS ? places.serverPort : 9 }),
      who: insideAddress,
    });
    const stun = new StunResponder(() => router.state.publicAddress);
    const authority = await Authority.create({
      web: (host) => Promise.resolve(addressOf(names.zones, host) === router.state.publicAddress ? { host: places.publicSide, port: 80 + places.publicOffset } : null),
      txt: (name) => Promise.resolve(textsOf(names.zones, name)),
    });
    places.names = await names.listen('127.0.0.1', places.names);
    ({ pmp: places.pmp, upnp: places.upnp } = await router.listen(places.gateway, places.pmp, places.upnp));
    places.stun = await stun.listen('127.0.0.1', places.stun);
    places.authority = await authority.listen('127.0.0.1', places.authority);
    return new World(names, router, stun, authority, places);
  }

  async close(): Promise<void> {
    await Promise.all([this.names.close(), this.router.close(), this.stun.close(), this.authority.close()]);
  }

  /** The state of everything, for the page and for tests. */
  state() {
    const now = Math.floor(Date.now() / 1000);
    return {
      places: this.places,
      faults: this.faults(),
      records: this.names.zones.flatMap((z) => z.records.filter((r) => r.type === TYPE.A || r.type === TYPE.TXT || r.type === TYPE.CNAME).map((r) => ({ name: r.name, type: r.type === TYPE.A ? 'A' : r.type === TYPE.TXT ? 'TXT' : 'CNAME', ttl: r.ttl, value: r.type === TYPE.A ? [...r.data].join('.') : r.type === TYPE.TXT ? r.data.subarray(1).toString('latin1') : r.data.toString('hex') }))),
      mappings: live(this.router.state, now).map((m) => ({ external: m.externalPort, protocol: m.protocol, to: `${m.internalAddress}:${m.internalPort}`, secondsLeft: m.endsAt === null ? null : m.endsAt - now, by: m.description })),
      certificates: this.authority.issued.slice(-20),
    };
  }

  /** Every fault by its name, "router.firewall", with its value. */
  faults(): Record<string, boolean | number> {
    const parts = { names: this.names.faults, router: this.router.state.faults, authority: this.authority.faults, stun: { silent: this.stun.silent } };
    return Object.fromEntries(Object.entries(parts).flatMap(([part, faults]) => Object.entries(faults).map(([name, value]) => [`${part}.${name}`, value as boolean | number])));
  }

  /** Sets faults by name; those that are not named are switched off. @throws Error for a name that is not known */
  setFaults(wanted: Record<string, boolean | number>): void {
    const known = this.faults();
    const unknown = Object.keys(wanted).find((name) => !(name in known));
    if (unknown) throw new Error(`there is no fault called ${unknown}`);
    const part = <T extends object>(prefix: string, of: T): T => Object.fromEntries(Object.entries(of).map(([name, value]) => [name, wanted[`${prefix}.${name}`] ?? (typeof value === 'number' ? 0 : false)])) as T;
    this.names.faults = part('names', this.names.faults);
    this.router.state = { ...this.router.state, faults: part('router', this.router.state.faults) };
    this.authority.faults = part('authority', this.authority.faults);
    this.stun.silent = Boolean(wanted['stun.silent']);
  }
}

function firstZone(): Zone {
  const zone = newZone(ZONE, `ns1.${ZONE}`, 2026112501);
  return [addressRecord(`ns1.${ZONE}`, '203.0.113.53', 3600), addressRecord(`files.${ZONE}`, PUBLIC_ADDRESS, 300), addressRecord(`www.${ZONE}`, '203.0.113.80', 3600)].reduce(withRecord, zone);
}

/** Which inside address a peer on loopback stands for: the last number of 127.0.20.N is that of 192.168.20.N. */
function insideAddress(peer: string): string {
  const match = /^(?:::ffff:)?127\.0\.(20|40|113)\.(\d+)$/.exec(peer);
  if (!match) return SERVER_ADDRESS;
  return match[1] === '113' ? `203.0.113.${match[2]}` : `192.168.${match[1]}.${match[2]}`;
}

function addressOf(zones: readonly Zone[], host: string): string | null {
  const found = zones.flatMap((z) => z.records).find((r) => r.name === host.toLowerCase() && r.type === TYPE.A);
  return found ? [...found.data].join('.') : null;
}

/** The texts of TXT records; a record may hold several strings, which are joined (RFC 1035 §3.3.14, RFC 7208 §3.3). */
function textsOf(zones: readonly Zone[], name: string): string[] {
  return zones.flatMap((z) => z.records).filter((r) => r.name === name.toLowerCase() && r.type === TYPE.TXT).map((r) => {
    let text = '';
    for (let at = 0; at < r.data.length; at += 1 + (r.data[at] as number)) text += r.data.toString('latin1', at + 1, at + 1 + (r.data[at] as number));
    return text;
  });
}
