import type { MapProtocol } from './codec.js';

/** One mapping: what comes to the external port goes to a host inside. */
export interface Mapping {
  protocol: MapProtocol;
  externalPort: number;
  internalAddress: string;
  internalPort: number;
  /** When it lapses, in seconds; null: never (made by hand, or by UPnP without a lease). */
  endsAt: number | null;
  description: string;
}

/** How the router misbehaves, each as real ones do. */
export interface RouterFaults {
  noPmp: boolean;
  noPcp: boolean;
  noUpnp: boolean;
  /** Its outside address is one that the provider shares among customers (RFC 6598). */
  carrierGrade: boolean;
  /** Another router stands in front of it. */
  doubleNat: boolean;
  /** Requests from inside to the public address are dropped. */
  noLoopback: boolean;
  /** Another device inside has the port for pages already. */
  portTaken: boolean;
  /** Mappings by UPnP are for good or not at all (error 725). */
  permanentOnly: boolean;
  /** It was switched off and on, and knows nothing of what it mapped: when this is set, once. */
  restarted: boolean;
  /** The firewall lets nothing in, whatever is mapped. */
  firewall: boolean;
  /** Added to every connection, in milliseconds. */
  slowMs: number;
  /** Of a hundred connections, how many are dropped. */
  lossPercent: number;
}
export const NO_FAULTS: RouterFaults = {
  noPmp: false,
  noPcp: false,
  noUpnp: false,
  carrierGrade: false,
  doubleNat: false,
  noLoopback: false,
  portTaken: false,
  permanentOnly: false,
  restarted: false,
  firewall: false,
  slowMs: 0,
  lossPercent: 0,
};

export interface RouterState {
  mappings: readonly Mapping[];
  publicAddress: string;
  faults: RouterFaults;
}

/** RFC 6886 §3.3 recommends 7200 seconds; this router grants no more, as real ones do. */
export const LONGEST_LEASE_SECONDS = 7200;

/** The outside address as the router itself says it: not what the world sees, behind a provider's or another router. */
export function outsideAddress(state: RouterState): string {
  if (state.faults.carrierGrade) return '100.72.14.9';
  return state.faults.doubleNat ? '192.168.1.2' : state.publicAddress;
}

/** The mappings that have not lapsed. */
export function live(state: RouterState, nowSeconds: number): readonly Mapping[] {
  return state.mappings.filter((m) => m.endsAt === null || m.endsAt > nowSeconds);
}

export type MapOutcome =
  { outcome: 'mapped'; mapping: Mapping; state: RouterState } | { outcome: 'taken'; by: Mapping; state: RouterState };

/**
 * Makes or renews a mapping. A port that another host has is given to nobody else: with `insist` the request fails, as
 * UPnP wants; without, the next free port is given, as NAT-PMP and PCP say (RFC 6886 §3.3, RFC 6887 §11.3).
 */
export function map(state: RouterState, asked: Mapping, nowSeconds: number, insist: boolean): MapOutcome {
  const mappings = live(state, nowSeconds);
  const same = (m: Mapping) =>
    m.protocol === asked.protocol &&
    m.internalAddress === asked.internalAddress &&
    m.internalPort === asked.internalPort;
  const at = (port: number) => mappings.find((m) => m.protocol === asked.protocol && m.externalPort === port);
  // What is mapped already keeps its port when it is renewed.
  const before = mappings.find(same);
  let port = before && !insist ? before.externalPort : asked.externalPort || asked.internalPort;
  const holder = at(port);
  if (holder && !same(holder)) {
    if (insist) return { outcome: 'taken', by: holder, state };
    while (at(port)) port = port >= 65_535 ? 1024 : port + 1;
  }
  const mapping = { ...asked, externalPort: port };
  return {
    outcome: 'mapped',
    mapping,
    state: {
      ...state,
      mappings: [
        ...mappings.filter((m) => !same(m) && !(m.protocol === asked.protocol && m.externalPort === port)),
        mapping,
      ],
    },
  };
}

/** Removes the mappings of a host: one port of it, or all (internal port 0, RFC 6886 §3.4). */
export function unmap(
  state: RouterState,
  protocol: MapProtocol,
  internalAddress: string,
  internalPort: number,
): RouterState {
  return {
    ...state,
    mappings: state.mappings.filter(
      (m) =>
        m.protocol !== protocol ||
        m.internalAddress !== internalAddress ||
        (internalPort !== 0 && m.internalPort !== internalPort),
    ),
  };
}
