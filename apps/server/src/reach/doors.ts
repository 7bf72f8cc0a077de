import { Inject, Injectable, type OnApplicationBootstrap, type OnApplicationShutdown } from '@nestjs/common';
import { HttpAdapterHost } from '@nestjs/core';
import { addressText, answeringAddress, isUnder, mayAnswer, type DoorAddress } from '@quay/core';
import { createServer as createPlain, type IncomingMessage, type Server, type ServerResponse } from 'node:http';
import { createServer as createTls } from 'node:https';
import type { AddressInfo, Socket } from 'node:net';
import { TLSSocket, type TlsOptions } from 'node:tls';
import { DataSource } from 'typeorm';
import { aside } from '../platform/aside.js';
import { clientAddress, noteClients, notePrefix } from '../platform/client-address.js';
import { CONFIG, type Config } from '../platform/config.js';
import { Events } from '../platform/events/events.js';
import { log } from '../platform/log/log.js';
import { Problem } from '../platform/problems/problem.js';
import { answering } from '../platform/problems/problem.filter.js';
import { CertificatesService } from './certificates.service.js';
import { sendProof } from './proof-page.js';
import { ProofsService } from './proofs.service.js';
import { RelayLines } from './relay-lines.js';

/** RFC 6797 §6.1.1; half a year is common practice, no source. */
const HSTS = 'max-age=15552000';
const HANDSHAKE_MS = 20_000;
const CHALLENGE = /^\/\.well-known\/acme-challenge\/([\w-]{1,200})$/;

interface Facts extends DoorAddress {
  redirect: boolean;
  hsts: boolean;
}

/**
 * The doors that outsiders come through: one with encryption, one that sends plain requests there. Opened where the
 * configuration names them, with the application that answers behind, and closed with it.
 */
@Injectable()
export class Doors implements OnApplicationBootstrap, OnApplicationShutdown {
  private facts: Facts[] | null = null;
  private readonly servers: Server[] = [];
  /** Connections that came by the line of a name. */
  private readonly relayedFor = new WeakMap<object, string>();
  private readonly note: (req: IncomingMessage) => void;
  // RFC 8996: nothing below TLS 1.2. A certificate is looked up at each handshake, so that a new one serves at once.
  private readonly options: TlsOptions = {
    minVersion: 'TLSv1.2',
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
    private readonly lines: RelayLines,
    private readonly events: Events,
    private readonly host: HttpAdapterHost,
    @Inject(CONFIG) private readonly config: Config,
  ) {
    this.note = noteClients(config.reach.trustedProxies);
  }

  async onApplicationBootstrap(): Promise<void> {
    if (!this.config.serves) return;
    this.events.stream.subscribe((event) => {
      if (event.topic !== 'reach') return;
      this.facts = null;
      aside(this.keepLines(), 'the lines to the relay could not be looked at');
    });
    const { tls, plain } = this.config.reach;
    if (tls) await this.listen(this.tlsServer, tls);
    if (plain) await this.listen(createPlain(answering((req, res) => this.sendOn(req, res))), plain);
    await this.keepLines();
  }

  async onApplicationShutdown(): Promise<void> {
    this.lines.end();
    const closed = this.servers.map((server) => new Promise<void>((resolve) => server.close(() => resolve())));
    for (const server of this.servers) server.closeAllConnections();
    await Promise.all(closed);
  }

  /** Where the doors listen: with encryption first, then plain. */
  get ports(): number[] {
    return this.servers.map((s) => (s.address() as AddressInfo).port);
  }

  private keepLines(): Promise<void> {
    return this.lines.keep((host, socket, from) => this.enterRelayed(host, socket, from));
  }

  /** A visitor from the relay: their TLS ends here, and they count as coming from where the relay saw them. */
  private enterRelayed(host: string, socket: Socket, from: string): void {
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

  private async listen(server: Server, at: { host: string; port: number }): Promise<void> {
    server.requestTimeout = 0;
    server.headersTimeout = 20_000;
    server.timeout = 300_000;
    server.keepAliveTimeout = 65_000;
    await new Promise<void>((resolve, reject) => server.once('error', reject).listen(at.port, at.host, resolve));
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
      from: clientAddress(req),
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
        'There is nothing here. Links that you were given begin with /s/.',
      );
    (this.host.httpAdapter.getHttpServer() as Server).emit('request', req, res);
  }

  /** A plain request: the authority's proof is answered here, everything else is sent on to the encrypted address. */
  private async sendOn(req: IncomingMessage, res: ServerResponse): Promise<void> {
    const url = req.url ?? '/';
    const token = CHALLENGE.exec(url)?.[1];
    if (token) {
      const answer = await this.certificates.challenge(token).catch(() => null);
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
