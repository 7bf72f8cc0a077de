import type { Me } from '@quay/contract';
import { simpleParser, type ParsedMail } from 'mailparser';
import { SMTPServer } from 'smtp-server';
import type { AddressInfo } from 'node:net';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { openOffice, PASSWORDS, type TestOffice } from '../_fixtures/office.js';

let office: TestOffice;
const mails: ParsedMail[] = [];
const smtp = new SMTPServer({
  disabledCommands: ['AUTH', 'STARTTLS'],
  onData: (stream, _session, done) => void simpleParser(stream).then((mail) => (mails.push(mail), done())),
});

beforeAll(async () => {
  await new Promise<void>((resolve) => smtp.listen(0, '127.0.0.1', resolve));
  office = await openOffice({ smtpUrl: `smtp://127.0.0.1:${(smtp.server.address() as AddressInfo).port}` });
});
afterAll(async () => {
  await office.close();
  await new Promise<void>((resolve) => smtp.close(resolve));
});

describe('signing in', () => {
  it('gives a cookie that scripts and other sites cannot use', async () => {
    const answer = await office.client().ask('POST', '/api/session', { signInName: 'Iris', password: PASSWORDS.iris });
    expect(answer.status).toBe(204);
    expect(answer.headers.getSetCookie()[0]).toMatch(
      /^quay_session=[\w-]{43}; Max-Age=\d+; Path=\/; HttpOnly; SameSite=Lax$/,
    );
  });
  it('says the same for a wrong password and a name that is not there', async () => {
    const wrong = await office.client().ask('POST', '/api/session', { signInName: 'iris', password: 'no' });
    const nobody = await office.client().ask('POST', '/api/session', { signInName: 'nobody', password: 'no' });
    expect([wrong.status, wrong.body.code]).toEqual([401, 'sign-in.refused']);
    expect({ ...nobody.body, requestId: '' }).toEqual({ ...wrong.body, requestId: '' });
  });
  it('is refused after ten wrong tries in a minute, with the time to wait, and then possible again', async () => {
    const tries = [];
    for (let i = 0; i < 11; i += 1)
      tries.push((await office.client().ask('POST', '/api/session', { signInName: 'rosa', password: 'no' })).status);
    expect(tries).toEqual([...Array<number>(10).fill(401), 429]);
    const right = await office.client().ask('POST', '/api/session', { signInName: 'rosa', password: PASSWORDS.rosa });
    expect([right.status, right.body.code, right.headers.get('retry-after')]).toEqual([429, 'tries.too-many', '60']);
    office.clock.advance(60_000);
    expect(
      (await office.client().ask('POST', '/api/session', { signInName: 'rosa', password: PASSWORDS.rosa })).status,
    ).toBe(204);
  });
  it('tells who it is, until signing out', async () => {
    const iris = await office.signedIn('iris');
    expect((await iris.ask<Me>('GET', '/api/session')).body).toMatchObject({
      name: 'Iris Ward',
      role: 'admin',
      office: { zone: 'Europe/London' },
      addresses: [{ portability: expect.stringContaining('private') as string, reach: 'unknown' }],
    });
    await iris.ask('DELETE', '/api/session');
    expect((await iris.ask('GET', '/api/session')).body.code).toBe('session.none');
  });
  it('lasts two weeks from its last use', async () => {
    const iris = await office.signedIn('iris');
    office.clock.advance(13 * 86_400_000);
    expect((await iris.ask('GET', '/api/session')).status).toBe(200);
    office.clock.advance(13 * 86_400_000);
    expect((await iris.ask('GET', '/api/session')).status).toBe(200);
    office.clock.advance(15 * 86_400_000);
    expect((await iris.ask('GET', '/api/session')).status).toBe(401);
  });
});

describe('changing the password', () => {
  it('wants the present one and a strong new one', async () => {
    const tomas = await office.signedIn('tomas');
    expect(
      (await tomas.ask('PUT', '/api/session/password', { current: 'no', next: 'orchard-bramble-cistern' })).body.errors,
    ).toMatchObject([{ field: 'current', code: 'password.wrong' }]);
    expect(
      (await tomas.ask('PUT', '/api/session/password', { current: PASSWORDS.tomas, next: 'password12345' })).body
        .errors,
    ).toMatchObject([{ field: 'next', code: 'password.weak' }]);
    expect(
      (await tomas.ask('PUT', '/api/session/password', { current: PASSWORDS.tomas, next: 'short' })).body.errors?.[0],
    ).toMatchObject({ field: 'next' });
  });
  it('ends the other sessions, keeps this one, and sends a notice over SMTP', async () => {
    const [here, there] = [await office.signedIn('tomas'), await office.signedIn('tomas')];
    expect(
      (await here.ask('PUT', '/api/session/password', { current: PASSWORDS.tomas, next: 'orchard-bramble-cistern' }))
        .status,
    ).toBe(204);
    expect((await here.ask('GET', '/api/session')).status).toBe(200);
    expect((await there.ask('GET', '/api/session')).status).toBe(401);
    await expect.poll(() => mails.at(-1)?.subject, { timeout: 60_000 }).toBe('Your password was changed');
    expect(mails.at(-1)?.text).not.toContain('orchard');
  });
});

describe('other sites', () => {
  it('cannot make a signed-in browser change anything', async () => {
    const iris = await office.signedIn('iris');
    expect(
      (await iris.ask('DELETE', '/api/session', undefined, { origin: 'https://elsewhere.example' })).body.code,
    ).toBe('origin.foreign');
    expect((await iris.ask('DELETE', '/api/session', undefined, { 'sec-fetch-site': 'cross-site' })).body.code).toBe(
      'origin.foreign',
    );
    expect((await iris.ask('GET', '/api/session')).status).toBe(200);
  });
});
