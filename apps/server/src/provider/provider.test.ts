import type { KeepProvider, Me, People, Provider, ProviderTrial } from '@quay/contract';
import { spawnSync } from 'node:child_process';
import { createHash } from 'node:crypto';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { FalseProvider, type Lie } from '../_fixtures/false-provider.js';
import { openOffice, PASSWORDS, type Client, type TestOffice } from '../_fixtures/office.js';
import { openOutside, type Outside } from '../_fixtures/outside.js';
import { pathOf } from './sign-in.service.js';

let office: TestOffice;
let iris: Client;
let tomas: Client;

/** A browser that keeps cookies and goes where it is sent, step by step. */
class Browser {
  private readonly cookies = new Map<string, string>();

  async go(url: string, init: RequestInit = {}): Promise<Response> {
    const cookie = [...this.cookies].map(([name, value]) => `${name}=${value}`).join('; ');
    const response = await fetch(new URL(url, office.origin), {
      ...init,
      redirect: 'manual',
      headers: { ...(init.headers as Record<string, string>), cookie },
    });
    for (const line of response.headers.getSetCookie()) {
      const [, name = '', value = ''] = /^([^=]+)=([^;]*)/.exec(line) ?? [];
      if (value === '' || /max-age=0/i.test(line)) this.cookies.delete(name);
      else this.cookies.set(name, value);
    }
    return response;
  }

  /** Follows until it is on a page of the office that is none of the way. */
  async follow(url: string): Promise<string> {
    for (let at = url, hops = 0; hops < 12; hops += 1) {
      const { status, headers } = await this.go(at);
      const next = headers.get('location');
      if (status < 300 || status >= 400 || next === null) return at;
      at = new URL(next, new URL(at, office.origin)).href;
      if (at.startsWith(`${office.origin}/`) && !at.startsWith(`${office.origin}/api/sign-in`))
        return at.slice(office.origin.length);
    }
    throw new Error('it goes round and round');
  }

  async me(): Promise<Me | null> {
    const response = await this.go('/api/session');
    return response.ok ? ((await response.json()) as Me) : null;
  }
}

const settings = (part: Partial<KeepProvider>): KeepProvider => ({
  ...{
    name: 'Saltmarsh',
    issuer: 'http://127.0.0.1:9',
    clientId: 'lockfast-quay',
    clientSecret: 'osier-ferry-lamp-82',
  },
  ...{ origin: office.origin, makesAccounts: false, domains: [], groupsClaim: '', groups: [] },
  ...part,
});
const keep = (part: Partial<KeepProvider>, by = iris) =>
  by.ask<Provider>('PUT', '/api/settings/provider', settings(part));
/** By somebody else's authenticator (oathtool, RFC 6238). */
const codeOf = (secret: string): string => {
  const at = `--now=@${Math.floor(office.clock.now() / 1000)}`;
  return spawnSync('oathtool', ['--totp', '--base32', at, secret], { encoding: 'utf8' }).stdout.trim();
};
const people = async () => (await iris.ask<People>('GET', '/api/people')).body;

beforeAll(async () => {
  office = await openOffice();
  [iris, tomas] = [await office.signedIn('iris'), await office.signedIn('tomas')];
});
afterAll(() => office?.close());

