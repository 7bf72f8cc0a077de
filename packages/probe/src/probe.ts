#!/usr/bin/env node
// One file without dependencies, to be copied to a machine elsewhere: measures whether an address can be reached from here.
//   node probe.js https://files.example.org            asks once and prints what was found
//   node probe.js --serve 8099 [--host 127.0.0.1]      a standing vantage; its token is in QUAY_PROBE_TOKEN
import { createHash, randomBytes, timingSafeEqual } from 'node:crypto';
import { Resolver } from 'node:dns/promises';
import { createServer, request as httpRequest, type IncomingMessage, type Server } from 'node:http';
import { connect as tcpConnect, isIP, type Socket } from 'node:net';
import { connect as tlsConnect, type PeerCertificate, type TLSSocket, rootCertificates } from 'node:tls';
import { realpathSync } from 'node:fs';
import { fileURLToPath } from 'node:url';

/** How this vantage gets to others: which name servers it asks, and where an address is. */
export interface Way {
  /** Name servers as "address" or "address:port"; null: those of this machine. */
  resolvers: string[] | null;
  /** Where to connect for an address and port; null: there is no way to it. */
  place: (address: string, port: number) => { host: string; port: number; localAddress?: string } | null;
}

/** As this machine is. */
export const PLAIN_WAY: Way = { resolvers: null, place: (host, port) => ({ host, port }) };

export interface ProbeAsk {
  /** The base address: scheme, host, port and prefix. */
  url: string;
  /** The page that is asked for, from its slash on. */
  path: string;
  /** Roots that are trusted besides those this program knows, as PEM. */
  roots?: string[];
  /** Where to connect instead of what the name leads to; null: look it up. */
  address?: string | null;
  /** Pages that are asked for at further addresses of the name, one at each; without, one address is looked at. */
  morePaths?: string[];
}

/** What came of one address. */
export interface At {
  /** Which page was asked for: 0 is `path`, and others are those of `morePaths`, counted from 1. */
  asked: number;
  connect: { outcome: 'connected' | 'refused' | 'timeout' | 'unreachable'; address: string; elapsedMs: number } | null;
  tls: {
    /** 'stalls': short answers come, and long ones do not. */
    outcome: 'agreed' | 'no-tls' | 'old-protocol' | 'failed' | 'stalls';
    protocol: string | null;
    names: string[];
    notBefore: number;
    notAfter: number;
    trusted: boolean;
    /** What is wrong with the chain besides the dates of the certificate itself; null: nothing. */
    chainFault: 'expired' | 'untrusted' | 'incomplete' | null;
    issuer: string;
  } | null;
  page: { outcome: 'answered' | 'error' | 'timeout'; status: number | null; body: string; elapsedMs: number } | null;
}

/** What was measured. A step that was not taken, because an earlier one failed, is null. Times are milliseconds. */
export interface Measured extends At {
  lookup: {
    outcome: 'answered' | 'no-such-name' | 'no-address' | 'refused' | 'failed' | 'timeout';
    addresses: string[];
    ttlSeconds: number | null;
    elapsedMs: number;
  } | null;
  redirect: {
    /** 'no-redirect': it answers otherwise. 'silent': it takes the connection and says nothing. */
    outcome: 'redirects' | 'serves-plain' | 'closed' | 'elsewhere' | 'no-redirect' | 'silent';
    status: number | null;
    location: string | null;
    hstsSeconds: number | null;
  } | null;
  /** What came of the further addresses of the name. */
  others: At[];
  /** What was asked and answered, a line each. */
  exchange: string[];
}

/**
 * Until a connection is encrypted it takes no longer than this; a lookup and a connection each have their own part of it. A
 * page may take longer: it is slow then, and not broken.
 */
export const WHOLE_MS = 4600;
const LOOKUP_MS = 2500;
const CONNECT_MS = 4000;
export const PAGE_MS = 10_000;
/** Whether short answers come where long ones do not. */
const SHORT_MS = 1500;
const BODY_MOST = 2000;

