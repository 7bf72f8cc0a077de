import { Inject, Injectable, type OnApplicationBootstrap, type OnApplicationShutdown } from '@nestjs/common';
import { HttpAdapterHost } from '@nestjs/core';
import { clientHello, HELLO_MOST } from '@quay/relay';
import { addressText, answeringAddress, isUnder, mayAnswer, type DoorAddress } from '@quay/core';
import { constants } from 'node:crypto';
import { createServer as createPlain, type IncomingMessage, type Server, type ServerResponse } from 'node:http';
import { createServer as createTls } from 'node:https';
import { createServer, type AddressInfo, type Server as NetServer, type Socket } from 'node:net';
import { TLSSocket, type TlsOptions } from 'node:tls';
import { DataSource } from 'typeorm';
import { aside } from '../platform/aside.js';
import { clientAddress, noteClients, notePrefix } from '../platform/client-address.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Events } from '../platform/events/events.js';
import { OwnNetwork } from '../platform/own-network.js';
import { log } from '../platform/log/log.js';
import { Problem } from '../platform/problems/problem.js';
import { answering } from '../platform/problems/problem.filter.js';
import { CertificatesService } from './certificates.service.js';
import { NameProofs, PROOF_PROTOCOL } from './name-proofs.service.js';
import { sendProof } from './proof-page.js';
import { ProofsService } from './proofs.service.js';
import { RelayLines } from './relay-lines.js';

/** RFC 6797 §6.1.1; half a year is common practice, no source. */
const HSTS = 'max-age=15552000';
const HANDSHAKE_MS = 20_000;
const USUAL_PORT = { tls: 443, plain: 80 } as const;
const CHALLENGE = /^\/\.well-known\/acme-challenge\/([\w-]{1,200})$/;

interface Facts extends DoorAddress {
  redirect: boolean;
  hsts: boolean;
}

function faultWords({ code, message }: NodeJS.ErrnoException, port: number): string {
  if (code === 'EADDRINUSE') return `Another program uses port ${port} of this machine.`;
  if (code === 'EACCES') return `The server may not use port ${port}: those below 1024 take a right of their own.`;
  return message;
}

/** Where a machine has no IPv6, "everywhere" is everywhere over IPv4. @throws Error when the port is not to be had */
async function listening(server: NetServer, { host, port }: { host: string; port: number }): Promise<void> {
  const tried = (at: string) =>
    new Promise<void>((resolve, reject) => {
      const failed = (error: Error) => reject(error);
      server.once('error', failed).listen(port, at, () => {
        server.off('error', failed);
        resolve();
      });
    });
  try {
    await tried(host);
  } catch (error) {
    if (host !== '::' || !['EAFNOSUPPORT', 'EADDRNOTAVAIL'].includes((error as NodeJS.ErrnoException).code ?? ''))
      throw error;
    await tried('0.0.0.0');
  }
}

/**
 * The doors that outsiders come through: one with encryption, one that sends plain requests there. Opened where the
 * configuration names them, with the application that answers behind, and closed with it.
 */
@Injectable()
export class Doors implements OnApplicationBootstrap, OnApplicationShutdown {
  private facts: Facts[] | null = null;
  private readonly servers: Server[] = [];
  private readonly usual: NetServer[] = [];
  /** The names for which an authority may come to see a proof. */
  private proofsFor: ReadonlySet<string> = new Set();
  /** Connections that came by the line of a name. */
  private readonly relayedFor = new WeakMap<object, string>();
  private readonly note: (req: IncomingMessage) => void;
  // RFC 8996: nothing below TLS 1.2. A certificate is looked up at each handshake, so that a new one serves at once.
  private readonly options: TlsOptions = {
    minVersion: 'TLSv1.2',
    // Who comes again with the session of before (TLS 1.2) would not say the name, and be told that nobody knows it.
    secureOptions: constants.SSL_OP_NO_TICKET,
    handshakeTimeout: HANDSHAKE_MS,
    SNICallback: (host, done) => this.choose(host, done),
  };
  private readonly tlsServer = createTls(
    this.options,
    answering((req, res) => this.enter(req, res)),
  ) as unknown as Server;

  constructor(
    private readonly db: DataSource,
    private readonly certificates: CertificatesService,
    private readonly proofs: ProofsService,
    private readonly nameProofs: NameProofs,
    private readonly lines: RelayLines,
    private readonly events: Events,
    private readonly network: OwnNetwork,
    private readonly host: HttpAdapterHost,
    @Inject(CONFIG) private readonly config: Config,
  ) {
    this.note = noteClients(config.reach.trustedProxies);
    const [begin] = this.tlsServer.listeners('connection') as ((socket: Socket) => void)[];
    this.tlsServer
      .removeAllListeners('connection')
      .on('connection', (socket: Socket) => this.afterProof(socket, () => begin?.call(this.tlsServer, socket)));
  }

