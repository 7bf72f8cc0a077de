import { Inject, Injectable, type OnModuleInit } from '@nestjs/common';
import { NETWORK_VALUES, type NetworkValue, type Whence } from '@quay/contract';
import { addressBytes, comesFromOutside } from '@quay/core';
import { readFileSync } from 'node:fs';
import { networkInterfaces } from 'node:os';
import { DataSource, type EntityManager } from 'typeorm';
import { aside } from './aside.js';
import { CONFIG, type Config, type StunServer } from './config.js';
import { Events } from './events/events.js';

export interface Told<T> {
  value: T;
  from: Whence;
}

const STUN_PORT = 3478;

/**
 * How this machine stands in the office's network, and whom it asks there. What neither the file nor somebody in the
 * browser said is asked of the machine itself, each time: a router may be another one tomorrow, and this machine have
 * another address.
 */
@Injectable()
export class OwnNetwork implements OnModuleInit {
  private settings = new Map<NetworkValue, string[]>();

  constructor(
    private readonly db: DataSource,
    private readonly events: Events,
    @Inject(CONFIG) private readonly config: Config,
  ) {}

  async onModuleInit(): Promise<void> {
    await this.load();
    this.events.stream.subscribe((event) => {
      if (event.topic === 'reach' || event.topic === 'missed')
        aside(this.load(), 'what is said of the network could not be looked at');
    });
  }

  /** Takes in what was typed in, here or in another process. */
  async load(): Promise<void> {
    const rows = await this.db.query<{ name: NetworkValue; value: string[] }[]>(
      'SELECT name, value FROM network_setting',
    );
    this.settings = new Map(rows.map(({ name, value }) => [name, value]));
  }

  /** Goes by this from now on, in place of what is found. */
  async say(tx: EntityManager, name: NetworkValue, value: readonly string[]): Promise<void> {
    await tx.query(
      'INSERT INTO network_setting (name, value) VALUES ($1, $2) ON CONFLICT (name) DO UPDATE SET value = $2',
      [name, value],
    );
  }

  async unsay(tx: EntityManager, name: NetworkValue): Promise<void> {
    await tx.query('DELETE FROM network_setting WHERE name = $1', [name]);
  }

  /** All that is gone by, and where it is known from. */
  told(): Record<NetworkValue, Told<string[]>> {
    return Object.fromEntries(NETWORK_VALUES.map((name) => [name, this.toldOf(name)])) as Record<
      NetworkValue,
      Told<string[]>
    >;
  }

  toldOf(name: NetworkValue): Told<string[]> {
    const inFile = this.inFile(name);
    if (inFile !== null) return { value: inFile, from: 'file' };
    const typed = this.settings.get(name);
    if (typed) return { value: typed, from: 'settings' };
    const found = this.config.reach.findsNetwork ? FOUND[name]() : null;
    return found === null ? { value: [], from: 'nobody' } : { value: [found], from: 'machine' };
  }

  private inFile(name: NetworkValue): string[] | null {
    const { gateway, insideAddress, insideAddress6, resolvers, stun, acmeDirectory } = this.config.reach;
    const said: Record<NetworkValue, string | string[] | null> = {
      ...{ gateway, insideAddress, insideAddress6, resolvers, authority: acmeDirectory },
      stun: stun && [stun].flat().map(({ address, port }) => `${bracketed(address)}:${port}`),
    };
    const value = said[name];
    return value === null ? null : [value].flat();
  }

  /** The router; null: there is none, as far as is known. */
  get gateway(): string | null {
    return this.toldOf('gateway').value[0] ?? null;
  }

  /** This machine's address on the network that the router is on. */
  get insideAddress(): string {
    return this.toldOf('insideAddress').value[0] ?? '127.0.0.1';
  }

  /** The router for IPv6, with the interface that leads to it ("fe80::1%eth0"); null: there is none. */
  get gateway6(): string | null {
    return this.config.reach.findsNetwork ? (defaultRoute6Of(fileOf('/proc/net/ipv6_route'))?.gateway ?? null) : null;
  }

  /** This machine's own public address over IPv6; null: it has none. */
  get insideAddress6(): string | null {
    return this.toldOf('insideAddress6').value[0] ?? null;
  }

  /** Name servers of the office network; null: those of this machine. */
  get resolvers(): string[] | null {
    const { value } = this.toldOf('resolvers');
    return value.length > 0 ? value : null;
  }

  /** Servers that say from where they are asked. */
  get stun(): StunServer[] {
    return this.toldOf('stun').value.map((server) => {
      const [, host = server, port] = /^(.*?)(?::(\d+))?$/.exec(server.replace(/^\[(.*)\]/, '$1')) ?? [];
      return { address: host, port: Number(port ?? STUN_PORT) };
    });
  }

  /** The directory of the certificate authority; null: none. */
  get authority(): string | null {
    return this.toldOf('authority').value[0] ?? null;
  }

  /**
   * Whether an address is of a machine on one of this machine's own networks, or of the site that the provider gave over
   * IPv6 (48 bits at the most, RFC 6177): such may be behind the same firewall, public or not.
   */
  isNear(address: string): boolean {
    const bytes = addressBytes(address);
    const own6 = addressBytes(this.certain6() ?? '');
    if (bytes === null) return false;
    if (bytes.length === 16 && own6 && sharesBits(bytes, own6, SITE_BITS_6)) return true;
    return Object.values(networkInterfaces())
      .flatMap((on) => on ?? [])
      .some(({ address: mine, cidr }) => {
        const here = addressBytes(mine.replace(/%.*$/, ''));
        const bits = Number(cidr?.split('/')[1] ?? 128);
        return here?.length === bytes.length && sharesBits(bytes, here, bits);
      });
  }