describe('an identity provider of somebody else’s (oidc-provider)', () => {
  let outside: Outside;
  let issuer: string;
  beforeAll(async () => {
    outside = await openOutside();
    issuer = `http://127.0.0.1:${(await outside.state()).places['identity']}`;
  });
  afterAll(() => outside?.close());

  /** Says there who they are. @returns where they come out */
  async function signIn(browser: Browser, who: string, back = '/today', form: Record<string, string> = {}) {
    const page = await browser.follow(`/api/sign-in/provider?back=${encodeURIComponent(back)}`);
    const body = new URLSearchParams({ who, password: 'sluice-heron', ...form });
    const said = await browser.go(page, { method: 'POST', body });
    return browser.follow(said.headers.get('location') ?? page);
  }

  it('is tried before it is kept, by admins alone, and its secret goes nowhere else', async () => {
    const trial = async (part: Partial<KeepProvider>) =>
      (await iris.ask<ProviderTrial>('POST', '/api/settings/provider/trial', settings(part))).body;
    expect(await trial({})).toMatchObject({ works: false, words: expect.stringContaining('does not answer') });
    expect(await trial({ issuer: `${office.origin}` })).toMatchObject({ works: false });
    expect(await trial({ issuer })).toMatchObject({
      works: true,
      words: expect.stringContaining(`${office.origin}/api/sign-in/provider/callback`),
    });
    expect((await keep({ issuer }, tomas)).status).toBe(403);
    for (const plain of [
      'http://idp.saltmarsh.example',
      'ftp://idp.saltmarsh.example',
      'http://127.0.0.1.saltmarsh.example',
    ])
      expect((await keep({ issuer: plain })).status).toBe(400);
    expect((await keep({ issuer })).body.settings).not.toHaveProperty('clientSecret');
    expect((await keep({ issuer, clientSecret: null })).status).toBe(200);
    expect((await keep({ issuer: 'https://other.saltmarsh.example', clientSecret: null })).status).toBe(400);
  });

  it('lets staff in by a verified address, and then by what never changes of them', async () => {
    const browser = new Browser();
    expect(await signIn(browser, 'rosa', '/stores')).toBe('/stores');
    expect((await browser.me())?.name).toBe('Rosa Quill');
    await iris.ask('PATCH', `/api/people/${(await browser.me())?.id}`, { email: 'quill@saltmarsh.example' });
    const another = new Browser();
    await signIn(another, 'rosa');
    expect((await another.me())?.email).toBe('quill@saltmarsh.example');
    await iris.ask('PATCH', `/api/people/${(await browser.me())?.id}`, { email: 'rosa@saltmarsh.example' });
    expect((await iris.ask<Provider>('GET', '/api/settings/provider')).body.people).toBe(1);
  });

  it('lets nobody in by an address that is not verified, an admin’s, or nobody’s; nor who says no there', async () => {
    for (const [who, code, form] of [
      ['noel', 'provider.mail-unverified', {}],
      ['iris', 'provider.admin', {}],
      ['mina', 'provider.nobody', {}],
      ['tomas', 'provider.refused', { refuse: '1' }],
    ] as const) {
      const browser = new Browser();
      expect(await signIn(browser, who, '/today', form)).toBe(`/sign-in?refused=${code}`);
      expect(await browser.me()).toBeNull();
    }
  });

  it('makes accounts at the domains that were said, and in no others', async () => {
    expect((await keep({ issuer, makesAccounts: true, domains: [] })).status).toBe(400);
    await keep({ issuer, makesAccounts: true, domains: ['elsewhere.example'] });
    expect(await signIn(new Browser(), 'mina')).toBe('/sign-in?refused=provider.nobody');
    await keep({ issuer, makesAccounts: true, domains: ['saltmarsh.example'] });
    const browser = new Browser();
    await signIn(browser, 'mina');
    expect(await browser.me()).toMatchObject({ name: 'Mina Sorrel', role: 'staff' });
  });

  it('says who is in which group, and takes nobody out whom somebody put in', async () => {
    const group = async (name: string) =>
      (await iris.ask<People['groups']>('POST', '/api/groups', { name })).body.find((g) => g.name === name)?.id ?? '';
    const [crew, drawing, other] = [await group('Crew'), await group('Drawing'), await group('Other')];
    const mina = (await people()).people.find((p) => p.name === 'Mina Sorrel')?.id ?? '';
    await iris.ask('POST', `/api/groups/${other}/members`, { kind: 'person', id: mina });
    const groups = [
      { claim: 'crew', groupId: crew },
      { claim: 'drawing', groupId: drawing },
      { claim: 'office', groupId: other },
    ];
    await keep({ issuer, groupsClaim: 'groups', groups });
    await signIn(new Browser(), 'rosa');
    await signIn(new Browser(), 'mina');
    const members = async (id: string) =>
      (await people()).groups.find((g) => g.id === id)?.members.map((m) => `${m.name} ${m.by}`);
    expect(await members(crew)).toEqual(['Mina Sorrel provider', 'Rosa Quill provider']);
    expect(await members(drawing)).toEqual(['Rosa Quill provider']);
    expect(await members(other)).toEqual(['Mina Sorrel hand']);
    await keep({ issuer, groupsClaim: 'groups', groups: [{ claim: 'none', groupId: crew }] });
    await signIn(new Browser(), 'mina');
    expect(await members(crew)).toEqual(['Rosa Quill provider']);
  });

  it('stands for the password, and not for a second factor', async () => {
    const { body } = await tomas.ask<{ secret: string }>('POST', '/api/session/factor', { password: PASSWORDS.tomas });
    await tomas.ask('POST', '/api/session/factor/first-code', { code: codeOf(body.secret) });
    const browser = new Browser();
    expect(await signIn(browser, 'tomas', '/shares')).toBe('/sign-in?wants=code');
    expect(await browser.me()).toBeNull();
    const type = (code: string, by = browser) =>
      by.go('/api/sign-in/provider/code', {
        method: 'POST',
        body: JSON.stringify({ code }),
        headers: { 'content-type': 'application/json' },
      });
    office.clock.advance(60_000);
    expect((await type('000000', new Browser())).status).toBe(410);
    expect((await type('000000')).status).toBeGreaterThanOrEqual(400);
    expect((await type(codeOf(body.secret))).status).toBe(204);
    expect((await browser.me())?.name).toBe('Tomas Osei');
  });

  it('opens nothing for an account that was disabled; signing out goes there as well', async () => {
    const mina = (await people()).people.find((p) => p.name === 'Mina Sorrel')?.id ?? '';
    const browser = new Browser();
    await signIn(browser, 'mina');
    const out = await browser.go('/api/session', { method: 'DELETE' });
    expect(await out.json()).toEqual({ byProvider: true });
    const there = (await browser.go('/api/sign-in/provider/out')).headers.get('location') ?? '';
    expect(there).toMatch(new RegExp(`^${issuer}/session/end\\?`));
    await iris.ask('POST', '/api/people/acts', { act: 'disable', personIds: [mina] });
    expect(await signIn(new Browser(), 'mina')).toBe('/sign-in?refused=provider.disabled');
    // Nor does whoever was sent away come back as somebody new.
    await iris.ask('DELETE', '/api/settings/provider');
    await keep({ issuer, makesAccounts: true, domains: ['saltmarsh.example'] });
    expect(await signIn(new Browser(), 'mina')).toBe('/sign-in?refused=provider.disabled');
    expect((await people()).people.filter((p) => p.name === 'Mina Sorrel')).toHaveLength(1);
  });

  it('is away: it is said so, and passwords open as before', async () => {
    await outside.faults({ 'identity.down': true });
    await keep({ issuer, clientId: 'another' });
    expect(await new Browser().follow('/api/sign-in/provider')).toBe('/sign-in?refused=provider.away');
    expect((await office.signedIn('rosa')).ask).toBeDefined();
    await outside.faults({});
  });
});

