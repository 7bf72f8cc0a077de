import type { FactorBegun, Me, People, RecoveryCodes, SecondFactor } from '@quay/contract';
import { simpleParser, type ParsedMail } from 'mailparser';
import { spawnSync } from 'node:child_process';
import type { AddressInfo } from 'node:net';
import { SMTPServer } from 'smtp-server';
import { afterAll, beforeAll, beforeEach, describe, expect, it, vi } from 'vitest';
import { openOffice, PASSWORDS, type Client, type Name, type TestOffice } from '../_fixtures/office.js';
import { AccountsService } from '../accounts/accounts.service.js';
import { NO_REACH } from '../platform/config.js';
import { Mail } from '../platform/mail.js';

let office: TestOffice;
const mails: ParsedMail[] = [];
const smtp = new SMTPServer({
  disabledCommands: ['AUTH', 'STARTTLS'],
  onData: (stream, _session, done) => void simpleParser(stream).then((mail) => (mails.push(mail), done())),
});

beforeAll(async () => {
  await new Promise<void>((resolve) => smtp.listen(0, '127.0.0.1', resolve));
  office = await openOffice({
    smtpUrl: `smtp://127.0.0.1:${(smtp.server.address() as AddressInfo).port}`,
    reach: { ...NO_REACH, trustedProxies: ['127.0.0.1'] },
  });
});
afterAll(async () => {
  await office.close();
  await new Promise<void>((resolve) => smtp.close(resolve));
});
// Tries are counted by the hour, and each code is good once.
beforeEach(async () => {
  office.clock.advance(2 * 3600_000);
  await office.db.query('DELETE FROM second_factor');
  await security({});
});

const DAY_MS = 86_400_000;
/** What an authenticator shows now: Debian's oathtool makes it. */
function codeOf(secret: string, aheadSeconds = 0): string {
  const at = Math.floor(office.clock.now() / 1000) + aheadSeconds;
  return spawnSync('oathtool', ['--totp', '--base32', `--now=@${at}`, secret], { encoding: 'utf8' }).stdout.trim();
}
const wrongOf = (code: string): string => String((Number(code) + 1) % 1_000_000).padStart(6, '0');
const signIn = (name: Name, more: { code?: string } = {}, from?: string, client = office.client()) =>
  client.ask(
    'POST',
    '/api/session',
    { signInName: name, password: PASSWORDS[name], ...more },
    from ? { 'x-forwarded-for': from } : {},
  );
const stateOf = async (client: Client) => (await client.ask<SecondFactor>('GET', '/api/session/factor')).body;

async function security(part: Record<string, unknown>): Promise<void> {
  const { factorWanted = 'nobody', signInOutside = 'everybody' } = part;
  await office.db.query(
    'UPDATE office SET factor_wanted = $1, sign_in_outside = $2, session_days = 14, factor_grace_days = 0',
    [factorWanted, signInOutside],
  );
}

async function setUp(client: Client, name: Name): Promise<{ secret: string; codes: string[] }> {
  const begun = await client.ask<FactorBegun>('POST', '/api/session/factor', { password: PASSWORDS[name] });
  expect(begun.status).toBe(201);
  const code = codeOf(begun.body.secret);
  const kept = await client.ask<RecoveryCodes>('POST', '/api/session/factor/first-code', { code });
  expect(kept.status).toBe(201);
  office.clock.advance(60_000);
  return { secret: begun.body.secret, codes: kept.body.codes };
}

