import { createHash, randomBytes } from 'node:crypto';
import {
  createServer,
  request as httpRequest,
  type IncomingMessage,
  type Server,
  type ServerResponse,
} from 'node:http';
import type { AddressInfo } from 'node:net';
import { X509Certificate } from '@peculiar/x509';
import { calculateJwkThumbprint, flattenedVerify, importJWK, type JWK } from 'jose';
import { Issuer, namesOfRequest, renewalNameOf } from './issue.js';
import {
  nameFault,
  NO_FAULTS,
  orderStatus,
  problem,
  type AcmeProblem,
  type Authorization,
  type Challenge,
  type Order,
} from './state.js';

/** How the authority reaches the simulated world: where a host's port 80 is, and what TXT records a name has. */
export interface Outlook {
  web: (host: string) => Promise<{ host: string; port: number } | null>;
  txt: (name: string) => Promise<string[]>;
}

interface Account {
  id: string;
  jwk: JWK;
  thumbprint: string;
  contact: string[];
}

interface Signed {
  account: Account | null;
  jwk: JWK;
  payload: Record<string, unknown> | null;
}

const MOST_BYTES = 100_000;
const ALGORITHMS = ['ES256', 'ES384', 'RS256', 'EdDSA'];

/** A certificate authority on loopback that speaks ACME (RFC 8555), with HTTP-01 and DNS-01. */
export class Authority {
  faults = NO_FAULTS;
  /** Short-lived, so that renewal is something one can watch. */
  lifetimeSeconds = 7 * 86_400;
  readonly issued: { names: string[]; at: string; notAfter: string }[] = [];
  private readonly nonces = new Set<string>();
  private readonly accounts = new Map<string, Account>();
  private readonly orders = new Map<string, Order>();
  private readonly authorizations = new Map<string, Authorization>();
  private readonly certificates = new Map<string, { accountId: string; pem: string }>();
  private server: Server | null = null;
  private base = '';

  private constructor(
    private readonly issuer: Issuer,
    private readonly outlook: Outlook,
    private readonly now: () => number,
  ) {}

  static async create(outlook: Outlook, now = () => Date.now()): Promise<Authority> {
    return new Authority(await Issuer.create(new Date(now())), outlook, now);
  }

  /** The certificate that browsers of the simulated world trust. */
  get rootPem(): string {
    return this.issuer.rootPem;
  }

  async listen(host: string, port: number): Promise<number> {
    this.server = createServer((req, res) => {
      this.handle(req, res).catch(() => res.destroy());
    });
    await new Promise<void>((resolve, reject) => this.server?.once('error', reject).listen(port, host, resolve));
    const chosen = (this.server.address() as AddressInfo).port;
    this.base = `http://${host}:${chosen}`;
    return chosen;
  }

  close(): Promise<void> {
    this.server?.closeAllConnections();
    return new Promise((resolve) => (this.server ? this.server.close(() => resolve()) : resolve()));
  }

  private async handle(req: IncomingMessage, res: ServerResponse): Promise<void> {
    const path = (req.url ?? '/').split('?')[0] ?? '/';
    try {
      if (this.faults.down) throw problem('serverInternal', 'The authority is out of order.', 503);
      if (path === '/root.pem')
        return void res.writeHead(200, { 'Content-Type': 'application/pem-certificate-chain' }).end(this.rootPem);
      if (path === '/directory')
        return this.answer(res, 200, {
          newNonce: `${this.base}/nonce`,
          newAccount: `${this.base}/account`,
          newOrder: `${this.base}/order`,
          revokeCert: `${this.base}/revoke`,
          keyChange: `${this.base}/key`,
          renewalInfo: `${this.base}/renewal`,
          meta: { termsOfService: `${this.base}/terms`, caaIdentities: ['authority.example'] },
        });
      if (path === '/nonce')
        return void res
          .writeHead(req.method === 'HEAD' ? 200 : 204, { 'Replay-Nonce': this.nonce(), 'Cache-Control': 'no-store' })
          .end();
      if (req.method === 'GET' && path.startsWith('/renewal/')) return this.tellRenewal(path.slice(9), res);
      if (req.method !== 'POST')
        throw problem('malformed', 'Everything here is asked for by POST (RFC 8555 §6.3).', 405);
      await this.route(path, await this.verify(req, path), res);
    } catch (error) {
      const told =
        typeof (error as AcmeProblem).type === 'string' && (error as AcmeProblem).type.startsWith('urn:')
          ? (error as AcmeProblem)
          : problem('malformed', error instanceof Error ? error.message : 'The request could not be read.', 400);
      this.answer(res, told.status, told, 'application/problem+json');
    }
  }

