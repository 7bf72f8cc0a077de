import { existsSync, readFileSync } from 'node:fs';
import { resolve } from 'node:path';
import { environmentOf, readConfigFile } from './config-file.js';
import type { Wiring } from './dialler.js';
import { readReachFile } from './reach-file.js';
import { PACE, type Pace } from './pace.js';

/** Everything the server is told from outside. Secrets come from files, never from the command line. */
export interface Config {
  /** Whether this process serves: takes up what is done later, and opens doors. Programs on the machine do not. */
  serves: boolean;
  host: string;
  port: number;
  /** Server processes on this machine. */
  processes: number;
  databaseUrl: string;
  /** Folder of the blob store. */
  blobRoot: string;
  /** A second copy of the blobs, from which damaged ones are restored; null: none. */
  blobCopyRoot: string | null;
  /** Folders of the server's disk that the admin may adopt from and export to. */
  importRoots: string[];
  exportRoot: string | null;
  /** Folder with the built web application; null in tests that need none. */
  webRoot: string | null;
  /** 32 bytes that seal link tokens in the database. */
  sealingKey: Buffer;
  /** Where that lies; `backup-identity` beside it opens encrypted backups. */
  keyFile: string;
  /** A file that the code of the first start is written to, for its owner alone; null: it is only printed. */
  codeFile: string | null;
  /** Where notices are handed in for delivery, as smtp://host:port; null: no mail. */
  smtpUrl: string | null;
  /** Whom mail is from: an address of the office. */
  mailFrom: string;
  logLevel: string;
  metrics: MetricsConfig;
  /** Where the service manager shuts in what makes pictures of files; null: this does, by bubblewrap. */
  previewsSocket: string | null;
  /** Where clamd listens, which looks at what outsiders hand in; null: nothing does. */
  scanner: { host: string; port: number } | { path: string } | null;
  /** Bytes of the disk that uploads must leave free. */
  keepFreeBytes: number;
  /** How far the server's clock is ahead of the machine's; 0 but for demonstrations. */
  clockAheadMs: number;
  /** How slow somebody may be. */
  pace: Pace;
  reach: ReachConfig;
}

/** How figures are given out: on a port of their own, or to whoever shows the token. */
export interface MetricsConfig {
  listen: { host: string; port: number } | null;
  token: string | null;
}

/**
 * How the server stands in its network, and who helps it to be reached. From one file, which only the server may read.
 */
export interface ReachConfig {
  /** Whether what is not said here is asked of the machine: its router, and its address on that network. */
  findsNetwork: boolean;
  /** This machine on the office network, and the ports that a router's mapping leads to; null: it is not said. */
  insideAddress: string | null;
  /** Its own public address over IPv6; null: it is not said. */
  insideAddress6: string | null;
  insidePorts: { tls: number; plain: number };
  /** Where this process listens with encryption, and for plain requests that are sent on; null: nowhere. */
  tls: { host: string; port: number } | null;
  plain: { host: string; port: number } | null;
  /** The router, for mappings; null: it is not said. */
  gateway: string | null;
  /** Name servers of the office network as addresses; null: those of this machine. */
  resolvers: string[] | null;
  /** Servers that say from where they are asked (STUN); several are asked at once. */
  stun: StunServer | StunServer[] | null;
  acmeDirectory: string | null;
  /** Roots that are trusted besides the usual ones, as PEM. */
  roots: string[];
  /** Standing probes elsewhere. */
  probes: Partial<Record<'outside' | 'guest' | 'tunnel', { url: string; token: string }>>;
  /** A program that changes names where no name server takes updates; null: none. */
  nameHook: string | null;
  /** What a relay invited this office with; null: it is not said here. */
  relay: string | null;
  /** Proxies before this server whose word about the visitor is taken, as addresses or ranges. */
  trustedProxies: string[];
  /** How often every address is checked; 0: only when asked. */
  checkEveryMinutes: number;
  /** Where addresses are on this machine; null: where they say. */
  wiring: Wiring | null;
}

export interface StunServer {
  address: string;
  port: number;
}

export const NO_REACH: ReachConfig = {
  findsNetwork: false,
  insideAddress: null,
  insideAddress6: null,
  insidePorts: { tls: 8443, plain: 8080 },
  tls: null,
  plain: null,
  gateway: null,
  resolvers: null,
  stun: null,
  acmeDirectory: null,
  roots: [],
  probes: {},
  nameHook: null,
  relay: null,
  trustedProxies: [],
  checkEveryMinutes: 0,
  wiring: null,
};

/** How a server stands in its network where no file says otherwise. */
const ON_A_MACHINE: ReachConfig = {
  ...NO_REACH,
  findsNetwork: true,
  tls: { host: '::', port: 8443 },
  plain: { host: '::', port: 8080 },
  checkEveryMinutes: 15,
};