describe('setting up a second factor', () => {
  it('takes the password, then a code of the new authenticator; only then is one asked for', async () => {
    const rosa = await office.signedIn('rosa');
    const refused = await rosa.ask('POST', '/api/session/factor', { password: 'weir-lantern' });
    expect([refused.status, refused.body.errors?.[0]?.code]).toEqual([400, 'password.wrong']);
    const begun = await rosa.ask<FactorBegun>('POST', '/api/session/factor', { password: PASSWORDS.rosa });
    expect(decodeURIComponent(begun.body.uri)).toMatch(/^otpauth:\/\/totp\/Saltmarsh Survey:rosa\?/);
    const code = codeOf(begun.body.secret);
    const wrong = await rosa.ask('POST', '/api/session/factor/first-code', { code: wrongOf(code) });
    expect([wrong.status, wrong.body.code]).toEqual([400, 'factor.wrong']);
    expect((await signIn('rosa')).status).toBe(204);
    const kept = await rosa.ask<RecoveryCodes>('POST', '/api/session/factor/first-code', { code });
    expect(kept.body.codes).toHaveLength(10);
    expect(await stateOf(rosa)).toMatchObject({ on: true, recoveryLeft: 10, wanted: false });
    expect((await signIn('rosa')).body.code).toBe('sign-in.code-wanted');
    // What is kept of it says nothing to whoever has the database alone.
    const kept2 = JSON.stringify(await office.db.query('SELECT * FROM second_factor, recovery_code'));
    for (const secret of [begun.body.secret, ...kept.body.codes]) expect(kept2).not.toContain(secret);
    await vi.waitFor(() => expect(mails.at(-1)?.subject).toBe('A second factor is asked of you from now on'), 60_000);
    const again = await rosa.ask('POST', '/api/session/factor', { password: PASSWORDS.rosa });
    expect(again.body.code).toBe('factor.on');
    expect((await rosa.ask('POST', '/api/session/factor/first-code', { code })).body.code).toBe('factor.not-begun');
  });
  it('begun twice at the same moment, is one of the two', async () => {
    const rosa = await office.signedIn('rosa');
    const begin = () => rosa.ask<FactorBegun>('POST', '/api/session/factor', { password: PASSWORDS.rosa });
    const both = await Promise.all([begin(), begin(), begin()]);
    expect(both.map((b) => b.status)).toEqual([201, 201, 201]);
    const codes = both.map(({ body }) => codeOf(body.secret));
    const ended = await Promise.all(codes.map((code) => rosa.ask('POST', '/api/session/factor/first-code', { code })));
    expect(ended.filter((e) => e.status === 201)).toHaveLength(1);
  });
  it('begun in two browsers, is the one that was begun last', async () => {
    const [one, two] = [await office.signedIn('rosa'), await office.signedIn('rosa')];
    const begin = (client: Client) =>
      client.ask<FactorBegun>('POST', '/api/session/factor', { password: PASSWORDS.rosa });
    const [first, second] = [await begin(one), await begin(two)];
    const late = await one.ask('POST', '/api/session/factor/first-code', { code: codeOf(first.body.secret) });
    expect(late.body.code).toBe('factor.wrong');
    const sound = await two.ask('POST', '/api/session/factor/first-code', { code: codeOf(second.body.secret) });
    expect(sound.status).toBe(201);
  });
});

describe('a browser that is asked for no code', () => {
  /** Cookies of one browser, as it sends them again. */
  async function enter(name: Name, more: object, cookie = ''): Promise<{ status: number; cookie: string }> {
    const response = await fetch(`${office.origin}/api/session`, {
      method: 'POST',
      headers: { 'content-type': 'application/json', cookie },
      body: JSON.stringify({ signInName: name, password: PASSWORDS[name], ...more }),
    });
    const set = response.headers.getSetCookie().map((line) => line.split(';')[0] ?? '');
    return { status: response.status, cookie: set.filter((pair) => pair.startsWith('quay_no_code=')).join('') };
  }

  it('is one in which that was said with a code of the authenticator, for thirty days, and no other', async () => {
    const { secret, codes } = await setUp(await office.signedIn('rosa'), 'rosa');
    expect((await enter('rosa', { code: codeOf(secret) })).cookie).toBe('');
    office.clock.advance(60_000);
    expect((await enter('rosa', { code: codes[0], remember: true })).cookie).toBe('');
    const { cookie } = await enter('rosa', { code: codeOf(secret), remember: true });
    expect(cookie).toMatch(/^quay_no_code=[\w-]{43}$/);
    expect((await enter('rosa', {}, cookie)).status).toBe(204);
    expect((await enter('rosa', {})).status).toBe(401);
    // It stands for the code and not for the password.
    expect((await enter('rosa', { password: 'wrong' }, cookie)).status).toBe(401);
    // A code that is typed all the same has to be right.
    expect((await enter('rosa', { code: '000000' }, cookie)).status).toBe(400);
    await setUp(await office.signedIn('tomas'), 'tomas');
    expect((await enter('tomas', {}, cookie)).status).toBe(401);
    expect(
      (await office.db.query<{ hash: Buffer }[]>('SELECT token_hash AS hash FROM factor_browser'))[0]?.hash,
    ).toHaveLength(32);
    office.clock.advance(30 * DAY_MS);
    expect((await enter('rosa', {}, cookie)).status).toBe(401);
  });

  it('is forgotten when it is asked for, with the second factor, the password, and whoever is signed out everywhere', async () => {
    const rosa = await office.signedIn('rosa');
    let { secret } = await setUp(rosa, 'rosa');
    const remembered = async () => {
      office.clock.advance(60_000);
      const { cookie } = await enter('rosa', { code: codeOf(secret), remember: true });
      expect((await enter('rosa', {}, cookie)).status).toBe(204);
      return async () => (await enter('rosa', {}, cookie)).status;
    };
    let status = await remembered();
    expect((await stateOf(rosa)).browsers).toBe(1);
    expect((await rosa.ask<SecondFactor>('DELETE', '/api/session/factor/browsers')).body.browsers).toBe(0);
    expect(await status()).toBe(401);
    status = await remembered();
    await rosa.ask('DELETE', '/api/session/others');
    expect(await status()).toBe(401);
    status = await remembered();
    const iris = await office.signedIn('iris');
    const { people } = (await iris.ask<People>('GET', '/api/people')).body;
    const id = people.find((p) => p.signInName === 'rosa')?.id;
    await iris.ask('POST', '/api/people/acts', { act: 'sign-out', personIds: [id] });
    expect(await status()).toBe(401);
    status = await remembered();
    await iris.ask('DELETE', `/api/people/${id}/factor`);
    ({ secret } = await setUp(await office.signedIn('rosa'), 'rosa'));
    expect(await status()).toBe(401);
  });
});