  /** RFC 9773 §4.2: when a certificate of this authority should be renewed; asked without a signature. */
  private tellRenewal(name: string, res: ServerResponse): void {
    const known = [...this.certificates.values()].find(({ pem }) => renewalNameOf(pem) === name);
    if (!known) throw problem('malformed', 'There is no such certificate.', 404);
    const { notBefore, notAfter } = new X509Certificate(known.pem);
    // In its last third, or at once where everything is called back.
    const start = this.faults.callsBack
      ? this.now() - 86_400_000
      : notAfter.getTime() - (notAfter.getTime() - notBefore.getTime()) / 3;
    const window = { start: new Date(start).toISOString(), end: new Date(start + 3_600_000).toISOString() };
    const why = this.faults.callsBack ? { explanationURL: `${this.base}/called-back` } : {};
    this.answer(res, 200, { suggestedWindow: window, ...why }, undefined, { 'Retry-After': '21600' });
  }

  private async route(path: string, signed: Signed, res: ServerResponse): Promise<void> {
    if (path === '/account') return this.newAccount(signed, res);
    const account = signed.account;
    if (!account) throw problem('accountDoesNotExist', 'That needs an account.', 400);
    const [, kind, id = '', more] = path.split('/');
    if (path === '/order') return this.newOrder(account, signed.payload, res);
    if (kind === 'accounts') {
      // Strict ones take no update that changes nothing (RFC 8555 §7.3.2).
      if (id !== account.id || (signed.payload && !('contact' in signed.payload) && !('status' in signed.payload)))
        throw problem('malformed', 'An update names what it changes.', 400);
      return this.answer(res, 200, { status: 'valid', contact: account.contact });
    }
    if (kind === 'orders') {
      const order = this.orders.get(id);
      if (order?.accountId !== account.id) throw problem('malformed', 'There is no such order.', 404);
      if (more === 'finalize') await this.finalize(order, signed.payload);
      return this.answer(res, 200, this.shownOrder(order), undefined, { Location: `${this.base}/orders/${order.id}` });
    }
    if (kind === 'authz') {
      const authorization = this.authorizations.get(id);
      if (authorization?.accountId !== account.id) throw problem('malformed', 'There is no such authorization.', 404);
      const challenge = more === undefined ? undefined : authorization.challenges.find((c) => c.id === more);
      if (more !== undefined && !challenge) throw problem('malformed', 'There is no such challenge.', 404);
      if (!challenge) return this.answer(res, 200, this.shownAuthorization(authorization));
      // An empty object asks for the validation (§7.5.1); an empty payload only looks.
      if (signed.payload !== null && challenge.status === 'pending')
        this.validate(authorization, challenge, account).catch((error: Error) => console.error(error.message));
      return this.answer(res, 200, this.shownChallenge(authorization, challenge), undefined, {
        Link: `<${this.base}/authz/${authorization.id}>;rel="up"`,
      });
    }
    if (kind === 'certificates') {
      const certificate = this.certificates.get(id);
      if (certificate?.accountId !== account.id) throw problem('malformed', 'There is no such certificate.', 404);
      return void res
        .writeHead(200, { 'Content-Type': 'application/pem-certificate-chain', 'Replay-Nonce': this.nonce() })
        .end(certificate.pem);
    }
    throw problem('malformed', 'There is nothing at this address.', 404);
  }

  /** Checks a request's signature, nonce and address (RFC 8555 §6.2 to §6.5). */
  private async verify(req: IncomingMessage, path: string): Promise<Signed> {
    let text = '';
    for await (const piece of req)
      if ((text += String(piece)).length > MOST_BYTES) throw problem('malformed', 'The request is too large.', 413);
    if (req.headers['content-type'] !== 'application/jose+json')
      throw problem('malformed', 'The type must be application/jose+json.', 415);
    const jws = JSON.parse(text) as { protected: string; payload: string; signature: string };
    const head = JSON.parse(Buffer.from(jws.protected, 'base64url').toString()) as {
      alg?: string;
      nonce?: string;
      url?: string;
      kid?: string;
      jwk?: JWK;
    };
    if (!ALGORITHMS.includes(head.alg ?? ''))
      throw problem('badSignatureAlgorithm', `Signed with ${head.alg}; ${ALGORITHMS.join(', ')} are taken.`, 400);
    if (head.url !== this.base + path) throw problem('unauthorized', 'The signature is for another address.', 401);
    const fresh = this.nonces.delete(head.nonce ?? '');
    if (!fresh || this.faults.badNonceOnce) {
      this.faults = { ...this.faults, badNonceOnce: false };
      throw problem('badNonce', 'The nonce is not one of the last ones.', 400);
    }
    if ((head.kid === undefined) === (head.jwk === undefined))
      throw problem('malformed', 'Either the account or its key must be named.', 400);
    const account = head.kid ? (this.accounts.get(head.kid.split('/').at(-1) ?? '') ?? null) : null;
    if (head.kid && !account) throw problem('accountDoesNotExist', 'There is no such account.', 400);
    const jwk = (account?.jwk ?? head.jwk) as JWK;
    const { payload } = await flattenedVerify(jws, await importJWK(jwk, head.alg)).catch(() => {
      throw problem('malformed', 'The signature does not hold.', 400);
    });
    return {
      account,
      jwk,
      payload: payload.length ? (JSON.parse(Buffer.from(payload).toString()) as Record<string, unknown>) : null,
    };
  }

