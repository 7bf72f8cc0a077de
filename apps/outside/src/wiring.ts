/** Addresses of the simulated world: documentation addresses outside (RFC 5737), private ones inside (RFC 1918). */
export const PUBLIC_ADDRESS = '198.51.100.24';
export const SERVER_ADDRESS = '192.168.20.10';
export const GATEWAY_ADDRESS = '192.168.20.1';
export const NAME_SERVER_ADDRESS = '203.0.113.53';
/** What the line gets when its provider gives it another address. */
export const OTHER_PUBLIC_ADDRESS = '198.51.100.77';
export const STUN_ADDRESS = '203.0.113.34';
/** The relay, which passes on what it cannot read. */
export const RELAY_ADDRESS = '203.0.113.40';
export const RELAY_LINE_PORT = 7443;
export const ZONE = 'saltmarsh.example';
/** Where the product's server listens inside; the office network also finds it on 443 and 80. */
export const SERVER_PORTS = { tls: 8443, plain: 8080 } as const;

/** The networks that a check can be made from. */
export const VANTAGES = ['outside', 'office', 'guest', 'tunnel'] as const;
export type Vantage = (typeof VANTAGES)[number];

/** Each network: the loopback address its connections come from, and the address of its name server. */
export const NETWORKS: Record<Vantage, { localAddress: string; resolver: string; probe: string }> = {
  outside: { localAddress: '127.0.113.7', resolver: NAME_SERVER_ADDRESS, probe: '203.0.113.7' },
  office: { localAddress: '127.0.20.10', resolver: GATEWAY_ADDRESS, probe: '' },
  guest: { localAddress: '127.0.40.77', resolver: '192.168.40.1', probe: '192.168.40.77' },
  tunnel: { localAddress: '127.0.20.200', resolver: GATEWAY_ADDRESS, probe: '192.168.20.200' },
};
export const DIRECTORY_ADDRESS = '192.168.20.15';
export const UPNP_PORT = 5000;
export const PROBE_PORT = 8099;

/** Where the parts of the simulated world are on this machine. Everything is on loopback. */
export interface Places {
  /** Stands for the router inside: the mapping protocols answer here. */
  gateway: string;
  /** Stands for the public address: what is mapped answers here, on external port + `publicOffset`. */
  publicSide: string;
  publicOffset: number;
  /** What the line is called today. */
  publicAddress: string;
  /** Ports of the product's server on 127.0.0.1: with encryption, and plain for redirect and proof. */
  serverTls: number;
  serverPlain: number;
  names: number;
  officeNames: number;
  guestNames: number;
  stun: number;
  authority: number;
  pmp: number;
  upnp: number;
  /** Where searches for the router are answered. */
  ssdp: number;
  /** The office's directory, over TLS. */
  directory: number;
  /** The identity provider. */
  identity: number;
  relay: { line: number; tls: number; plain: number };
  probes: Record<Exclude<Vantage, 'office'>, number>;
}

/** One line of the wiring table: an address and port (null: any) of the simulated world, and where it is on loopback. */
export interface Route {
  transport: 'tcp' | 'udp';
  address: string;
  port: number | null;
  host: string;
  /** null: the port itself, plus `offset`. */
  toPort: number | null;
  offset: number;
}

/** What can be reached from a network. */
export function routesFrom(vantage: Vantage, p: Places): Route[] {
  const at = (
    transport: Route['transport'],
    address: string,
    port: number,
    toPort: number,
    host = '127.0.0.1',
  ): Route => ({ transport, address, port, host, toPort, offset: 0 });
  const both = (address: string, port: number, toPort: number): Route[] => [
    at('tcp', address, port, toPort),
    at('udp', address, port, toPort),
  ];
  const everywhere: Route[] = [
    {
      transport: 'tcp',
      address: p.publicAddress,
      port: null,
      host: p.publicSide,
      toPort: null,
      offset: p.publicOffset,
    },
    ...both(NAME_SERVER_ADDRESS, 53, p.names),
    at('udp', STUN_ADDRESS, 3478, p.stun),
    at('tcp', RELAY_ADDRESS, 443, p.relay.tls),
    at('tcp', RELAY_ADDRESS, 80, p.relay.plain),
    at('tcp', RELAY_ADDRESS, RELAY_LINE_PORT, p.relay.line),
  ];
  if (vantage === 'outside') return everywhere;
  const server: Route[] = [443, SERVER_PORTS.tls]
    .map((port) => at('tcp', SERVER_ADDRESS, port, p.serverTls))
    .concat([80, SERVER_PORTS.plain].map((port) => at('tcp', SERVER_ADDRESS, port, p.serverPlain)));
  if (vantage === 'guest') return [...everywhere, ...server, ...both(NETWORKS.guest.resolver, 53, p.guestNames)];
  const inside: Route[] = [
    ...server,
    ...both(GATEWAY_ADDRESS, 53, p.officeNames),
    at('udp', GATEWAY_ADDRESS, 5351, p.pmp, p.gateway),
    at('tcp', GATEWAY_ADDRESS, UPNP_PORT, p.upnp, p.gateway),
    at('tcp', DIRECTORY_ADDRESS, 636, p.directory),
    at('udp', '239.255.255.250', 1900, p.ssdp, p.gateway),
  ];
  if (vantage === 'tunnel') return [...everywhere, ...inside];
  return [
    ...everywhere,
    ...inside,
    ...both(NETWORKS.guest.resolver, 53, p.guestNames),
    ...(['outside', 'guest', 'tunnel'] as const).map((v) => at('tcp', NETWORKS[v].probe, PROBE_PORT, p.probes[v])),
  ];
}
