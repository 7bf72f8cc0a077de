import { execFileSync } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import { existsSync, mkdirSync, readFileSync } from 'node:fs';
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

/** Debian's Knot: the zone of the office, which it may change with its key. What it is told is gone when it ends. */
export function startNames({ world }: Network, { records = [], isDouble = false }: Zone = {}): Promise<Running> {
  const zone = world.file(
    `${ZONE}.zone`,
    [
      `$ORIGIN ${ZONE}.`,
      '$TTL 60',
      // Whoever begins it again has a later number, so that others take it over.
      `@ SOA ns1 hostmaster ${Math.floor(Date.now() / 1000)} ${SECOND_LATE_S} ${SECOND_LATE_S} 604800 5`,
      '@ NS ns1',
      `ns1 A ${WORLD.names}`,
      ...(isDouble ? ['@ NS ns2', `ns2 A ${WORLD.names2}`] : []),
      ...records,
      '',
    ].join('\n'),
  );
  return startKnot(world, WORLD.names, {
    key: `
  - id: ${TSIG.name}
    algorithm: hmac-sha256
    secret: ${TSIG.secret}`,
    acl: `
  - id: office
    key: ${TSIG.name}
    action: update
  - id: second
    address: ${WORLD.names2}
    action: transfer`,
    zone: `
    file: ${zone}
    acl: [office, second]
    journal-content: none
    zonefile-sync: -1`,
  });
}

/** What the zone of the office holds to begin with. */
export interface Zone {
  records?: string[];
  /** It says that a second name server knows it, too. */
  isDouble?: boolean;
}

/** So late is the second name server, which nobody tells of changes. */
const SECOND_LATE_S = 8;

/** A second name server of the zone, which asks the first one now and then. */
export const startSecondNames = ({ world }: Network): Promise<Running> =>
  startKnot(world, WORLD.names2, {
    remote: `
  - id: first
    address: ${WORLD.names}
    via: ${WORLD.names2}`,
    zone: `
    master: first
    zonefile-sync: -1`,
  });

/** @param parts sections of its configuration; of the zone what is said of it */
function startKnot(world: Machine, address: string, { zone, ...parts }: { zone: string } & Record<string, string>) {
  const folder = `${world.folder}/knot-${address}`;
  mkdirSync(folder, { recursive: true });
  const config = world.file(
    `knot-${address}.conf`,
    `server:
  listen: ${address}@53
  rundir: ${folder}
log:
  - target: stdout
    any: info
database:
  storage: ${folder}
${Object.entries(parts)
  .map(([section, text]) => `${section}:${text}\n`)
  .join('')}zone:
  - domain: ${ZONE}
    storage: ${folder}${zone}
`,
  );
  return world.start('knotd', ['-c', config], {
    ready: async () => {
      if (!(await world.must('dig', ...digs(address, ZONE, 'SOA')))) throw new Error('it does not know the zone');
    },
  });
}

/** Debian's unbound: a resolver of the world, which keeps what it was told for as long as it was told. */
export function startResolver({ world }: Network, isDouble = false): Promise<Running> {
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
${isDouble ? `  stub-addr: ${WORLD.names2}\n` : ''}`,
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

/** A certificate of its own for the authority's door, by OpenSSL: the same for whoever begins it again. */
function madeCertificate(world: Machine): { certificate: string; key: string } {
  const [certificate, key] = [`${world.folder}/door.pem`, `${world.folder}/door.key`];
  if (!existsSync(certificate))
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