  private async newAccount({ jwk, payload }: Signed, res: ServerResponse): Promise<void> {
    const thumbprint = await calculateJwkThumbprint(jwk);
    let account = [...this.accounts.values()].find((a) => a.thumbprint === thumbprint);
    const known = account !== undefined;
    if (!account) {
      if (payload?.['onlyReturnExisting']) throw problem('accountDoesNotExist', 'This key has no account.', 400);
      if (payload?.['termsOfServiceAgreed'] !== true)
        throw problem('userActionRequired', 'The terms must be agreed to.', 403);
      account = { id: id(), jwk, thumbprint, contact: (payload['contact'] as string[] | undefined) ?? [] };
      this.accounts.set(account.id, account);
    }
    this.answer(res, known ? 200 : 201, { status: 'valid', contact: account.contact }, undefined, {
      Location: `${this.base}/accounts/${account.id}`,
    });
  }

  private newOrder(account: Account, payload: Record<string, unknown> | null, res: ServerResponse): void {
    if (this.faults.rateLimited)
      throw problem('rateLimited', 'Too many certificates were asked for. Try again tomorrow.', 429);
    const identifiers = (payload?.['identifiers'] ?? []) as { type?: string; value?: string }[];
    if (
      identifiers.length === 0 ||
      identifiers.length > 20 ||
      identifiers.some((i) => i.type !== 'dns' || typeof i.value !== 'string')
    )
      throw problem('malformed', 'From one to twenty names can be ordered.', 400);
    const names = [...new Set(identifiers.map((i) => (i.value as string).toLowerCase()))].sort();
    for (const name of names) {
      const fault = nameFault(name);
      if (fault) throw fault;
    }
    const expires = new Date(this.now() + 86_400_000).toISOString();
    const authorizationIds = names.map((name) => {
      const wildcard = name.startsWith('*.');
      // Only the zone itself can prove a wildcard (RFC 8555 §7.4.1, common practice).
      const types = wildcard ? (['dns-01'] as const) : (['http-01', 'dns-01'] as const);
      const authorization: Authorization = {
        id: id(),
        accountId: account.id,
        name: name.replace(/^\*\./, ''),
        wildcard,
        status: 'pending',
        expires,
        challenges: types.map((type) => ({
          id: id(),
          type,
          token: randomBytes(24).toString('base64url'),
          status: 'pending',
          validatedAt: null,
          error: null,
        })),
      };
      this.authorizations.set(authorization.id, authorization);
      return authorization.id;
    });
    const order: Order = {
      id: id(),
      accountId: account.id,
      names,
      authorizationIds,
      status: 'pending',
      expires,
      certificateId: null,
      error: null,
    };
    this.orders.set(order.id, order);
    this.answer(res, 201, this.shownOrder(order), undefined, { Location: `${this.base}/orders/${order.id}` });
  }

  /** Looks whether the proof is where it should be (RFC 8555 §8.3, §8.4). */
  private async validate(authorization: Authorization, challenge: Challenge, account: Account): Promise<void> {
    challenge.status = 'processing';
    const expected = `${challenge.token}.${account.thumbprint}`;
    const fault = this.faults.failValidation
      ? problem('unauthorized', 'The validation was made to fail.')
      : challenge.type === 'http-01'
        ? await this.httpFault(authorization.name, challenge.token, expected)
        : await this.dnsFault(authorization.name, expected);
    challenge.status = fault ? 'invalid' : 'valid';
    challenge.error = fault;
    challenge.validatedAt = new Date(this.now()).toISOString();
    authorization.status = fault ? 'invalid' : 'valid';
  }