  async onApplicationBootstrap(): Promise<void> {
    if (!this.config.serves) return;
    this.events.stream.subscribe((event) => {
      if (event.topic !== 'reach') return;
      this.facts = null;
      aside(this.keepLines(), 'the lines to the relay could not be looked at');
      aside(this.noteProofs(), 'which proofs are to be shown could not be looked at');
    });
    await this.noteProofs();
    const { tls, plain, findsNetwork, wiring } = this.config.reach;
    // In a simulated world this machine's own ports are nobody's business.
    const isAtUsual = findsNetwork && wiring === null;
    const plainServer = createPlain(answering((req, res) => this.sendOn(req, res)));
    if (tls) await this.open('tls', this.tlsServer, tls);
    if (plain) await this.open('plain', plainServer, plain);
    if (isAtUsual && tls && tls.port !== USUAL_PORT.tls) await this.openUsual('tls', this.tlsServer, tls.host);
    if (isAtUsual && plain && plain.port !== USUAL_PORT.plain) await this.openUsual('plain', plainServer, plain.host);
    await this.keepLines();
  }

  async onApplicationShutdown(): Promise<void> {
    this.lines.end();
    for (const server of this.usual) server.close();
    const closed = this.servers.map((server) => new Promise<void>((resolve) => server.close(() => resolve())));
    for (const server of this.servers) server.closeAllConnections();
    await Promise.all(closed);
  }

  /** The doors that were to be opened, and why one is not; null: it is. */
  readonly standing: { kind: 'tls' | 'plain'; port: number; fault: string | null }[] = [];

  /** Where the doors listen: with encryption first, then plain. */
  get ports(): number[] {
    return this.servers.map((s) => (s.address() as AddressInfo).port);
  }

  private keepLines(): Promise<void> {
    return this.lines.keep((host, socket, from) => this.enterRelayed(host, socket, from));
  }

  private async noteProofs(): Promise<void> {
    this.proofsFor = new Set(await this.nameProofs.inHandshakes());
  }

  /**
   * While an authority may come to see a proof (RFC 8737) it is looked what a connection says first: the authority's is
   * answered with the proof and ended, every other goes on as if nothing had been read.
   */
  private afterProof(socket: Socket, goOn: () => void): void {
    if (this.proofsFor.size === 0) return goOn();
    let held = Buffer.alloc(0);
    const late = setTimeout(() => socket.destroy(), HANDSHAKE_MS);
    const gather = (piece: Buffer) => {
      held = Buffer.concat([held, piece]);
      const hello = clientHello(held);
      if (hello.outcome === 'more' && held.length <= HELLO_MOST) return;
      clearTimeout(late);
      socket.off('data', gather);
      socket.pause();
      socket.unshift(held);
      const name = hello.outcome === 'hello' && hello.protocols.includes(PROOF_PROTOCOL) ? hello.name : null;
      if (name === null || !this.proofsFor.has(name)) return goOn();
      aside(this.showProof(name, socket), 'a proof could not be shown');
    };
    socket.on('error', () => socket.destroy());
    socket.once('close', () => clearTimeout(late));
    socket.on('data', gather).resume();
  }

  private async showProof(name: string, socket: Socket): Promise<void> {
    const secureContext = await this.nameProofs.inHandshake(name);
    if (!secureContext) return void socket.destroy();
    const tls = new TLSSocket(socket, { isServer: true, secureContext, ALPNProtocols: [PROOF_PROTOCOL] });
    const late = setTimeout(() => tls.destroy(), HANDSHAKE_MS);
    tls.once('close', () => clearTimeout(late));
    tls.on('error', () => tls.destroy());
    tls.once('secure', () => tls.end());
    tls.resume();
  }

  /** A visitor from the relay: their TLS ends here, and they count as coming from where the relay saw them. */
  private enterRelayed(host: string, socket: Socket, from: string): void {
    this.afterProof(socket, () => this.welcomeRelayed(host, socket, from));
  }

  private welcomeRelayed(host: string, socket: Socket, from: string): void {
    const tls = new TLSSocket(socket, { isServer: true, ...this.options });
    Object.defineProperty(tls, 'remoteAddress', { value: from });
    this.relayedFor.set(tls, host);
    tls.on('error', () => tls.destroy());
    // A handshake that does not come to its end ends all the same.
    const late = setTimeout(() => tls.destroy(new Error('the handshake took too long')), HANDSHAKE_MS);
    tls.once('close', () => clearTimeout(late));
    tls.once('secure', () => {
      clearTimeout(late);
      this.tlsServer.emit('secureConnection', tls);
    });
    socket.resume();
  }

  /** A port that another program has is said, and the office goes on: whoever is inside does not need it. */
  private async open(kind: 'tls' | 'plain', server: Server, at: { host: string; port: number }): Promise<void> {
    let fault: string | null = null;
    try {
      await this.listen(server, at);
    } catch (error) {
      fault = faultWords(error as NodeJS.ErrnoException, at.port);
      log.warn({ err: error, port: at.port }, 'a door for outsiders could not be opened');
    }
    this.standing.push({ kind, port: at.port, fault });
  }

