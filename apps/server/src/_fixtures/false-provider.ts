import { createSign, generateKeyPairSync, type KeyObject } from 'node:crypto';
import { createServer, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';

/** What is wrong with the token that it gives. */
export interface Lie {
  claims?: Record<string, unknown>;
  /** Signed with a key that it does not name. */
  otherKey?: boolean;
  /** Not signed at all. */
  unsigned?: boolean;
  /** What is given instead of an answer of its token endpoint. */
  answer?: { status: number; body: string };
}

/**
 * An identity provider that lies: its tokens are made here by RFC 7519 and RFC 7515 with Node.js's own signatures, so
 * that each can be wrong in one place. It lets everybody in at once.
 */
export class FalseProvider {
  lie: Lie = {};
  /** What it was sent last, with the nonce of that sign-in. */
  asked = new URLSearchParams();
  posted: { body: URLSearchParams; authorization: string } | null = null;
  private readonly keys = generateKeyPairSync('rsa', { modulusLength: 2048 });
  private readonly others = generateKeyPairSync('rsa', { modulusLength: 2048 });

  private constructor(private readonly server: Server) {}

  static async open(): Promise<FalseProvider> {
    let made: FalseProvider | null = null;
    const server = createServer((req, res) => {
      let body = '';
      req.on('data', (piece) => (body += String(piece)));
      req.on('end', () => {
        const { status, headers, text } = (made as FalseProvider).answer(
          req.url ?? '/',
          body,
          req.headers.authorization,
        );
        res.writeHead(status, headers).end(text);
      });
    });
    await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
    made = new FalseProvider(server);
    return made;
  }

  get issuer(): string {
    return `http://127.0.0.1:${(this.server.address() as AddressInfo).port}`;
  }

  close(): void {
    this.server.close();
    this.server.closeAllConnections();
  }

  private answer(url: string, body: string, authorization = '') {
    const json = (value: unknown, status = 200) => ({
      ...{ status, text: typeof value === 'string' ? value : JSON.stringify(value) },
      headers: { 'content-type': 'application/json' } as Record<string, string>,
    });
    const { pathname, searchParams } = new URL(url, this.issuer);
    if (pathname === '/.well-known/openid-configuration')
      return json({
        ...{
          issuer: this.issuer,
          authorization_endpoint: `${this.issuer}/auth`,
          token_endpoint: `${this.issuer}/token`,
        },
        ...{ jwks_uri: `${this.issuer}/keys`, response_types_supported: ['code'], subject_types_supported: ['public'] },
        id_token_signing_alg_values_supported: ['RS256'],
      });
    if (pathname === '/keys')
      return json({ keys: [{ ...this.keys.publicKey.export({ format: 'jwk' }), kid: 'a', alg: 'RS256', use: 'sig' }] });
    if (pathname === '/auth') {
      this.asked = searchParams;
      const back = new URL(searchParams.get('redirect_uri') ?? '');
      back.searchParams.set('code', 'a-code');
      back.searchParams.set('state', searchParams.get('state') ?? '');
      return { status: 302, text: '', headers: { location: back.href } };
    }
    this.posted = { body: new URLSearchParams(body), authorization };
    if (this.lie.answer) return json(this.lie.answer.body, this.lie.answer.status);
    return json({ access_token: 'an-access-token', token_type: 'Bearer', id_token: this.token() });
  }

  private token(): string {
    const now = Math.floor(Date.now() / 1000);
    const claims = {
      ...{ iss: this.issuer, aud: this.asked.get('client_id'), sub: 'rosa-there', nonce: this.asked.get('nonce') },
      ...{ iat: now, exp: now + 300, email: 'rosa@saltmarsh.example', email_verified: true, name: 'Rosa Quill' },
      ...this.lie.claims,
    };
    const part = (value: object): string => Buffer.from(JSON.stringify(value)).toString('base64url');
    if (this.lie.unsigned) return `${part({ alg: 'none' })}.${part(claims)}.`;
    const text = `${part({ alg: 'RS256', kid: 'a' })}.${part(claims)}`;
    const key: KeyObject = this.lie.otherKey ? this.others.privateKey : this.keys.privateKey;
    return `${text}.${createSign('RSA-SHA256').update(text).sign(key, 'base64url')}`;
  }
}
