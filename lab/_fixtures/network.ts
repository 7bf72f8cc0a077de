import { Net, type Machine, type Running } from './net.js';

/**
 * Addresses of the world. The ranges for documentation will not do here: a real router takes its line for one that is
 * not public, and gives no mappings. 44.128.0.0/16 was set aside for trying things out by those it belonged to (from
 * memory); nothing of it leaves the laboratory.
 */
export const WORLD = {
  isp: '44.128.24.1',
  line: '44.128.24.24',
  resolver: '44.128.113.2',
  authority: '44.128.113.14',
  stun: '44.128.113.19',
  relay: '44.128.113.40',
  far: '44.128.113.60',
  names: '44.128.113.53',
  names2: '44.128.113.54',
  elsewhere: '44.128.113.200',
} as const;

/** The same over IPv6, out of the range for documentation (RFC 3849): what small routers do there is not in their way. */
export const SIX = {
  isp: '2001:db8:24::1',
  line: '2001:db8:24::24',
  elsewhere: '2001:db8:113::200',
  /** What the provider gave the office, of which one network is the office's. */
  given: '2001:db8:20::/48',
  router: '2001:db8:20::1',
  server: '2001:db8:20::10',
  desk: '2001:db8:20::50',
  /** As machines of a network know their router. */
  onLink: 'fe80::1',
} as const;
/** A line whose address many customers share (RFC 6598). */
const SHARED = { isp: '100.64.3.1', line: '100.64.3.4' } as const;

export const OFFICE = { router: '192.168.20.1', server: '192.168.20.10', desk: '192.168.20.50' } as const;
export const GUESTS = { router: '192.168.30.1', guest: '192.168.30.50' } as const;
/** A cable from this process to a server, so that a test can ask it; the product knows nothing of it. */
export interface Cable {
  name: string;
  here: string;
  server: string;
}
let cables = 0;
/**
 * One of its own for each server, by the number of this process and of the cable: the kernel takes its time to remove
 * those of before.
 */
export function newCable(): Cable {
  cables += 1;
  const block = (process.pid % 16_000) * 4;
  const at = (n: number): string => `10.${200 + (cables % 55)}.${(block + n) >> 8}.${(block + n) & 255}`;
  return { name: `qc${process.pid % 100_000}x${cables}`, here: at(1), server: at(2) };
}

export interface Network {
  net: Net;
  /** The provider, and every machine of the world. */
  world: Machine;
  router: Machine;
  server: Machine;
  /** A machine of the office. */
  desk: Machine;
  /** On the guest Wi-Fi. */
  guest: Machine;
  close: () => Promise<void>;
}

/** A firewall and NAT as small routers have: out goes everything, in comes what was asked for or is mapped. */
export const FIREWALL = `
table inet filter {
  chain forward {
    type filter hook forward priority 0; policy drop;
    ct state established,related accept
    iifname { "lan", "guests" } oifname "wan" accept
    # A switch is none of a firewall's business, and this kernel makes it so.
    iifname "lan" oifname "lan" accept
    # Guests are asked, and ask nobody in the office.
    iifname "lan" oifname "guests" accept
    ct status dnat accept
    jump miniupnpd
  }
  chain miniupnpd {
  }
  chain prerouting {
    type nat hook prerouting priority -99; policy accept;
  }
  chain prerouting_miniupnpd {
    type nat hook prerouting priority -100; policy accept;
  }
  chain postrouting_miniupnpd {
    type nat hook postrouting priority 100; policy accept;
  }
  chain postrouting {
    type nat hook postrouting priority 99; policy accept;
    meta nfproto ipv4 iifname { "lan", "guests" } oifname "wan" masquerade
  }
}
`;

/** Of how the provider lets an office be reached. */
export interface Line {
  /** With addresses of its own over IPv6, which the firewall keeps closed. */
  six?: boolean;
  /** With an IPv4 address that many customers have. */
  shared?: boolean;
}