  /**
   * The usual port too, where this process may have it and nobody else does: whoever is inside, or comes by IPv6, comes to
   * it without a router in between.
   */
  private async openUsual(kind: 'tls' | 'plain', to: Server, host: string): Promise<void> {
    const port = USUAL_PORT[kind];
    const server = createServer((socket) => to.emit('connection', socket));
    try {
      await listening(server, { host, port });
    } catch (error) {
      log.info({ err: error, port }, 'the usual port is not to be had');
      return;
    }
    server.on('error', (error) => log.warn({ err: error }, 'a door had trouble'));
    this.usual.push(server);
    this.standing.push({ kind, port, fault: null });
  }

  private async listen(server: Server, at: { host: string; port: number }): Promise<void> {
    server.requestTimeout = 0;
    server.headersTimeout = 20_000;
    server.timeout = 300_000;
    server.keepAliveTimeout = 65_000;
    await listening(server, at);
    server.on('error', (error) => log.warn({ err: error }, 'a door had trouble'));
    this.servers.push(server);
  }

  private choose(host: string, done: (error: Error | null, context?: import('node:tls').SecureContext) => void): void {
    this.contextFor(host.toLowerCase()).then(
      (context) => (context ? done(null, context) : done(new Error('no certificate'))),
      (error: Error) => done(error),
    );
  }

  /** Certificates are looked up for names that are addresses only: a stranger can ask for any. */
  private async contextFor(host: string): Promise<import('node:tls').SecureContext | null> {
    return (await this.load()).some((a) => a.host === host) ? this.certificates.context(host) : null;
  }

  private async load(): Promise<Facts[]> {
    this.facts ??= await this.db.query<Facts[]>(
      `SELECT scheme, lower(host) AS host, port, path_prefix AS "pathPrefix", uses, way_in AS "wayIn", redirect, hsts
        FROM address ORDER BY length(path_prefix) DESC`,
    );
    return this.facts;
  }

  /**
   * A request that came encrypted: only where everything it names is one address's, and only for what that may be used
   * for.
   */
  private async enter(req: IncomingMessage, res: ServerResponse): Promise<void> {
    this.note(req);
    const target = req.url ?? '/';
    const socket = req.socket as TLSSocket & { servername?: string | false };
    const address = answeringAddress(await this.load(), {
      serverName: socket.servername || null,
      host: req.headers.host ?? null,
      target,
      relayedFor: this.relayedFor.get(socket) ?? null,
      outside: this.network.isOutside(clientAddress(req)),
    });
    if (!address)
      throw new Problem(
        'misdirected',
        'address.unknown',
        'This server does not answer to that name, or not in that way.',
      );
    if (address.hsts) res.setHeader('Strict-Transport-Security', HSTS);
    const rest = target.slice(address.pathPrefix.length);
    req.url = rest.startsWith('/') ? rest : `/${rest}`;
    notePrefix(req, address.pathPrefix);
    if (!mayAnswer(address.uses, req.url))
      throw new Problem(
        'not-found',
        'address.not-for-this',
        'There is nothing here. Links that you were given begin with /s/ or /h/.',
      );
    (this.host.httpAdapter.getHttpServer() as Server).emit('request', req, res);
  }

  /** A plain request: the authority's proof is answered here, everything else is sent on to the encrypted address. */
  private async sendOn(req: IncomingMessage, res: ServerResponse): Promise<void> {
    const url = req.url ?? '/';
    const token = CHALLENGE.exec(url)?.[1];
    if (token) {
      const answer = await this.nameProofs.onPort80(token).catch(() => null);
      if (!answer) throw new Problem('not-found', 'challenge.none', 'Nothing was asked for here.');
      res.writeHead(200, { 'Content-Type': 'application/octet-stream' }).end(answer);
      return;
    }
    const nonce = /^\/reach\/probe\/([\w-]{10,100})$/.exec(url)?.[1];
    const address = (await this.load()).find((a) => a.scheme === 'https' && a.redirect && a.host === hostOf(req));
    if (nonce && !address) {
      await sendProof(this.proofs, nonce, req, res, 'HTTP');
      return;
    }
    if (!address || !url.startsWith('/')) throw new Problem('not-found', 'address.unknown', 'There is nothing here.');
    const rest = url.slice(isUnder(url, address.pathPrefix) ? address.pathPrefix.length : 0);
    res.writeHead(301, { Location: addressText(address) + rest, 'Content-Length': '0' }).end();
  }
}

function hostOf(req: IncomingMessage): string {
  return (req.headers.host ?? '')
    .replace(/:\d+$/, '')
    .replace(/^\[|\]$/g, '')
    .toLowerCase();
}