describe('time to set one up', () => {
  it('is as long as the office says, from when it was wanted of them; then nothing else is open', async () => {
    const [iris, rosa] = [await office.signedIn('iris'), await office.signedIn('rosa')];
    const change = (part: object) =>
      iris.ask('PUT', '/api/settings/security', {
        ...{ sessionDays: 30, leastStrength: 3, factorWanted: 'staff', factorGraceDays: 7, signInOutside: 'everybody' },
        ...part,
      });
    const me = async () => (await rosa.ask<Me>('GET', '/api/session')).body;
    expect((await change({ factorGraceDays: 91 })).status).toBe(400);
    expect((await change({})).status).toBe(200);
    const due = new Date(office.clock.now() + 7 * DAY_MS).toISOString();
    expect(await me()).toMatchObject({ lacksFactor: false, factorDueAt: due });
    expect((await rosa.ask('GET', '/api/stores')).status).toBe(200);
    // What is changed beside it begins nothing anew.
    office.clock.advance(DAY_MS);
    await change({ sessionDays: 31 });
    expect((await me()).factorDueAt).toBe(due);
    office.clock.advance(6 * DAY_MS);
    expect(await me()).toMatchObject({ lacksFactor: true, factorDueAt: null });
    expect((await rosa.ask('GET', '/api/stores')).status).toBe(403);
    const { secret } = await setUp(rosa, 'rosa');
    expect((await rosa.ask('GET', '/api/stores')).status).toBe(200);
    expect(secret).not.toBe('');
  });
});