/** Follows the way in to an address from here: name, connection, encryption, redirect, page. Never throws for what it meets. */
export async function measure(ask: ProbeAsk, way: Way = PLAIN_WAY): Promise<Measured> {
  const url = new URL(ask.url);
  const host = url.hostname.replace(/^\[|\]$/g, '');
  const secure = url.protocol === 'https:';
  const port = Number(url.port || (secure ? 443 : 80));
  const ends = performance.now() + WHOLE_MS;
  const left = (most: number): number => Math.max(50, Math.min(most, ends - performance.now()));
  const found: Measured = { lookup: null, ...NOTHING, redirect: null, others: [], exchange: [] };
  const say = (line: string) => found.exchange.push(line);
  if (!isIP(host)) {
    found.lookup = await lookup(host, way.resolvers, left(LOOKUP_MS));
    const { outcome, addresses, ttlSeconds, elapsedMs } = found.lookup;
    say(
      `A, AAAA ${host}  ${outcome === 'answered' ? addresses.join(' ') : outcome}${ttlSeconds === null ? '' : `  ttl ${ttlSeconds}`}  ${ms(elapsedMs)}`,
    );
  }
  const all = ask.address ? [ask.address] : isIP(host) ? [host] : (found.lookup?.addresses ?? []);
  const [address, ...further] = all;
  if (!address) return found;
  const redirecting = secure ? plainAnswer(address, host, url, way, left(CONNECT_MS)) : null;
  const talk = { host, url, secure, roots: ask.roots ?? [], port, way, left };
  const paths = (ask.morePaths ?? []).slice(0, MORE_MOST);
  const looked = await Promise.all(
    [address, ...further.slice(0, paths.length)].map((each, i) =>
      lookAt(each, i === 0 ? ask.path : (paths[i - 1] as string), i, talk),
    ),
  );
  for (const { lines } of looked) for (const line of lines) say(line);
  // Who finds nobody at one address goes on to the next (RFC 8305 §5).
  const main = looked.find(({ at }) => at.connect?.outcome === 'connected') ?? (looked[0] as Looked);
  const others = looked.filter((each) => each !== main);
  Object.assign(found, main.at);
  found.others = others.map(({ at }) => at);
  if (redirecting) {
    found.redirect = await redirecting;
    const { outcome, status, location } = found.redirect;
    say(`GET http://${host}/  ${status ?? outcome}${location ? `  Location: ${location}` : ''}`);
    found.redirect.hstsSeconds = main.hstsSeconds;
  }
  return found;
}

const NOTHING: At = { asked: 0, connect: null, tls: null, page: null };
/** Further addresses of a name that are looked at. */
const MORE_MOST = 3;

interface Talk {
  host: string;
  url: URL;
  secure: boolean;
  roots: string[];
  port: number;
  way: Way;
  left: (most: number) => number;
}

interface Looked {
  at: At;
  /** HSTS is told by the page over TLS, and belongs to the stage of the redirect. */
  hstsSeconds: number | null;
  lines: string[];
}

async function lookAt(address: string, path: string, asked: number, talk: Talk): Promise<Looked> {
  const { port, way, left } = talk;
  const { socket, told } = await open(address, port, way, left(CONNECT_MS));
  const looked: Looked = { at: { ...NOTHING, asked, connect: told }, hstsSeconds: null, lines: [] };
  looked.lines.push(`connect ${shown(address)}:${port}  ${told.outcome}  ${ms(told.elapsedMs)}`);
  if (socket) await converse(socket, path, looked, talk);
  return looked;
}

