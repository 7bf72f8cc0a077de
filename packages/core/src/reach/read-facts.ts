import { isSameAddress } from './special.js';
import type { AddressFacts, ReachFacts } from './facts.js';

// What several judgements ask of the facts.

export const reached = ({ connect }: AddressFacts): boolean => connect?.outcome === 'connected';
export const isLine = ({ line }: ReachFacts, address: string): boolean =>
  [line?.seenAddress, line?.routerAddress].some((own) => own && isSameAddress(own, address));
export const isSix = ({ six }: ReachFacts, address: string): boolean => !!six && isSameAddress(six.address, address);
/** Whether whoever looked got a connection by one of the two families. */
export const connectsBy = (f: ReachFacts, family: 4 | 6): boolean =>
  [f, ...(f.others ?? [])].some((at) => reached(at) && at.connect?.address.includes(':') === (family === 6));

/** A request that never leaves the office needs neither line nor router. */
export function staysInside(f: ReachFacts): boolean {
  const address = f.connect?.address ?? f.lookup?.addresses[0] ?? f.host;
  return f.vantage !== 'outside' && (isSameAddress(address, f.server.address) || isSix(f, address));
}

export const seconds = (ms: number): string => `${(ms / 1000).toFixed(1)} s`;

export function parentOf(host: string): string {
  return host.split('.').slice(1).join('.') || host;
}
