import type { INestApplication } from '@nestjs/common';
import { addressText, answeringAddress, isUnder, mayAnswer, type DoorAddress } from '@quay/core';
import { createServer as createPlain, type IncomingMessage, type Server, type ServerResponse } from 'node:http';
import { createServer as createTls } from 'node:https';
import type { AddressInfo, Socket } from 'node:net';
import { TLSSocket, type TlsOptions } from 'node:tls';
import { DataSource } from 'typeorm';
import { aside } from '../platform/aside.js';
import { clientAddress, noteClients, notePrefix } from '../platform/client-address.js';
import type { Config } from '../platform/config.js';
import { Dialler } from '../platform/dialler.js';
import { Events } from '../platform/events/events.js';
import { log } from '../platform/log/log.js';
import { Problem } from '../platform/problems/problem.js';
import { answering } from '../platform/problems/problem.filter.js';
import { CertificatesService } from './certificates.service.js';
import { sendProof } from './proof-page.js';
import { ProofsService } from './proofs.service.js';
import { RelayLine, type RelayConfig } from './relay-line.js';
import { RelayLines } from './relay-lines.js';

/** RFC 6797 §6.1.1; half a year is common practice, no source. */
const HSTS = 'max-age=15552000';
const HANDSHAKE_MS = 20_000;
const CHALLENGE = /^\/\.well-known\/acme-challenge\/([\w-]{1,200})$/;

interface Facts extends DoorAddress {
  redirect: boolean;
  hsts: boolean;
}

/** The doors that outsiders come through: one with encryption, one that sends plain requests there. */
export class Doors {
  private facts: Facts[] | null = null;
  private readonly servers: Server[] = [];
  private readonly relayed = new Map<string, RelayLine>();
  /** Connections that came by the line of a name. */
  private readonly relayedFor = new WeakMap<object, string>();
  private tlsServer: Server | null = null;

  private constructor(
    private readonly db: DataSource,
    private readonly certificates: CertificatesService,
    private readonly proofs: ProofsService,
    private readonly dialler: Dialler,
    private readonly relay: RelayConfig | null,
    private readonly lines: RelayLines,
    private readonly inner: Server,
    private readonly note: (req: IncomingMessage) => void,
  ) {}

  /** Opens what the configuration names; the product itself answers behind. */
  static async open(app: INestApplication, config: Config): Promise<Doors> {
    const doors = new Doors(
      app.get(DataSource),
      app.get(CertificatesService),
      app.get(ProofsService),
      app.get(Dialler),
      config.reach.relay,
      app.get(RelayLines),
      app.getHttpServer() as Server,
      noteClients(config.reach.trustedProxies),
    );
    app.get(Events).stream.subscribe((event) => {
      if (event.topic !== 'reach') return;
      doors.facts = null;
      aside(doors.keepLines(), 'the lines to the relay could not be looked at');
    });
    const { tls, plain } = config.reach;
    // RFC 8996: nothing below TLS 1.2. A certificate is looked up at each handshake, so that a new one serves at once.
    doors.tlsServer = createTls(
      doors.options,
      answering((req, res) => doors.enter(req, res)),
    ) as unknown as Server;
    if (tls) await doors.listen(doors.tlsServer, tls);
    if (plain) await doors.listen(createPlain(answering((req, res) => doors.sendOn(req, res))), plain);
    await doors.keepLines();
    return doors;
  }

  /** Where the doors listen: with encryption first, then plain. */
  get ports(): number[] {
    return this.servers.map((s) => (s.address() as AddressInfo).port);
  }

  private get options(): TlsOptions {
    return {
      minVersion: 'TLSv1.2',
      handshakeTimeout: HANDSHAKE_MS,
      SNICallback: (host, done) => this.choose(host, done),
    };
  }

  /** Keeps a line to the relay for each address that is reached through it, and lets go of the others. */
  private async keepLines(): Promise<void> {
    if (!this.relay) return;
    const rows = await this.db
      .query<{ host: string }[]>(`SELECT DISTINCT lower(host) AS host FROM address WHERE way_in = 'relay'`)
      .catch(() => null);
    if (!rows) return;
    for (const [host, line] of this.relayed) {
      if (rows.some((r) => r.host === host)) continue;
      line.stop();
      this.relayed.delete(host);
    }
    for (const { host } of rows)
      if (!this.relayed.has(host))
        this.relayed.set(
          host,
          new RelayLine(host, this.relay, this.dialler, (socket, from) => this.enterRelayed(host, socket, from)),
        );
    this.lines.set(this.relayed);
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
      this.tlsServer?.emit('secureConnection', tls);
    });
    socket.resume();
  }

  async close(): Promise<void> {
    for (const line of this.relayed.values()) line.stop();
    await Promise.all(
      this.servers.map(
        (s) =>
          new Promise<void>((resolve) => {
            s.close(() => resolve());
            s.closeAllConnections();
          }),
      ),
    );
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
    this.inner.emit('request', req, res);
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