/** An office behind a router, and the world. No service runs yet. */
export async function openNetwork({ six = false, shared = false }: Line = {}): Promise<Network> {
  const net = Net.open();
  try {
    const world = net.machine('world', WORLD.resolver);
    const router = net.machine('router', WORLD.resolver);
    const [server, desk] = [net.machine('server', OFFICE.router), net.machine('desk', OFFICE.router)];
    const guest = net.machine('guest', GUESTS.router);
    net.link([world, 'wan'], [router, 'wan']);
    // The provider's own machine shares no network with the lines that it gives out.
    world.run('ip', 'addr', 'add', `${WORLD.isp}/32`, 'dev', 'wan');
    world.run('ip', 'route', 'add', '44.128.24.0/24', 'dev', 'wan');
    for (const [place, address] of Object.entries(WORLD))
      if (place !== 'isp' && place !== 'line') world.run('ip', 'addr', 'add', `${address}/32`, 'dev', 'lo');
    const { isp, line } = shared ? SHARED : WORLD;
    if (shared) world.run('ip', 'addr', 'add', `${isp}/24`, 'dev', 'wan');
    router.run('ip', 'addr', 'add', `${line}/24`, 'dev', 'wan');
    router.run('ip', 'route', 'add', 'default', 'via', isp);
    router.run('sysctl', '-qw', 'net.ipv4.ip_forward=1');
    for (const [bridge, address] of [
      ['lan', OFFICE.router],
      ['guests', GUESTS.router],
    ] as const) {
      router.run('ip', 'link', 'add', bridge, 'type', 'bridge');
      router.run('ip', 'addr', 'add', `${address}/24`, 'dev', bridge);
      router.run('ip', 'link', 'set', bridge, 'up');
    }
    for (const [machine, bridge, address, gateway] of [
      [server, 'lan', OFFICE.server, OFFICE.router],
      [desk, 'lan', OFFICE.desk, OFFICE.router],
      [guest, 'guests', GUESTS.guest, GUESTS.router],
    ] as const) {
      net.link([machine, 'eth0'], [router, `to-${machine.name}`]);
      router.run('ip', 'link', 'set', `to-${machine.name}`, 'master', bridge);
      machine.run('ip', 'addr', 'add', `${address}/24`, 'dev', 'eth0');
      machine.run('ip', 'route', 'add', 'default', 'via', gateway);
    }
    if (six) addSix({ world, router, server, desk });
    router.rules(FIREWALL);
    return { net, world, router, server, desk, guest, close: () => net.close() };
  } catch (error) {
    await net.close();
    throw error;
  }
}

/** Each machine with an address that all the world can come to, as far as the router's firewall lets it. */
function addSix({ world, router, server, desk }: Pick<Network, 'world' | 'router' | 'server' | 'desk'>): void {
  const give = (machine: Machine, address: string, bits: number, device: string) =>
    machine.run('ip', 'addr', 'add', `${address}/${bits}`, 'dev', device, 'nodad');
  give(world, SIX.isp, 64, 'wan');
  give(world, SIX.elsewhere, 128, 'lo');
  give(router, SIX.line, 64, 'wan');
  give(router, SIX.router, 64, 'lan');
  give(router, SIX.onLink, 64, 'lan');
  router.run('sysctl', '-qw', 'net.ipv6.conf.all.forwarding=1');
  router.run('ip', '-6', 'route', 'add', 'default', 'via', SIX.isp);
  world.run('ip', '-6', 'route', 'add', SIX.given, 'via', SIX.line);
  for (const [machine, address] of [
    [server, SIX.server],
    [desk, SIX.desk],
  ] as const) {
    give(machine, address, 64, 'eth0');
    machine.run('ip', '-6', 'route', 'add', 'default', 'via', SIX.onLink, 'dev', 'eth0');
  }
}

/** What the router speaks with machines behind it. */
export interface RouterSpeaks {
  upnp: boolean;
  /** NAT-PMP and PCP, on one port. */
  pcp: boolean;
}

/** Debian's miniupnpd, as in many a router. Started anew, it knows none of the mappings that it made before. */
export function speaking({ router }: Network, { upnp, pcp }: RouterSpeaks): Promise<Running> {
  const yes = (value: boolean) => (value ? 'yes' : 'no');
  const config = router.file(
    'miniupnpd.conf',
    [
      'ext_ifname=wan',
      'listening_ip=lan',
      `enable_upnp=${yes(upnp)}`,
      `enable_natpmp=${yes(pcp)}`,
      'secure_mode=yes',
      'uuid=0b6c0a9e-7f1d-4f5e-9a51-2f0e3b6b7c11',
      'http_port=5000',
      'upnp_table_name=filter',
      'upnp_nat_table_name=filter',
      'upnp_forward_chain=miniupnpd',
      'upnp_nat_chain=prerouting_miniupnpd',
      'upnp_nat_postrouting_chain=postrouting_miniupnpd',
      'allow 1-65535 192.168.20.0/24 1-65535',
      'deny 0-65535 0.0.0.0/0 0-65535',
      '',
    ].join('\n'),
  );
  const pid = `${router.folder}/miniupnpd.pid`;
  return router.start('miniupnpd', ['-d', '-f', config, '-P', pid], { ready: /listening on|HTTP listening|NAT-PMP/i });
}
