import type { INestApplication } from '@nestjs/common';
import { addressText, mayAnswer, type Address, type AddressUses } from '@quay/core';
import { createServer as createPlain, type IncomingMessage, type Server, type ServerResponse } from 'node:http';
import { createServer as createTls } from 'node:https';
import type { AddressInfo, Socket } from 'node:net';
import { TLSSocket, type TlsOptions } from 'node:tls';
import { DataSource } from 'typeorm';
import { notePrefix } from '../platform/client-address.js';
import type { Config } from '../platform/config.js';
import { Dialler } from '../platform/dialler.js';
import { Events } from '../platform/events/events.js';
import { log } from '../platform/log/log.js';
import { CertificatesService } from './certificates.service.js';
import { sendProof } from './proof-page.js';
import { ProofsService } from './proofs.service.js';
import { RelayLine, type RelayConfig } from './relay-line.js';
import { RelayLines } from './relay-lines.js';

/** RFC 6797 §6.1.1; half a year is common practice, no source. */
const HSTS = 'max-age=15552000';
const CHALLENGE = /^\/\.well-known\/acme-challenge\/([\w-]{1,200})$/;

interface Facts extends Address {
  uses: AddressUses;
  redirect: boolean;
  hsts: boolean;
}

/** The doors that outsiders come through: one with encryption, one that sends plain requests there. */
export class Doors {
  private facts: Facts[] | null = null;
  private readonly servers: Server[] = [];
  private readonly relayed = new Map<string, RelayLine>();
  private tlsServer: Server | null = null;

  private constructor(
    private readonly db: DataSource,
    private readonly certificates: CertificatesService,
    private readonly proofs: ProofsService,
    private readonly dialler: Dialler,
    private readonly relay: RelayConfig | null,
    private readonly lines: RelayLines,
    private readonly inner: Server,
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
    );
    app.get(Events).stream.subscribe((event) => {
      if (event.topic !== 'reach') return;
      doors.facts = null;
      void doors.keepLines();
    });
    const { tls, plain } = config.reach;
    // RFC 8996: nothing below TLS 1.2. A certificate is looked up at each handshake, so that a new one serves at once.
    doors.tlsServer = createTls(doors.options, (req, res) => void doors.enter(req, res)) as unknown as Server;
    if (tls) await doors.listen(doors.tlsServer, tls);
    if (plain)
      await doors.listen(
        createPlain((req, res) => void doors.sendOn(req, res)),
        plain,
      );
    await doors.keepLines();
    return doors;
  }

  get ports(): number[] {
    return this.servers.map((s) => (s.address() as AddressInfo).port);
  }

  private get options(): TlsOptions {
    return { minVersion: 'TLSv1.2', SNICallback: (host, done) => this.choose(host, done) };
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
          new RelayLine(host, this.relay, this.dialler, (socket, from) => this.enterRelayed(socket, from)),
        );
    this.lines.set(this.relayed);
  }

  /** A visitor from the relay: their TLS ends here, and they count as coming from where the relay saw them. */
  private enterRelayed(socket: Socket, from: string): void {
    const tls = new TLSSocket(socket, { isServer: true, ...this.options });
    Object.defineProperty(tls, 'remoteAddress', { value: from });
    tls.on('error', () => tls.destroy());
    tls.once('secure', () => this.tlsServer?.emit('secureConnection', tls));
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
      'SELECT scheme, lower(host) AS host, port, path_prefix AS "pathPrefix", uses, redirect, hsts FROM address ORDER BY length(path_prefix) DESC',
    );
    return this.facts;
  }

  /** A request that came encrypted: only for names this server answers to, and only for what each may be used for. */
  private async enter(req: IncomingMessage, res: ServerResponse): Promise<void> {
    const address = (await this.addresses(res)).find(
      (a) => a.scheme === 'https' && a.host === hostOf(req) && under(req.url ?? '/', a.pathPrefix),
    );
    if (res.writableEnded) return;
    // RFC 9110 §15.5.20: this server is not the one for that name.
    if (!address) return void refuse(res, 421, 'address.unknown', 'This server does not answer to that name.');
    if (address.hsts) res.setHeader('Strict-Transport-Security', HSTS);
    req.url = (req.url ?? '/').slice(address.pathPrefix.length) || '/';
    notePrefix(req, address.pathPrefix);
    if (!mayAnswer(address.uses, req.url))
      return void refuse(
        res,
        404,
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
      return void (answer
        ? res.writeHead(200, { 'Content-Type': 'application/octet-stream' }).end(answer)
        : refuse(res, 404, 'challenge.none', 'Nothing was asked for here.'));
    }
    const nonce = /^\/reach\/probe\/([\w-]{10,100})$/.exec(url)?.[1];
    const address = (await this.addresses(res)).find(
      (a) => a.scheme === 'https' && a.redirect && a.host === hostOf(req),
    );
    if (res.writableEnded) return;
    if (nonce && !address) return void (await sendProof(this.proofs, nonce, req, res, 'HTTP'));
    if (!address) return void refuse(res, 404, 'address.unknown', 'There is nothing here.');
    res
      .writeHead(301, {
        Location: addressText(address) + url.slice(under(url, address.pathPrefix) ? address.pathPrefix.length : 0),
        'Content-Length': '0',
      })
      .end();
  }

  private async addresses(res: ServerResponse): Promise<Facts[]> {
    try {
      return await this.load();
    } catch {
      refuse(res, 503, 'database.away', 'The server cannot reach its database. Try again in a moment.');
      return [];
    }
  }
}

function hostOf(req: IncomingMessage): string {
  return (req.headers.host ?? '')
    .replace(/:\d+$/, '')
    .replace(/^\[|\]$/g, '')
    .toLowerCase();
}

const under = (url: string, prefix: string): boolean =>
  prefix === '' || url === prefix || url.startsWith(`${prefix}/`) || url.startsWith(`${prefix}?`);

function refuse(res: ServerResponse, status: number, code: string, detail: string): void {
  res
    .writeHead(status, { 'Content-Type': 'application/problem+json' })
    .end(JSON.stringify({ type: 'about:blank', status, code, detail }));
}
