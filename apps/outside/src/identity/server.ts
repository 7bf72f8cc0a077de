import { createServer, type IncomingMessage, type Server, type ServerResponse } from 'node:http';
import type { AddressInfo } from 'node:net';
import { Provider, type Configuration } from 'oidc-provider';
import { escape, page } from '../page.js';

/** Somebody who can sign in there. */
interface Identity {
  name: string;
  email: string;
  verified: boolean;
  groups: string[];
}

export const CLIENT = { id: 'lockfast-quay', secret: 'osier-ferry-lamp-82' };
/** Everybody types it. */
export const PASSWORD = 'sluice-heron';

const person = (name: string, groups: string[], verified = true): Identity => {
  const short = name.split(' ')[0]?.toLowerCase() ?? '';
  return { name, email: `${short}@saltmarsh.example`, verified, groups };
};
const PEOPLE: Record<string, Identity> = {
  rosa: person('Rosa Quill', ['crew', 'drawing']),
  tomas: person('Tomas Osei', ['crew']),
  noel: person('Noel Farrow', [], false),
  iris: person('Iris Ward', ['office']),
  mina: person('Mina Sorrel', ['crew']),
};

/** An identity provider (OpenID Connect) with a page of its own on which people say who they are. */
export class IdentityServer {
  private provider: Provider | null = null;
  private readonly server: Server;
  private callbacks = new Set<string>();
  down = false;
  port = 0;

  constructor() {
    this.server = createServer((req, res) => {
      this.answer(req, res).catch(() => res.destroy());
    });
  }

  async listen(host: string, port: number): Promise<number> {
    await new Promise<void>((resolve) => this.server.listen(port, host, resolve));
    this.port = (this.server.address() as AddressInfo).port;
    return this.port;
  }

  get issuer(): string {
    return `http://127.0.0.1:${this.port}`;
  }

  /** Says where people are sent back to. */
  register(callback: string): void {
    this.callbacks.add(callback);
    this.provider = this.made([...this.callbacks]);
  }

  close(): Promise<void> {
    return new Promise((resolve) => {
      this.server.close(() => resolve());
      this.server.closeAllConnections();
    });
  }

  private made(callbacks: string[]): Provider {
    const provider = new Provider(this.issuer, configuration(callbacks));
    provider.on('server_error', () => undefined);
    return provider;
  }

  private async answer(req: IncomingMessage, res: ServerResponse): Promise<void> {
    if (this.down) return void res.destroy();
    const url = new URL(req.url ?? '/', this.issuer);
    // Where the office says by which address it is signed in to; a real one has a page for that.
    const callback = url.searchParams.get('redirect_uri');
    if (url.pathname === '/auth' && callback && !this.callbacks.has(callback)) this.register(callback);
    this.provider ??= this.made([]);
    if (url.pathname.startsWith('/interaction/')) return this.interact(this.provider, req, res);
    await this.provider.callback()(req, res);
  }

  private async interact(provider: Provider, req: IncomingMessage, res: ServerResponse): Promise<void> {
    const details = await provider.interactionDetails(req, res);
    if (req.method !== 'POST') return show(res, loginPage(details.uid, ''));
    let body = '';
    for await (const piece of req) if ((body += String(piece)).length > 5000) return void res.destroy();
    const typed = new URLSearchParams(body);
    const who = (typed.get('who') ?? '').toLowerCase();
    if (typed.has('refuse'))
      return provider.interactionFinished(req, res, { error: 'access_denied', error_description: 'They said no.' });
    if (!PEOPLE[who] || typed.get('password') !== PASSWORD) return show(res, loginPage(details.uid, 'Not known.'));
    await provider.interactionFinished(req, res, { login: { accountId: who } });
  }
}

function configuration(callbacks: string[]): Configuration {
  return {
    clients: [
      {
        client_id: CLIENT.id,
        client_secret: CLIENT.secret,
        redirect_uris: callbacks,
        response_types: ['code'],
        grant_types: ['authorization_code'],
        post_logout_redirect_uris: callbacks.map((c) => `${new URL(c).origin}/sign-in`),
      },
    ],
    claims: { openid: ['sub'], email: ['email', 'email_verified'], profile: ['name', 'groups'] },
    features: { devInteractions: { enabled: false }, rpInitiatedLogout: { enabled: true } },
    pkce: { required: () => true },
    interactions: { url: (_, interaction) => `/interaction/${interaction.uid}` },
    cookies: { keys: ['of the outside world'] },
    findAccount: (_, id) => {
      const who = PEOPLE[id];
      if (!who) return undefined;
      const { name, email, verified, groups } = who;
      return { accountId: id, claims: () => ({ sub: `id-${id}`, name, email, email_verified: verified, groups }) };
    },
    // Nobody is asked whether the office may know who they are.
    loadExistingGrant: async ({ oidc }) => {
      const grant = new oidc.provider.Grant({ clientId: oidc.client?.clientId, accountId: oidc.session?.accountId });
      grant.addOIDCScope('openid email profile');
      await grant.save();
      return grant;
    },
  };
}

const loginPage = (uid: string, fault: string): string =>
  page(
    'Identity provider',
    `<h1>Identity provider of the outside world</h1><p>Everybody's password is ${PASSWORD}. People: ${Object.keys(PEOPLE).join(', ')}.</p>
<form method="post" action="/interaction/${escape(uid)}"><label>Who <input name="who" autofocus></label> <label>Password <input name="password" type="password"></label> <button>Sign in</button> <button name="refuse" value="1">No</button></form><p>${escape(fault)}</p>`,
  );

function show(res: ServerResponse, html: string): void {
  res
    .writeHead(200, {
      'Content-Type': 'text/html; charset=utf-8',
      'Content-Security-Policy': "default-src 'none'; style-src 'unsafe-inline'",
    })
    .end(html);
}
