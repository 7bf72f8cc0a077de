import { Inject, Injectable } from '@nestjs/common';
import { readFileSync } from 'node:fs';
import { networkInterfaces } from 'node:os';
import { CONFIG, type Config } from '../platform/config.js';

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

  gatewayTold(): Told<string | null> {
    const { gateway, findsNetwork } = this.config.reach;
    if (gateway !== null || !findsNetwork) return { value: gateway, from: gateway === null ? 'nobody' : 'file' };
    const route = this.route();
    return { value: route?.gateway ?? null, from: route ? 'machine' : 'nobody' };
  }

  insideTold(): Told<string> {
    const { insideAddress, findsNetwork } = this.config.reach;
    if (insideAddress !== null) return { value: insideAddress, from: 'file' };
    const route = findsNetwork ? this.route() : null;
    const found = route && addressOn(route.device);
    return found ? { value: found, from: 'machine' } : { value: '127.0.0.1', from: 'nobody' };
  }

  private route(): DefaultRoute | null {
    try {
      return defaultRouteOf(readFileSync('/proc/net/route', 'latin1'));
    } catch {
      // Another system than Linux does not say it there.
      return null;
    }
  }
}

export interface DefaultRoute {
  gateway: string;
  device: string;
}

/**
 * Where everything goes that no other route takes, of several the one with the least metric.
 * @param table as Linux writes it (proc(5), /proc/net/route): addresses as 32 bits in the machine's order, in hexadecimal
 */
export function defaultRouteOf(table: string): DefaultRoute | null {
  const [, ...lines] = table.split('\n');
  const routes = lines
    .map((line) => line.trim().split(/\s+/))
    .filter(([, to, gateway, , , , , mask]) => to === '00000000' && mask === '00000000' && gateway !== '00000000')
    .map(([device = '', , gateway = '', , , , metric]) => ({ device, gateway, metric: Number(metric) }))
    .sort((a, b) => a.metric - b.metric);
  const [first] = routes;
  return first ? { device: first.device, gateway: dotted(first.gateway) } : null;
}

/** Linux runs here on machines that put the least byte first. */
const dotted = (hexadecimal: string): string => [...Buffer.from(hexadecimal, 'hex')].reverse().join('.');

const addressOn = (device: string): string | null =>
  networkInterfaces()[device]?.find(({ family }) => family === 'IPv4')?.address ?? null;
