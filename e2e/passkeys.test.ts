import type { Me, Passkeys } from '@quay/contract';
import type { Browser, HTTPRequest } from 'puppeteer-core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { openOffice, PASSWORDS, type TestOffice } from '../apps/server/src/_fixtures/office.js';
import { launch, Person } from './_fixtures/browser.js';
import { Device } from './_fixtures/device.js';

// Passkeys belong to names: the server is asked as localhost.
let office: TestOffice;
let browser: Browser;
let tomas: Person;
let device: Device;
/** What the browser has sent to sign in, last. */
let sent = '';
const AT = '/api/session/passkeys/sign-in';

beforeAll(async () => {
  office = await openOffice();
  browser = await launch();
  tomas = await Person.at(browser, office.origin.replace('127.0.0.1', 'localhost'));
  tomas.page.on('request', (request: HTTPRequest) => {
    if (request.url().endsWith(AT)) sent = request.postData() ?? '';
  });
  await tomas.signIn('tomas', '/account');
  device = await Device.of(tomas.page);
});
afterAll(async () => {
  await browser?.disconnect();
  await office?.close();
});

const signOut = async () => {
  await tomas.page.evaluate(() => fetch('/api/session', { method: 'DELETE' }));
  // A page that notices first goes there by itself, and remembers where it came from: this one has not been anywhere.
  await tomas.page.goto('about:blank');
  await tomas.page.goto(`${tomas.origin}/sign-in`);
};
const refusal = async (body: object) => {
  const answer = await fetch(office.origin.replace('127.0.0.1', 'localhost') + AT, {
    method: 'POST',
    headers: { 'content-type': 'application/json' },
    body: JSON.stringify(body),
  });
  return [answer.status, ((await answer.json()) as { code: string }).code];
};
const me = () => tomas.page.evaluate(async () => (await (await fetch('/api/session')).json()) as Me);

describe('a passkey', () => {
  it('is kept by a device, for whoever types the password', async () => {
    await tomas.press('Add a passkey');
    await tomas.fill('#passkey-name', 'My telephone');
    await tomas.fill('#passkey-password', 'not the password');
    await tomas.press('Add it');
    await tomas.sees('That is not your password.');
    await tomas.fill('#passkey-password', PASSWORDS.tomas);
    await tomas.isAccessible();
    await device.there();
    await tomas.press('Add it');
    await tomas.sees('The passkey signs you in from now on.');
    await tomas.sees('My telephone');
    await device.there();
  });
  it('signs in without a name, a password or a code, also where a second factor is wanted', async () => {
    const iris = await office.signedIn('iris');
    await office.db.query(`UPDATE office SET factor_wanted = 'everybody'`);
    await signOut();
    await tomas.sees('Sign in with a passkey');
    await tomas.isAccessible();
    await device.there();
    await tomas.press('Sign in with a passkey');
    await tomas.sees('Nothing is open.', 'main');
    expect(await me()).toMatchObject({ name: 'Tomas Osei', lacksFactor: false });
    const byPassword = office.client();
    await byPassword.ask('POST', '/api/session', { signInName: 'tomas', password: PASSWORDS.tomas });
    expect((await byPassword.ask<Me>('GET', '/api/session')).body.lacksFactor).toBe(true);
    await office.db.query(`UPDATE office SET factor_wanted = 'nobody'`);
    const ledger = (await iris.ask<{ entries: { words: string; who: string }[] }>('GET', '/api/ledger')).body.entries;
    expect(ledger.find((e) => e.who === 'Tomas Osei')?.words).toContain('signed in');
  });
  it('signs once: what was sent opens nothing a second time, nor with another challenge', async () => {
    const body = JSON.parse(sent) as { response: { response: { clientDataJSON: string } } };
    expect(await refusal(body)).toEqual([401, 'passkey.refused']);
    const begun = await fetch(`${office.origin.replace('127.0.0.1', 'localhost')}${AT}/begin`, { method: 'POST' });
    const { challenge } = (await begun.json()) as { challenge: string };
    const said = JSON.parse(Buffer.from(body.response.response.clientDataJSON, 'base64url').toString()) as object;
    body.response.response.clientDataJSON = Buffer.from(JSON.stringify({ ...said, challenge })).toString('base64url');
    expect(await refusal(body)).toEqual([401, 'passkey.refused']);
    // That challenge is used up by the try.
    expect(await office.db.query('SELECT 1 FROM passkey_challenge')).toEqual([]);
  });
  it('is good at the name that it was made for, and at none that is an address', async () => {
    const asked = await office.client().ask('POST', `${AT}/begin`);
    expect(asked.body).toMatchObject({ code: 'passkey.no-name' });
  });
  it('of an account that was disabled, or that was removed, opens nothing', async () => {
    await office.db.query(`UPDATE person SET disabled_at = now() WHERE sign_in_name = 'tomas'`);
    await tomas.page.goto(`${tomas.origin}/sign-in`);
    await device.there();
    await tomas.press('Sign in with a passkey');
    await tomas.sees('The account of that passkey cannot be used any more.');
    await office.db.query(`UPDATE person SET disabled_at = NULL WHERE sign_in_name = 'tomas'`);
    await device.there();
    await tomas.press('Sign in with a passkey');
    await tomas.sees('Nothing is open.', 'main');
    await tomas.page.goto(`${tomas.origin}/account`);
    await tomas.press('Remove My telephone');
    await tomas.sees('That passkey opens nothing any more.');
    const keys = await tomas.page.evaluate(
      async () => (await (await fetch('/api/session/passkeys')).json()) as Passkeys,
    );
    expect(keys.keys).toEqual([]);
    await signOut();
    await device.there();
    await tomas.press('Sign in with a passkey');
    await tomas.sees('That passkey does not open this account.');
  });
});