  /**
   * The own address over IPv6 as the file or the machine says it. What was typed in counts for the way in alone: whoever
   * looks after that must not be able to say who is inside.
   */
  private certain6(): string | null {
    return this.inFile('insideAddress6')?.[0] ?? (this.config.reach.findsNetwork ? FOUND.insideAddress6() : null);
  }

  /** Whether somebody comes from outside the office, by their address. */
  isOutside(address: string): boolean {
    return comesFromOutside(address, address.includes(':') ? this.certain6() : null);
  }
}

const SITE_BITS_6 = 48;

/** Whether two addresses of one length begin with the same bits. */
function sharesBits(one: readonly number[], other: readonly number[], bits: number): boolean {
  const text = (bytes: readonly number[]) => bytes.map((b) => b.toString(2).padStart(8, '0')).join('');
  return text(one).slice(0, bits) === text(other).slice(0, bits);
}

const bracketed = (address: string): string => (address.includes(':') ? `[${address}]` : address);

/** What the machine is asked for; null: it does not know. */
const FOUND: Record<NetworkValue, () => string | null> = {
  gateway: () => defaultRouteOf(fileOf('/proc/net/route'))?.gateway ?? null,
  insideAddress: () => {
    const route = defaultRouteOf(fileOf('/proc/net/route'));
    return route && addressOn(route.device);
  },
  insideAddress6: () => {
    const route = defaultRoute6Of(fileOf('/proc/net/ipv6_route'));
    return route && publicAddress6On(fileOf('/proc/net/if_inet6'), route.device);
  },
  resolvers: () => null,
  stun: () => null,
  authority: () => null,
};

/** What the system tells there; nothing where another system than Linux does not. */
function fileOf(path: string): string {
  try {
    return readFileSync(path, 'latin1');
  } catch {
    return '';
  }
}

export interface DefaultRoute {
  gateway: string;
  device: string;
}

/** The fields of each line. */
const fieldsOf = (table: string): string[][] =>
  table
    .split('\n')
    .map((line) => line.trim().split(/\s+/))
    .filter((fields) => fields.length > 1);

/**
 * Where everything goes that no other route takes, of several the one with the least metric.
 * @param table as Linux writes it (proc(5), /proc/net/route): addresses as 32 bits in the machine's order, in hexadecimal
 */
export function defaultRouteOf(table: string): DefaultRoute | null {
  const routes = fieldsOf(table)
    .filter(([, to, gateway, , , , , mask]) => to === '00000000' && mask === '00000000' && gateway !== '00000000')
    .map(([device = '', , gateway = '', , , , metric]) => ({ device, gateway, metric: Number(metric) }))
    .sort((a, b) => a.metric - b.metric);
  const [first] = routes;
  return first ? { device: first.device, gateway: dotted(first.gateway) } : null;
}

/** Linux runs here on machines that put the least byte first. */
const dotted = (hexadecimal: string): string => [...Buffer.from(hexadecimal, 'hex')].reverse().join('.');

const NOWHERE_6 = '0'.repeat(32);

/**
 * The same for IPv6. Routers there are commonly known by an address that holds on one interface only.
 * @param table as Linux writes it (/proc/net/ipv6_route): addresses as 32 hexadecimal digits, metric in hexadecimal
 */
export function defaultRoute6Of(table: string): DefaultRoute | null {
  const routes = fieldsOf(table)
    .filter(([to, bits, , , next]) => to === NOWHERE_6 && bits === '00' && next !== NOWHERE_6)
    .map(([, , , , next = '', metric = '', , , , device = '']) => ({ next, metric: parseInt(metric, 16), device }))
    .sort((a, b) => a.metric - b.metric);
  const [first] = routes;
  if (!first) return null;
  const gateway = colons(first.next);
  return { device: first.device, gateway: gateway.startsWith('fe80:') ? `${gateway}%${first.device}` : gateway };
}

/** if_addr.h of Linux: addresses that are given up soon, or are not to be used. */
const PASSING_6 = 0x01 | 0x08 | 0x20 | 0x40;
const STAYS_6 = 0x80;

/**
 * The address of an interface at which the world finds it: one that stays, if there are several; null: it has none.
 * @param table as Linux writes it (/proc/net/if_inet6)
 */
export function publicAddress6On(table: string, device: string): string | null {
  const found = fieldsOf(table)
    .map(([address = '', , , , flags = '', name]) => ({ address: colons(address), flags: parseInt(flags, 16), name }))
    .filter(({ address, flags, name }) => name === device && !(flags & PASSING_6) && comesFromOutside(address));
  return (found.find(({ flags }) => flags & STAYS_6) ?? found[0])?.address ?? null;
}

/** 32 hexadecimal digits as an address (RFC 5952). */
const colons = (digits: string): string =>
  new URL(`http://[${digits.match(/.{4}/g)?.join(':') ?? '::'}]`).hostname.slice(1, -1);

const addressOn = (device: string): string | null =>
  networkInterfaces()[device]?.find(({ family }) => family === 'IPv4')?.address ?? null;
