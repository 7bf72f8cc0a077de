import { execFileSync } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import { mkdirSync, readFileSync } from 'node:fs';
import { resolve } from 'node:path';
import { WORLD, OFFICE, type Network } from './network.js';
import type { Machine, Running } from './net.js';

export const ZONE = 'saltmarsh.example';
export const HOST = 'files.saltmarsh.example';
/** A service that changes names when an address is asked for. */
export const UPDATES = 'dns.world.example';
/** An office elsewhere. */
export const FAR = 'north.world.example';
/** What the relay gives out below its own name. */
export const RELAY_DOMAIN = 'relay.world.example';
export const BELOW_RELAY = `saltmarsh.${RELAY_DOMAIN}`;
const AUTHORITY_NAME = 'acme.world.example';
const PROJECT = resolve(import.meta.dirname, '../..');

/** The key by which the office may change its zone (RFC 8945). */
export const TSIG = { name: 'quay.saltmarsh.example', secret: randomBytes(32).toString('base64') } as const;

/** Debian's Knot: the zone of the office, which it may change with its key. */
export function startNames({ world }: Network, records: string[] = []): Promise<Running> {
  const zone = world.file(
    `${ZONE}.zone`,
    [
      `$ORIGIN ${ZONE}.`,
      '$TTL 60',
      '@ SOA ns1 hostmaster 1 3600 600 604800 5',
      '@ NS ns1',
      `ns1 A ${WORLD.names}`,
      ...records,
      '',
    ].join('\n'),
  );
  mkdirSync(`${world.folder}/knot`, { recursive: true });
  const config = world.file(
    'knot.conf',
    `server:
  listen: ${WORLD.names}@53
  rundir: ${world.folder}/knot
log:
  - target: stdout
    any: info
database:
  storage: ${world.folder}/knot
key:
  - id: ${TSIG.name}
    algorithm: hmac-sha256
    secret: ${TSIG.secret}
acl:
  - id: office
    key: ${TSIG.name}
    action: update
zone:
  - domain: ${ZONE}
    file: ${zone}
    storage: ${world.folder}/knot
    acl: office
    journal-content: none
    zonefile-sync: -1
`,
  );
  return world.start('knotd', ['-c', config], { ready: () => world.must('dig', ...digs(WORLD.names, ZONE, 'SOA')) });
}

/** Debian's unbound: a resolver of the world, which keeps what it was told for as long as it was told. */
export function startResolver({ world }: Network): Promise<Running> {
  const config = world.file(
    'unbound.conf',
    `server:
  interface: ${WORLD.resolver}
  access-control: 0.0.0.0/0 allow
  do-daemonize: no
  chroot: ""
  username: ""
  pidfile: ""
  directory: "${world.folder}"
  use-syslog: no
  logfile: ""
  module-config: "iterator"
  root-hints: ""
  # Nobody else is there to be asked.
  local-zone: "." static
  local-zone: "${ZONE}." transparent
  local-zone: "world.example." transparent
  local-data: "${AUTHORITY_NAME}. A ${WORLD.authority}"
  local-data: "${BELOW_RELAY}. A ${WORLD.relay}"
  local-data: "${UPDATES}. A ${WORLD.elsewhere}"
  local-data: "${FAR}. A ${WORLD.far}"
  do-not-query-localhost: no
remote-control:
  control-enable: no
stub-zone:
  name: "${ZONE}"
  stub-addr: ${WORLD.names}
`,
  );
  return world.start('unbound', ['-d', '-c', config], {
    ready: () => world.must('dig', ...digs(WORLD.resolver, AUTHORITY_NAME, 'A')),
  });
}

/** Debian's dnsmasq, as in the router: passes questions on, and keeps answers. */
export function startForwarder({ router }: Network): Promise<Running> {
  return router.start(
    'dnsmasq',
    [
      ...['--keep-in-foreground', '--no-hosts', '--no-resolv', '--bind-interfaces', '--log-facility=-', '--user=root'],
      ...['--interface=lan', '--interface=guests', `--server=${WORLD.resolver}`, '--pid-file='],
    ],
    { ready: () => router.must('dig', ...digs(OFFICE.router, AUTHORITY_NAME, 'A')) },
  );
}

/** @throws when there is no answer */
const digs = (server: string, name: string, type: string): string[] => [
  ...[`@${server}`, '+tries=1', '+time=1', '+short', name, type],
];