/** The web application, where it is built beside this. */
const BUILT_WEB = resolve(import.meta.dirname, '../../../web/dist');

export const CONFIG = Symbol('config');

/** What the file says that QUAY_CONFIG names, under the names of the environment. @throws Error with every fault's line */
function fromFile(path: string | undefined): Record<string, string> {
  if (!path) return {};
  const readText = (file: string): string => {
    try {
      return readFileSync(file, 'utf8');
    } catch (error) {
      throw new Error(`${file} cannot be read: ${(error as Error).message}`, { cause: error });
    }
  };
  const read = readConfigFile(readText(path));
  if ('faults' in read)
    throw new Error(
      read.faults
        .map(({ line, path: at, words }) => `${path}, line ${line}: ${at ? `${at}: ` : ''}${words}`)
        .join('\n'),
    );
  return environmentOf(read.config, readText);
}

/** @throws Error naming the variable that is missing or malformed */
export function configFromEnvironment(environment: NodeJS.ProcessEnv): Config {
  const env: NodeJS.ProcessEnv = { ...fromFile(environment['QUAY_CONFIG']), ...environment };
  const need = (name: string): string => {
    const value = env[name];
    if (!value) throw new Error(`${name} is not set`);
    return value;
  };
  const keyFile = need('QUAY_KEY_FILE');
  const key = Buffer.from(readFileSync(keyFile, 'utf8').trim(), 'hex');
  if (key.length !== 32) throw new Error('QUAY_KEY_FILE does not hold 32 bytes in hexadecimal');
  const reachFile = env['QUAY_REACH_FILE'];
  return {
    serves: true,
    host: env['QUAY_HOST'] ?? '127.0.0.1',
    port: Number(env['QUAY_PORT'] ?? 4180),
    processes: Number(env['QUAY_PROCESSES'] ?? 1),
    databaseUrl: databaseFrom(need('QUAY_DATABASE_URL'), env['QUAY_DATABASE_NAME']),
    blobRoot: need('QUAY_BLOBS'),
    blobCopyRoot: env['QUAY_BLOB_COPY'] || null,
    importRoots: (env['QUAY_IMPORT_ROOTS'] ?? '').split(':').filter(Boolean),
    exportRoot: env['QUAY_EXPORT_ROOT'] || null,
    webRoot: env['QUAY_WEB'] ?? (existsSync(BUILT_WEB) ? BUILT_WEB : null),
    sealingKey: key,
    keyFile,
    codeFile: env['QUAY_CODE_FILE'] || null,
    smtpUrl: env['QUAY_SMTP_URL'] || null,
    mailFrom: env['QUAY_MAIL_FROM'] ?? 'quay@localhost',
    logLevel: env['QUAY_LOG'] ?? 'info',
    metrics: metricsFrom(env),
    previewsSocket: env['QUAY_PREVIEWS_SOCKET'] || null,
    scanner: scannerFrom(env['QUAY_SCANNER']),
    keepFreeBytes: Number(env['QUAY_KEEP_FREE_BYTES'] ?? 64 * 1024 * 1024),
    clockAheadMs: env['QUAY_CLOCK_AT'] ? Date.parse(env['QUAY_CLOCK_AT']) - Date.now() : 0,
    pace: PACE,
    reach: {
      ...ON_A_MACHINE,
      ...(reachFile ? readReachFile(reachFile) : {}),
    },
  };
}

/** Each installed release has a database of its own beside those of the releases before. */
function databaseFrom(url: string, name: string | undefined): string {
  if (!name) return url;
  const named = new URL(url);
  named.pathname = `/${encodeURIComponent(name)}`;
  return named.toString();
}

/** A path, or an address with its port. */
function scannerFrom(text: string | undefined): Config['scanner'] {
  if (!text) return null;
  if (text.startsWith('/')) return { path: text };
  const [, host, port] = /^\[?(.+?)\]?:(\d{1,5})$/.exec(text) ?? [];
  if (host === undefined || port === undefined)
    throw new Error('QUAY_SCANNER is no socket, and no address with its port');
  return { host, port: Number(port) };
}

function metricsFrom(env: NodeJS.ProcessEnv): MetricsConfig {
  const port = env['QUAY_METRICS_PORT'];
  const tokenFile = env['QUAY_METRICS_TOKEN_FILE'];
  const token = tokenFile ? readFileSync(tokenFile, 'utf8').trim() : null;
  if (token !== null && token.length < 20) throw new Error('QUAY_METRICS_TOKEN_FILE holds fewer than 20 characters');
  return {
    listen: port ? { host: env['QUAY_METRICS_HOST'] ?? '127.0.0.1', port: Number(port) } : null,
    token,
  };
}