async function converse(socket: Socket, page: string, looked: Looked, talk: Talk): Promise<void> {
  const { host, url, secure, roots, left } = talk;
  const { at, lines } = looked;
  let through: Socket = socket;
  if (secure) {
    const asked = performance.now();
    // Asked while the handshake is still waited for, so that both together take no longer.
    const asking: { short?: Promise<boolean> } = {};
    const early = setTimeout(() => {
      asking.short = answersShort(at.connect?.address ?? host, talk);
    }, CONNECT_MS - SHORT_MS);
    const { tls, told, waited } = await handshake(socket, host, roots, left(CONNECT_MS));
    clearTimeout(early);
    at.tls = told;
    if (waited && socket.bytesRead === 0 && at.connect) {
      const stalls = (await asking.short) ?? false;
      if (stalls) at.tls = { ...told, outcome: 'stalls' };
      else {
        // Accepted, and then not a byte: something on the way took the connection (firewalls that answer for those behind them do), not the server.
        at.tls = null;
        at.connect = {
          ...at.connect,
          outcome: 'timeout',
          elapsedMs: at.connect.elapsedMs + performance.now() - asked,
        };
      }
      lines.push(
        `TLS ${host}  not a byte in ${ms(performance.now() - asked)}${stalls ? ', but short answers come' : ''}`,
      );
      return void socket.destroy();
    }
    lines.push(`TLS ${host}  ${told.outcome === 'agreed' ? agreedWords(told) : told.outcome}`);
    if (!tls) return void socket.destroy();
    through = tls;
  }
  const began = performance.now();
  const path = url.pathname.replace(/\/$/, '') + page;
  const answer = await get(through, path, url.host, PAGE_MS);
  through.destroy();
  const elapsedMs = performance.now() - began;
  if (!answer) at.page = { outcome: 'timeout', status: null, body: '', elapsedMs };
  else {
    const { status, body } = answer;
    at.page = { outcome: status === 200 ? 'answered' : 'error', status, body, elapsedMs };
    looked.hstsSeconds = hstsSeconds(answer.headers['strict-transport-security']);
  }
  lines.push(`GET ${path.replace(/[\w-]{16,}$/, '…')}  ${answer?.status ?? 'no answer'}  ${ms(elapsedMs)}`);
}

const agreedWords = ({ protocol, names, notAfter, trusted }: NonNullable<At['tls']>): string =>
  `${protocol}  ${names.slice(0, 5).join(' ')}  until ${new Date(notAfter).toISOString().slice(0, 10)}${trusted ? '' : '  not trusted'}`;

const shown = (address: string): string => (isIP(address) === 6 ? `[${address}]` : address);

/**
 * A hello of TLS 1.2 that offers one method only, of no encryption at all: servers refuse it in seven bytes (RFC 5246
 * §7.2.2). type 22, length 45; ClientHello, length 41; version; random; no session; one cipher; no compression.
 */
const HELLO_WITHOUT_CHOICE = Buffer.concat([
  Buffer.from([22, 3, 1, 0, 45, 1, 0, 0, 41, 3, 3]),
  randomBytes(32),
  Buffer.from([0, 0, 2, 0, 0, 1, 0]),
]);

/**
 * Whether anything comes back that fits into a small packet: a server of TLS refuses in a few bytes what it cannot
 * take. Where that comes and its certificate does not, long packets are lost on the way (RFC 4821 §2).
 */
async function answersShort(address: string, { port, way }: Talk): Promise<boolean> {
  const { socket } = await open(address, port, way, SHORT_MS);
  if (!socket) return false;
  return new Promise((resolve) => {
    const end = (came: boolean) => {
      clearTimeout(timer);
      socket.destroy();
      resolve(came);
    };
    const timer = setTimeout(() => end(false), SHORT_MS);
    socket.once('data', () => end(true));
    socket.once('close', () => end(false));
    socket.write(HELLO_WITHOUT_CHOICE);
  });
}