describe('signing in with it', () => {
  it('takes each code once, also when two type it at the same moment', async () => {
    const { secret } = await setUp(await office.signedIn('rosa'), 'rosa');
    const code = codeOf(secret);
    expect((await signIn('rosa', { code: wrongOf(code) })).body.code).toBe('factor.wrong');
    const all = await Promise.all([1, 2, 3].map(() => signIn('rosa', { code })));
    expect(all.map((a) => a.status).sort()).toEqual([204, 400, 400]);
    // A telephone whose clock is a little ahead.
    expect((await signIn('rosa', { code: codeOf(secret, 30) })).status).toBe(204);
    office.clock.advance(90_000);
    expect((await signIn('rosa', { code: codeOf(secret, 90) })).body.code).toBe('factor.wrong');
  });
  it('says nothing of a second factor to whoever has not got the password', async () => {
    await setUp(await office.signedIn('rosa'), 'rosa');
    const ask = (code?: string) =>
      office.client().ask('POST', '/api/session', { signInName: 'rosa', password: 'no', ...(code && { code }) });
    expect((await ask()).body.code).toBe('sign-in.refused');
    expect((await ask('123456')).body.code).toBe('sign-in.refused');
  });
  it('takes a recovery code once, however many type it, and says so by mail', async () => {
    const { codes } = await setUp(await office.signedIn('rosa'), 'rosa');
    const all = await Promise.all([1, 2, 3].map(() => signIn('rosa', { code: codes[3]?.toUpperCase() ?? '' })));
    expect(all.map((a) => a.status).sort()).toEqual([204, 400, 400]);
    const rosa = office.client();
    expect((await signIn('rosa', { code: codes[4] ?? '' }, undefined, rosa)).status).toBe(204);
    expect((await stateOf(rosa)).recoveryLeft).toBe(8);
    await vi.waitFor(() => expect(mails.at(-1)?.subject).toBe('A recovery code of yours was used'), 60_000);
  });
  it('ends after ten wrong codes an hour, with a notice; a browser that is known goes on', async () => {
    const known = await office.signedIn('rosa');
    const { secret } = await setUp(known, 'rosa');
    const wrong = wrongOf(codeOf(secret));
    const tries = [];
    for (let i = 0; i < 12; i += 1) {
      tries.push((await signIn('rosa', { code: wrong })).status);
      office.clock.advance(61_000);
    }
    expect(tries).toEqual([...Array<number>(10).fill(400), 429, 429]);
    const right = await signIn('rosa', { code: codeOf(secret) });
    expect([right.status, right.body.detail]).toEqual([
      429,
      expect.stringMatching(/^Too many tries\. Wait 4\d minutes/),
    ]);
    expect((await signIn('rosa', { code: codeOf(secret) }, undefined, known)).status).toBe(204);
    await vi.waitFor(
      () => expect(mails.filter((m) => m.subject === 'Wrong codes were typed for you')).toHaveLength(1),
      60_000,
    );
  });
});

describe('switching it off', () => {
  it('takes a code; new recovery codes, too, and they void those before', async () => {
    const rosa = await office.signedIn('rosa');
    const { secret, codes } = await setUp(rosa, 'rosa');
    const renew = (code: string) => rosa.ask<RecoveryCodes>('POST', '/api/session/factor/recovery-codes', { code });
    expect((await renew('000 000x')).body.code).toBe('factor.wrong');
    const fresh = await renew(codeOf(secret));
    expect(fresh.body.codes.filter((c) => codes.includes(c))).toEqual([]);
    expect((await signIn('rosa', { code: codes[0] ?? '' })).status).toBe(400);
    const end = (code: string) => rosa.ask('DELETE', '/api/session/factor', { code });
    expect((await end(codes[0] ?? '')).body.code).toBe('factor.wrong');
    expect((await end(fresh.body.codes[0] ?? '')).status).toBe(204);
    expect((await signIn('rosa')).status).toBe(204);
    expect(await stateOf(rosa)).toMatchObject({ on: false, since: null, recoveryLeft: 0, wanted: false });
  });
  it('is done for whoever lost it by whoever has the machine, and told', async () => {
    await setUp(await office.signedIn('rosa'), 'rosa');
    const accounts = office.app.get(AccountsService);
    expect((await accounts.list()).find((a) => a.signInName === 'rosa')).toMatchObject({ factor: true });
    expect(await accounts.factorOff('rosa')).toEqual({ name: 'Rosa Quill', wasOn: true });
    expect(await accounts.factorOff('rosa')).toEqual({ name: 'Rosa Quill', wasOn: false });
    expect((await signIn('rosa')).status).toBe(204);
    // By the server that serves: whoever has the machine asks a program of its own.
    office.app.get(Mail).hurry();
    await vi.waitFor(() => expect(mails.at(-1)?.subject).toBe('Your second factor was switched off'), 60_000);
    const iris = await office.signedIn('iris');
    const { body } = await iris.ask<{ entries: { words: string; who: string }[] }>('GET', '/api/ledger?limit=3');
    expect(body.entries).toContainEqual(
      expect.objectContaining({
        who: 'Whoever has the machine',
        words: 'switched off the second factor of Rosa Quill',
      }),
    );
  });
});