/** Changes the addresses of a name in the zone by nsupdate (Debian's); empty: there is none any more. */
export async function changed({ world }: Network, name: string, values: readonly string[]): Promise<void> {
  const script = world.file(
    'nsupdate',
    [
      `server ${WORLD.names}`,
      `zone ${ZONE}`,
      `update delete ${name} A`,
      `update delete ${name} AAAA`,
      ...values.map((value) => `update add ${name} 60 ${value.includes(':') ? 'AAAA' : 'A'} ${value}`),
      'send',
      '',
    ].join('\n'),
  );
  await world.must('nsupdate', '-y', `hmac-sha256:${TSIG.name}:${TSIG.secret}`, script);
}

/** What a name is at a server, as dig (Debian's) finds it. */
export const lookedUp = (from: Machine, server: string, name: string, type = 'A'): string =>
  from.run('dig', ...digs(server, name, type)).trim();

/** Debian's coturn, as a STUN server. */
export function startStun({ world }: Network): Promise<Running> {
  return world.start(
    'turnserver',
    [
      ...['-n', '--stun-only', '--no-cli', '--log-file=stdout', '--simple-log', '--no-tls', '--no-dtls'],
      ...[`--listening-ip=${WORLD.stun}`, '--listening-port=3478', `--pidfile=${world.folder}/turnserver.pid`],
    ],
    { ready: () => world.must('timeout', '1', 'turnutils_stunclient', WORLD.stun) },
  );
}

export interface Authority {
  directory: string;
  /** What is trusted besides the usual roots: its own door's, and those of the certificates that it gives. */
  roots: string[];
  running: Running;
}

/** How strict an authority is, as Pebble's environment says it. */
export interface Strictness {
  /** Of a hundred good nonces, so many are refused. */
  nonceReject: number;
  /** Seconds until it looks at a proof, at most; null: at once. */
  sleepSeconds: number | null;
  /** Whom it gives certificates to only; null: to everybody. */
  binding?: { id: string; key: string };
}

/** Debian's Pebble: a strict authority (RFC 8555), which looks at proofs from where it stands. */
export async function startAuthority(
  { world }: Network,
  { nonceReject, sleepSeconds, binding }: Strictness = { nonceReject: 5, sleepSeconds: null },
): Promise<Authority> {
  const door = madeCertificate(world);
  const config = world.file(
    'pebble.json',
    JSON.stringify({
      pebble: {
        listenAddress: `${WORLD.authority}:14000`,
        managementListenAddress: `${WORLD.authority}:15000`,
        certificate: door.certificate,
        privateKey: door.key,
        httpPort: 80,
        tlsPort: 443,
        ocspResponderURL: '',
        externalAccountBindingRequired: binding !== undefined,
        ...(binding && { externalAccountMACKeys: { [binding.id]: binding.key } }),
      },
    }),
  );
  const running = await world.start('pebble', ['-config', config, '-dnsserver', `${WORLD.resolver}:53`, '-strict'], {
    env: {
      PEBBLE_WFE_NONCEREJECT: String(nonceReject),
      // Every order is looked at anew.
      PEBBLE_AUTHZREUSE: '0',
      ...(sleepSeconds === null ? { PEBBLE_VA_NOSLEEP: '1' } : { PEBBLE_VA_SLEEPTIME: String(sleepSeconds) }),
    },
    ready: /Listening on/,
  });
  const root = await world.must('curl', '-sS', '--cacert', door.certificate, `https://${AUTHORITY_NAME}:15000/roots/0`);
  return {
    directory: `https://${AUTHORITY_NAME}:14000/dir`,
    roots: [readFileSync(door.certificate, 'utf8'), root],
    running,
  };
}

/** A certificate of its own for the authority's door, by OpenSSL. */
function madeCertificate(world: Machine): { certificate: string; key: string } {
  const [certificate, key] = [`${world.folder}/door.pem`, `${world.folder}/door.key`];
  execFileSync(
    'openssl',
    [
      ...['req', '-x509', '-newkey', 'ec', '-pkeyopt', 'ec_paramgen_curve:prime256v1', '-nodes', '-days', '30'],
      ...['-subj', `/CN=${AUTHORITY_NAME}`, '-addext', `subjectAltName=DNS:${AUTHORITY_NAME}`],
      ...['-keyout', key, '-out', certificate],
    ],
    { stdio: 'ignore' },
  );
  return { certificate, key };
}

export interface StandingProbe {
  url: string;
  token: string;
}

/** The product's probe, standing somewhere. */
export async function startProbe(on: Machine, address: string): Promise<StandingProbe> {
  const token = randomBytes(16).toString('hex');
  await on.start(
    process.execPath,
    [resolve(PROJECT, 'packages/probe/dist/probe.js'), '--serve', '8099', '--host', address],
    { env: { QUAY_PROBE_TOKEN: token }, ready: /8099/ },
  );
  return { url: `http://${address.includes(':') ? `[${address}]` : address}:8099/`, token };
}