describe('an identity provider that lies', () => {
  let there: FalseProvider;
  beforeAll(async () => {
    there = await FalseProvider.open();
    await keep({ issuer: there.issuer, clientId: 'quay' });
  });
  beforeEach(() => {
    there.lie = {};
    // So many sign-ins of one source would be too many within a minute.
    office.clock.advance(60_000);
  });
  afterAll(() => there?.close());

  it('is believed when it does not, with PKCE (RFC 7636 §4.6) and with the secret in no address', async () => {
    const browser = new Browser();
    expect(await browser.follow('/api/sign-in/provider?back=/today')).toBe('/today');
    expect((await browser.me())?.name).toBe('Rosa Quill');
    const verifier = there.posted?.body.get('code_verifier') ?? '';
    expect(createHash('sha256').update(verifier).digest('base64url')).toBe(there.asked.get('code_challenge'));
    expect(there.asked.get('code_challenge_method')).toBe('S256');
    expect(there.asked.toString()).not.toContain('osier');
  });

  const now = () => Math.floor(Date.now() / 1000);
  it.each<[string, () => Lie]>([
    ['names another issuer', () => ({ claims: { iss: 'https://other.example' } })],
    ['means another office', () => ({ claims: { aud: 'another' } })],
    ['means several offices', () => ({ claims: { aud: ['quay', 'another'], azp: 'another' } })],
    ['answers another sign-in', () => ({ claims: { nonce: 'that-of-somebody-else' } })],
    ['names no sign-in', () => ({ claims: { nonce: undefined } })],
    ['is over', () => ({ claims: { iat: now() - 7200, exp: now() - 3600 } })],
    ['has no end', () => ({ claims: { exp: undefined } })],
    ['is signed by another key', () => ({ otherKey: true })],
    ['is not signed', () => ({ unsigned: true })],
    ['says nobody', () => ({ claims: { sub: undefined } })],
    [
      'is no token',
      () => ({ answer: { status: 200, body: '{"access_token":"a","token_type":"Bearer","id_token":"a.b.c"}' } }),
    ],
    ['is not there', () => ({ answer: { status: 200, body: '{"access_token":"a","token_type":"Bearer"}' } })],
    ['is a page', () => ({ answer: { status: 200, body: '<html>' } })],
    ['is a refusal', () => ({ answer: { status: 400, body: '{"error":"invalid_grant"}' } })],
  ])('is not believed where its token %s', async (_, lie) => {
    there.lie = lie();
    const browser = new Browser();
    expect(await browser.follow('/api/sign-in/provider')).toBe('/sign-in?refused=provider.not-believed');
    expect(await browser.me()).toBeNull();
  });

  it.each([['"true"'], [1], [null], [false]])(
    'takes an address for verified only by the word itself, not by %s',
    async (said) => {
      there.lie = { claims: { sub: 'somebody-new', email: 'tomas@saltmarsh.example', email_verified: said } };
      expect(await new Browser().follow('/api/sign-in/provider')).toBe('/sign-in?refused=provider.mail-unverified');
    },
  );

  it('comes back once, to the browser that was sent, within ten minutes', async () => {
    const victim = new Browser();
    const sent = (await victim.go('/api/sign-in/provider')).headers.get('location') ?? '';
    const came = (await fetch(sent, { redirect: 'manual' })).headers.get('location') ?? '';
    // Somebody else's browser, with that address: they would be signed in as another without knowing it.
    expect(await new Browser().follow(came)).toBe('/sign-in?refused=provider.over');
    const forged = new Browser();
    await forged.go('/api/sign-in/provider');
    expect(await forged.follow(came)).toBe('/sign-in?refused=provider.over');
    expect(await victim.follow(came)).toBe('/');
    expect(await victim.follow(came)).toBe('/sign-in?refused=provider.over');
    const late = new Browser();
    const sentLate = (await late.go('/api/sign-in/provider')).headers.get('location') ?? '';
    const cameLate = (await fetch(sentLate, { redirect: 'manual' })).headers.get('location') ?? '';
    office.clock.advance(10 * 60_000);
    expect(await late.follow(cameLate)).toBe('/sign-in?refused=provider.over');
  });

  it('sends nobody elsewhere', () => {
    for (const back of [
      'https://evil.example',
      '//evil.example',
      '/\\evil.example',
      'javascript:1',
      '/a\r\nSet-Cookie: b',
      '',
    ])
      expect(pathOf(back)).toBe('/');
    expect(pathOf('/stores/1?show=2#3')).toBe('/stores/1?show=2#3');
  });
});