async function lookup(
  host: string,
  servers: string[] | null,
  timeoutMs: number,
): Promise<NonNullable<Measured['lookup']>> {
  const began = performance.now();
  const resolver = new Resolver({ timeout: Math.ceil(timeoutMs / 2), tries: 2 });
  if (servers) resolver.setServers(servers);
  const timer = setTimeout(() => resolver.cancel(), timeoutMs);
  try {
    const [four, six] = await Promise.allSettled([
      resolver.resolve4(host, { ttl: true }),
      resolver.resolve6(host, { ttl: true }),
    ]);
    const records = [four, six].flatMap((family) => (family.status === 'fulfilled' ? family.value : []));
    // One family may have nothing; where both have nothing, or one could not be asked, that is what is told.
    if (records.length === 0) throw worse(four, six);
    return {
      outcome: 'answered',
      addresses: [...new Set(records.map((r) => r.address))],
      ttlSeconds: Math.min(...records.map((r) => r.ttl)),
      elapsedMs: performance.now() - began,
    };
  } catch (error) {
    const code = (error as NodeJS.ErrnoException).code ?? '';
    const outcome =
      code === 'ENOTFOUND'
        ? 'no-such-name'
        : code === 'ENODATA'
          ? 'no-address'
          : code === 'EREFUSED'
            ? 'refused'
            : code === 'ESERVFAIL'
              ? 'failed'
              : 'timeout';
    return { outcome, addresses: [], ttlSeconds: null, elapsedMs: performance.now() - began };
  } finally {
    clearTimeout(timer);
  }
}

/** Of two answers that hold no address, the one that says more than that there is none. */
function worse(four: PromiseSettledResult<unknown>, six: PromiseSettledResult<unknown>): unknown {
  const [first, second] = [four, six].map((f) =>
    f.status === 'rejected' ? (f.reason as NodeJS.ErrnoException) : null,
  );
  return first && first.code !== 'ENODATA' ? first : (second ?? first);
}

async function open(
  address: string,
  port: number,
  way: Way,
  timeoutMs: number,
): Promise<{ socket: Socket | null; told: NonNullable<Measured['connect']> }> {
  const began = performance.now();
  const told = (outcome: NonNullable<Measured['connect']>['outcome']) => ({
    outcome,
    address,
    elapsedMs: performance.now() - began,
  });
  const place = way.place(address, port);
  if (!place) return { socket: null, told: told('unreachable') };
  return new Promise((resolve) => {
    const socket = tcpConnect(place);
    const timer = setTimeout(() => {
      socket.destroy();
      resolve({ socket: null, told: told('timeout') });
    }, timeoutMs);
    socket.once('connect', () => {
      clearTimeout(timer);
      resolve({ socket, told: told('connected') });
    });
    socket.on('error', (error: NodeJS.ErrnoException) => {
      clearTimeout(timer);
      resolve({
        socket: null,
        told: told(error.code === 'ECONNREFUSED' ? 'refused' : error.code === 'ETIMEDOUT' ? 'timeout' : 'unreachable'),
      });
    });
  });
}

/** Roots that are named are trusted besides the usual ones, not in their place. */
export const trusted = (roots: readonly string[]): string[] => [...rootCertificates, ...roots];

/** A handshake that takes any certificate and says what it is: names, dates and trust are judged by whoever asked. */
function handshake(
  socket: Socket,
  host: string,
  roots: string[],
  timeoutMs: number,
): Promise<{ tls: TLSSocket | null; told: NonNullable<At['tls']>; waited: boolean }> {
  const none = { protocol: null, names: [], notBefore: 0, notAfter: 0, trusted: false, chainFault: null, issuer: '' };
  return new Promise((resolve) => {
    const tls = tlsConnect({
      socket,
      ...(isIP(host) ? {} : { servername: host }),
      rejectUnauthorized: false,
      checkServerIdentity: () => undefined,
      ca: trusted(roots),
    });
    const timer = setTimeout(() => end('failed', true), timeoutMs);
    const end = (outcome: 'no-tls' | 'old-protocol' | 'failed', waited = false) => {
      clearTimeout(timer);
      tls.destroy();
      resolve({ tls: null, told: { outcome, ...none }, waited });
    };
    tls.once('secureConnect', () => {
      clearTimeout(timer);
      const certificate = tls.getPeerCertificate();
      const dates = { notBefore: Date.parse(certificate.valid_from), notAfter: Date.parse(certificate.valid_to) };
      const chainFault = tls.authorized ? null : chainFaultOf(String(tls.authorizationError), dates);
      resolve({
        tls,
        told: {
          outcome: 'agreed',
          protocol: tls.getProtocol(),
          names: namesOf(certificate),
          ...dates,
          trusted: chainFault === null,
          chainFault,
          issuer: one(certificate.issuer?.O) ?? one(certificate.issuer?.CN) ?? 'nobody',
        },
        waited: false,
      });
    });
    tls.on('error', (error: NodeJS.ErrnoException) =>
      end(
        /wrong version number|packet length|http request/i.test(error.message)
          ? 'no-tls'
          : /unsupported protocol|protocol version/i.test(error.message)
            ? 'old-protocol'
            : 'failed',
      ),
    );
  });
}

