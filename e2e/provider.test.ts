import { spawnSync } from 'node:child_process';
import type { Browser } from 'puppeteer-core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { openOffice, PASSWORDS, type TestOffice } from '../apps/server/src/_fixtures/office.js';
import { openOutside, type Outside } from '../apps/server/src/_fixtures/outside.js';
import { launch, Person } from './_fixtures/browser.js';

// The job: staff sign in by the identity provider that the office has already.
let outside: Outside;
let office: TestOffice;
let browser: Browser;
let iris: Person;

beforeAll(async () => {
  outside = await openOutside();
  office = await openOffice({ reach: outside.reach });
  office.clock.at = Date.now();
  browser = await launch();
  iris = await Person.at(browser, office.origin);
  await iris.signIn('iris', '/settings/provider');
});
afterAll(async () => {
  await browser?.disconnect();
  await office?.close();
  await outside?.close();
});

/** By somebody else's authenticator (oathtool, RFC 6238). */
const codeOf = (secret: string): string => {
  const at = `--now=@${Math.floor(office.clock.now() / 1000)}`;
  return spawnSync('oathtool', ['--totp', '--base32', at, secret], { encoding: 'utf8' }).stdout.trim();
};

/** Says at the provider who they are. */
async function sayWho(person: Person, who: string): Promise<void> {
  await person.page.waitForSelector('input[name=who]');
  await person.page.type('input[name=who]', who);
  await person.page.type('input[name=password]', 'sluice-heron');
  await person.press('Sign in');
}

describe('the identity provider', () => {
  it('is tried, and then offered where people sign in', async () => {
    const { places } = await outside.state();
    await iris.fill('#provider-name', 'Saltmarsh id');
    await iris.fill('#provider-issuer', 'http://127.0.0.1:9');
    await iris.fill('#provider-client', 'lockfast-quay');
    await iris.fill('#provider-secret', 'osier-ferry-lamp-82');
    await iris.press('Try it');
    await iris.sees('does not answer');
    await iris.isAccessible();
    await iris.fill('#provider-issuer', `http://127.0.0.1:${places['identity']}`);
    await iris.press('Try it');
    await iris.sees('Tell it to send people back to');
    await iris.press('Offer it');
    await iris.sees('It is offered where people sign in.');
    await iris.isAccessible();
  });

  it('lets somebody in, who signs out there as well', async () => {
    const rosa = await Person.at(browser, office.origin);
    await rosa.page.goto(`${office.origin}/sign-in`);
    await rosa.sees('Sign in by Saltmarsh id');
    await rosa.isAccessible();
    await rosa.press('Sign in by Saltmarsh id');
    await sayWho(rosa, 'rosa');
    await rosa.page.waitForSelector('.bar');
    expect(await rosa.page.evaluate(() => document.querySelector('.avatar')?.getAttribute('aria-label'))).toContain(
      'Rosa Quill',
    );
    await rosa.page.click('.avatar');
    await rosa.press('Sign out');
    await rosa.page.waitForFunction(() => location.pathname !== '/today', { timeout: 10_000 });
    await rosa.page.goto(`${office.origin}/today`);
    await rosa.sees('Sign in by Saltmarsh id');
    await rosa.leave();
  });

  it('asks for a code where there is a second factor', async () => {
    const client = await office.signedIn('tomas');
    const { body } = await client.ask<{ secret: string }>('POST', '/api/session/factor', { password: PASSWORDS.tomas });
    await client.ask('POST', '/api/session/factor/first-code', { code: codeOf(body.secret) });
    office.clock.at += 60_000;
    const tomas = await Person.at(browser, office.origin);
    await tomas.page.goto(`${office.origin}/sign-in`);
    await tomas.press('Sign in by Saltmarsh id');
    await sayWho(tomas, 'tomas');
    await tomas.sees('The six digits that your authenticator shows');
    await tomas.isAccessible();
    await tomas.fill('#code', codeOf(body.secret));
    await tomas.page.keyboard.press('Enter');
    await tomas.page.waitForSelector('.bar');
    await tomas.leave();
  });

  it('says why it does not let somebody in', async () => {
    const noel = await Person.at(browser, office.origin);
    await noel.page.goto(`${office.origin}/sign-in`);
    await noel.press('Sign in by Saltmarsh id');
    await sayWho(noel, 'noel');
    await noel.sees('It has not verified a mail address of yours');
    await noel.isAccessible();
    await noel.leave();
    await iris.leave();
  });
});
