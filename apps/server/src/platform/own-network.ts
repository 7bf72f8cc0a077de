import { Inject, Injectable } from '@nestjs/common';
import { comesFromOutside } from '@quay/core';
import { readFileSync } from 'node:fs';
import { networkInterfaces } from 'node:os';
import { CONFIG, type Config } from './config.js';

/** Where a value comes from: the file says it, this machine was asked, or nobody knows it. */
export type Whence = 'file' | 'machine' | 'nobody';
export interface Told<T> {
  value: T;
  from: Whence;
}

/**
 * How this machine stands in the office's network. What the file does not say is asked of the machine itself, each time:
 * a router may be another one tomorrow, and this machine have another address.
 */
@Injectable()
export class OwnNetwork {
  constructor(@Inject(CONFIG) private readonly config: Config) {}

  /** The router; null: there is none, as far as is known. */
  get gateway(): string | null {
    return this.gatewayTold().value;
  }

  /** This machine's address on the network that the router is on. */
  get insideAddress(): string {
    return this.insideTold().value;
  }

  /** The router for IPv6, with the interface that leads to it ("fe80::1%eth0"); null: there is none. */
  get gateway6(): string | null {
    if (!this.config.reach.findsNetwork) return null;
    return defaultRoute6Of(fileOf('/proc/net/ipv6_route'))?.gateway ?? null;
  }

  /** This machine's own public address over IPv6; null: it has none. */
  get insideAddress6(): string | null {
    return this.insideTold6().value;
  }

  /** Whether somebody comes from outside the office, by their address. */
  isOutside(address: string): boolean {
    return comesFromOutside(address, address.includes(':') ? this.insideAddress6 : null);
  }

  gatewayTold(): Told<string | null> {
    const { gateway, findsNetwork } = this.config.reach;
    if (gateway !== null || !findsNetwork) return { value: gateway, from: gateway === null ? 'nobody' : 'file' };
    const route = defaultRouteOf(fileOf('/proc/net/route'));
    return { value: route?.gateway ?? null, from: route ? 'machine' : 'nobody' };
  }

  insideTold(): Told<string> {
    const { insideAddress, findsNetwork } = this.config.reach;
    if (insideAddress !== null) return { value: insideAddress, from: 'file' };
    const route = findsNetwork ? defaultRouteOf(fileOf('/proc/net/route')) : null;
    const found = route && addressOn(route.device);
    return found ? { value: found, from: 'machine' } : { value: '127.0.0.1', from: 'nobody' };
  }

  insideTold6(): Told<string | null> {
    const { insideAddress6, findsNetwork } = this.config.reach;
    if (insideAddress6 !== null) return { value: insideAddress6, from: 'file' };
    const route = findsNetwork ? defaultRoute6Of(fileOf('/proc/net/ipv6_route')) : null;
    const found = route && publicAddress6On(fileOf('/proc/net/if_inet6'), route.device);
    return found ? { value: found, from: 'machine' } : { value: null, from: 'nobody' };
  }
}

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