/** What is wrong with a chain. What is only past its own end is not distrusted: its dates say so themselves. */
function chainFaultOf(error: string, { notBefore, notAfter }: { notBefore: number; notAfter: number }) {
  const isValid = notBefore <= Date.now() && Date.now() < notAfter;
  if (/EXPIRED|NOT_YET_VALID/.test(error)) return isValid ? 'expired' : null;
  return /UNABLE_TO_GET_ISSUER|UNABLE_TO_VERIFY_LEAF/.test(error) ? 'incomplete' : 'untrusted';
}

const one = (value: string | string[] | undefined): string | undefined => (Array.isArray(value) ? value[0] : value);

/** Names come from the subject's alternatives only (RFC 9525 §2: never from the common name). */
function namesOf(certificate: PeerCertificate): string[] {
  return (certificate.subjectaltname ?? '')
    .split(', ')
    .filter((n) => /^(DNS|IP Address):/.test(n))
    .map((n) => n.slice(n.indexOf(':') + 1));
}

interface Answer {
  status: number;
  headers: IncomingMessage['headers'];
  body: string;
}

/** One request over a connection that stands; null when no answer came in time or in full. */
function get(socket: Socket, path: string, hostHeader: string, timeoutMs: number): Promise<Answer | null> {
  return new Promise((resolve) => {
    const request = httpRequest(
      {
        createConnection: () => socket,
        path: path || '/',
        headers: { host: hostHeader, connection: 'close', 'user-agent': 'quay-probe' },
        maxHeaderSize: 16_384,
      },
      (res) => {
        let body = '';
        res.on('data', (piece: Buffer) => {
          body += piece.toString('latin1');
          if (body.length > BODY_MOST)
            end({ status: res.statusCode ?? 0, headers: res.headers, body: body.slice(0, BODY_MOST) });
        });
        res.on('end', () => end({ status: res.statusCode ?? 0, headers: res.headers, body }));
      },
    );
    const timer = setTimeout(() => end(null), timeoutMs);
    const end = (answer: Answer | null) => {
      clearTimeout(timer);
      resolve(answer);
      request.destroy();
    };
    request.on('error', () => end(null));
    request.end();
  });
}

/** What plain HTTP on port 80 says to whoever types the name without https. */
async function plainAnswer(
  address: string,
  host: string,
  url: URL,
  way: Way,
  timeoutMs: number,
): Promise<NonNullable<Measured['redirect']>> {
  const { socket } = await open(address, 80, way, timeoutMs);
  const answer = socket && (await get(socket, '/', host, timeoutMs));
  socket?.destroy();
  if (!answer) return { outcome: socket ? 'silent' : 'closed', status: null, location: null, hstsSeconds: null };
  const location = typeof answer.headers.location === 'string' ? answer.headers.location : null;
  const status = answer.status;
  if (status < 300 || status >= 400 || !location)
    return { outcome: status < 300 ? 'serves-plain' : 'no-redirect', status, location, hstsSeconds: null };
  const leads = URL.canParse(location, url.href) ? new URL(location, `http://${host}`) : null;
  return {
    outcome: leads?.protocol === 'https:' && leads.host === url.host ? 'redirects' : 'elsewhere',
    status,
    location,
    hstsSeconds: null,
  };
}

/** RFC 6797 §6.1.1: max-age in seconds; null when the header is absent or has none. */
function hstsSeconds(header: string | string[] | undefined): number | null {
  const match = /(?:^|;)\s*max-age\s*=\s*"?(\d+)"?/i.exec(one(header) ?? '');
  return match ? Number(match[1]) : null;
}