  private async httpFault(name: string, token: string, expected: string): Promise<AcmeProblem | null> {
    const place = await this.outlook.web(name).catch(() => null);
    if (!place) return problem('dns', `${name} has no address.`);
    const body = await new Promise<string | null>((resolve) => {
      const req = httpRequest(
        { ...place, path: `/.well-known/acme-challenge/${token}`, headers: { host: name }, timeout: 5000 },
        (res) => {
          let text = '';
          res.on('data', (piece) => (text = (text + String(piece)).slice(0, 2000)));
          res.on('end', () => resolve(res.statusCode === 200 ? text.trim() : null));
        },
      );
      req.on('timeout', () => req.destroy());
      req.on('error', () => resolve(null));
      req.end();
    });
    if (body === null)
      return problem('connection', `http://${name}/.well-known/acme-challenge/${token} could not be fetched.`);
    return body === expected ? null : problem('unauthorized', 'Something else than the proof was at that address.');
  }

  private async dnsFault(name: string, expected: string): Promise<AcmeProblem | null> {
    const digest = createHash('sha256').update(expected).digest('base64url');
    const found = await this.outlook.txt(`_acme-challenge.${name}`).catch((): string[] => []);
    if (found.length === 0) return problem('dns', `_acme-challenge.${name} has no TXT record.`);
    return found.includes(digest)
      ? null
      : problem('unauthorized', `The TXT record of _acme-challenge.${name} is another.`);
  }

  private async finalize(order: Order, payload: Record<string, unknown> | null): Promise<void> {
    this.follow(order);
    if (order.status !== 'ready') throw problem('orderNotReady', `The order is ${order.status}.`, 403);
    const csr = Buffer.from(String(payload?.['csr'] ?? ''), 'base64url');
    const asked = await namesOfRequest(csr);
    if (!asked || asked.join() !== [...order.names].sort().join())
      throw problem('badCSR', 'The request is not for the names of the order.', 400);
    order.status = 'processing';
    const [from, to] = [new Date(this.now() - 3_600_000), new Date(this.now() + this.lifetimeSeconds * 1000)];
    const pem = await this.issuer.issue(csr, order.names, from, to);
    order.certificateId = id();
    this.certificates.set(order.certificateId, { accountId: order.accountId, pem });
    this.issued.push({ names: order.names, at: new Date(this.now()).toISOString(), notAfter: to.toISOString() });
    order.status = 'valid';
  }

  private follow(order: Order): void {
    order.status = orderStatus(
      order,
      order.authorizationIds.map((a) => this.authorizations.get(a)).filter((a): a is Authorization => a !== undefined),
    );
  }

  private shownOrder(order: Order) {
    this.follow(order);
    return {
      status: order.status,
      expires: order.expires,
      identifiers: order.names.map((value) => ({ type: 'dns', value })),
      authorizations: order.authorizationIds.map((a) => `${this.base}/authz/${a}`),
      finalize: `${this.base}/orders/${order.id}/finalize`,
      ...(order.certificateId && { certificate: `${this.base}/certificates/${order.certificateId}` }),
      ...(order.error && { error: order.error }),
    };
  }

  private shownAuthorization(a: Authorization) {
    return {
      status: a.status,
      expires: a.expires,
      identifier: { type: 'dns', value: a.name },
      ...(a.wildcard && { wildcard: true }),
      challenges: a.challenges.map((c) => this.shownChallenge(a, c)),
    };
  }

  private shownChallenge(a: Authorization, c: Challenge) {
    return {
      type: c.type,
      url: `${this.base}/authz/${a.id}/${c.id}`,
      token: c.token,
      status: c.status,
      ...(c.validatedAt && c.status === 'valid' && { validated: c.validatedAt }),
      ...(c.error && { error: c.error }),
    };
  }

  private answer(
    res: ServerResponse,
    status: number,
    body: object,
    type = 'application/json',
    headers: Record<string, string> = {},
  ): void {
    res
      .writeHead(status, {
        'Content-Type': type,
        'Replay-Nonce': this.nonce(),
        'Cache-Control': 'no-store',
        Link: `<${this.base}/directory>;rel="index"`,
        ...headers,
      })
      .end(JSON.stringify(body));
  }

  private nonce(): string {
    const nonce = randomBytes(16).toString('base64url');
    this.nonces.add(nonce);
    // The oldest are forgotten; whoever comes back with one is told to try again.
    if (this.nonces.size > 10_000) this.nonces.delete(this.nonces.values().next().value as string);
    return nonce;
  }
}

const id = (): string => randomBytes(15).toString('base64url');