describe('an office that wants one', () => {
  it('lets nobody without do anything but set it up', async () => {
    const [tomas, iris] = [await office.signedIn('tomas'), await office.signedIn('iris')];
    await security({ factorWanted: 'staff' });
    for (const [method, path] of [
      ['GET', '/api/stores'],
      ['GET', '/api/events'],
      ['POST', '/api/uploads'],
      ['DELETE', '/api/session/factor'],
      ['GET', '/api/session/all'],
    ] as const) {
      const { status, body } = await tomas.ask(method, path, method === 'DELETE' ? { code: '123456' } : undefined);
      // The protocol of uploads asks who holds the session, and is told nobody.
      expect([path, status, body.code]).toEqual(
        path === '/api/uploads' ? [path, 401, 'session.none'] : [path, 403, 'factor.wanted'],
      );
    }
    expect((await tomas.ask('GET', '/api/session')).body).toMatchObject({ lacksFactor: true });
    const { secret } = await setUp(tomas, 'tomas');
    expect((await tomas.ask('GET', '/api/session')).body).toMatchObject({ lacksFactor: false });
    expect((await tomas.ask('GET', '/api/stores')).status).toBe(200);
    // Who switches it off stands where they stood.
    await tomas.ask('DELETE', '/api/session/factor', { code: codeOf(secret) });
    expect((await tomas.ask('GET', '/api/stores')).body.code).toBe('factor.wanted');
    await security({ factorWanted: 'admins' });
    expect((await tomas.ask('GET', '/api/stores')).status).toBe(200);
    expect((await iris.ask('GET', '/api/stores')).body.code).toBe('factor.wanted');
  });
});

describe('from outside', () => {
  const OUTSIDE = '203.0.113.7';
  const INSIDE = '192.168.20.31';
  const asks = (client: Client, from: string) =>
    client.ask('GET', '/api/stores', undefined, { 'x-forwarded-for': from });

  it('nobody signs in, or goes on, where the office lets nobody', async () => {
    const rosa = office.client();
    expect((await signIn('rosa', {}, OUTSIDE, rosa)).status).toBe(204);
    await security({ signInOutside: 'nobody' });
    expect((await signIn('rosa', {}, OUTSIDE)).body.code).toBe('sign-in.outside');
    expect((await signIn('rosa', {}, '2001:db8::7')).body.code).toBe('sign-in.outside');
    // Somebody's machine that is taken home.
    expect((await asks(rosa, OUTSIDE)).body.code).toBe('session.outside');
    expect((await asks(rosa, INSIDE)).status).toBe(200);
    expect((await signIn('rosa', {}, 'fd00::31')).status).toBe(204);
    // A wrong password is a wrong password, wherever.
    const wrong = { signInName: 'rosa', password: 'no' };
    const refused = await office.client().ask('POST', '/api/session', wrong, { 'x-forwarded-for': OUTSIDE });
    expect(refused.body.code).toBe('sign-in.refused');
  });
  it('whoever has a second factor does, where the office says so', async () => {
    const rosa = await office.signedIn('rosa');
    const { secret } = await setUp(rosa, 'rosa');
    await security({ signInOutside: 'factor' });
    expect((await signIn('tomas', {}, OUTSIDE)).body).toMatchObject({
      code: 'sign-in.outside',
      detail: expect.stringContaining('Set one up') as string,
    });
    expect((await signIn('rosa', { code: codeOf(secret) }, OUTSIDE)).status).toBe(204);
    expect((await asks(rosa, OUTSIDE)).status).toBe(200);
  });
  it('sessions that were begun there end with the change, as was said before; whoever changes it stays in', async () => {
    const [away, iris] = [office.client(), await office.signedIn('iris')];
    await signIn('tomas', {}, OUTSIDE, away);
    const asked = { sessionDays: 14, leastStrength: 3, factorWanted: 'nobody', signInOutside: 'nobody' };
    const told = await iris.ask<{ words: string[] }>('POST', '/api/settings/security/would-do', asked);
    expect(told.body.words).toEqual([
      'Nobody signs in from outside the office. Shares stay as they are.',
      expect.stringMatching(/^[1-9]\d* sessions? of [1-9]\d* (person|people) ends? now\.$/),
    ]);
    const change = (from: string) => iris.ask('PUT', '/api/settings/security', asked, { 'x-forwarded-for': from });
    expect((await change(OUTSIDE)).body.errors?.[0]?.code).toBe('security.locks-you-out');
    expect((await asks(away, INSIDE)).status).toBe(200);
    expect((await change(INSIDE)).status).toBe(200);
    expect((await asks(away, INSIDE)).body.code).toBe('session.none');
  });
});