const ms = (elapsed: number): string =>
  elapsed < 1000 ? `${Math.round(elapsed)} ms` : `${(elapsed / 1000).toFixed(1)} s`;

/** What a request to a standing probe may hold; everything else is refused. */
export function readAsk(body: string): ProbeAsk | null {
  try {
    const { url, path, roots = [], address = null, morePaths = [] } = JSON.parse(body) as ProbeAsk;
    const isPath = (value: unknown) => typeof value === 'string' && /^\/[\w./-]{0,300}$/.test(value);
    const sound =
      typeof url === 'string' &&
      /^https?:\/\/\S+$/.test(url) &&
      URL.canParse(url) &&
      isPath(path) &&
      Array.isArray(morePaths) &&
      morePaths.length <= MORE_MOST &&
      morePaths.every(isPath) &&
      Array.isArray(roots) &&
      roots.every((r) => typeof r === 'string') &&
      (address === null || (typeof address === 'string' && isIP(address) !== 0));
    return sound ? { url, path, roots, address, morePaths } : null;
  } catch {
    return null;
  }
}

/** Answers POST / with what was measured from here, to whoever has the token. */
export function probeServer(token: string, way: Way = PLAIN_WAY): Server {
  const digest = (text: string) => createHash('sha256').update(text).digest();
  return createServer((req, res) => {
    let body = '';
    req.on('data', (piece: Buffer) => {
      body += piece.toString('utf8');
      if (body.length > 100_000) req.destroy();
    });
    req.on('end', () => {
      const reply = (status: number, value: unknown) =>
        res.writeHead(status, { 'content-type': 'application/json' }).end(JSON.stringify(value));
      if (!timingSafeEqual(digest(req.headers.authorization ?? ''), digest(`Bearer ${token}`)))
        return reply(401, { detail: 'That needs the token of this probe.' });
      const ask = req.method === 'POST' ? readAsk(body) : null;
      if (!ask) return reply(400, { detail: 'POST {"url": "https://…", "path": "/…"}.' });
      measure(ask, way)
        .then((found) => reply(200, found))
        .catch(() => res.destroy());
    });
  });
}

async function main(args: string[]): Promise<number> {
  const after = (flag: string) => (args.includes(flag) ? args[args.indexOf(flag) + 1] : undefined);
  const port = after('--serve');
  if (port !== undefined) {
    const token = process.env['QUAY_PROBE_TOKEN'] ?? '';
    if (token.length < 16 || !/^\d+$/.test(port))
      return say('Needs QUAY_PROBE_TOKEN of at least 16 characters, and --serve PORT.', 1);
    await new Promise<void>((resolve, reject) =>
      probeServer(token)
        .once('error', reject)
        .listen(Number(port), after('--host') ?? '127.0.0.1', resolve),
    );
    say(`A standing vantage on port ${port}.`, 0);
    return new Promise(() => undefined);
  }
  const [url] = args;
  const ask = readAsk(JSON.stringify({ url, path: '/reach/probe' }));
  if (!ask) return say('Usage: probe.js https://files.example.org   or   probe.js --serve PORT', 1);
  const found = await measure(ask);
  const t = found.tls;
  const trouble =
    found.lookup && found.lookup.outcome !== 'answered'
      ? 'The name does not lead here.'
      : found.connect?.outcome !== 'connected'
        ? 'No connection.'
        : t && t.outcome !== 'agreed'
          ? 'No encryption.'
          : t && !t.trusted
            ? 'The certificate is not trusted.'
            : t && (t.notAfter < Date.now() || t.notBefore > Date.now())
              ? 'The certificate is not valid today.'
              : found.page?.outcome !== 'answered'
                ? 'The page did not come.'
                : null;
  return say([...found.exchange, trouble ?? 'Reached.'].join('\n'), trouble ? 2 : 0);
}

function say(words: string, code: number): number {
  console.log(words);
  return code;
}

if (process.argv[1] && realpathSync(process.argv[1]) === fileURLToPath(import.meta.url))
  process.exitCode = await main(process.argv.slice(2));
