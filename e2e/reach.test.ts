import type { Browser } from 'puppeteer-core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { openOffice, type TestOffice } from '../apps/server/src/_fixtures/office.js';
import { openOutside, type Outside } from '../apps/server/src/_fixtures/outside.js';
import { launch, Person } from './_fixtures/browser.js';

// The job: become reachable from outside, prove it, see what broke, mend it.
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
  await iris.signIn('iris');
});
afterAll(async () => {
  await browser?.disconnect();
  await office?.close();
  await outside?.close();
});

describe('becoming reachable', () => {
  it('an address is added by keyboard, and the matrix shows from where it cannot be reached, and why', async () => {
    await iris.page.goto(`${office.origin}/reach`);
    await iris.sees('Nobody has looked yet.');
    await iris.press('Check now');
    await iris.sees('For people in the office only.');
    await iris.page.keyboard.press('n');
    await iris.fill('#address-text', 'files.saltmarsh.example');
    await iris.page.keyboard.press('Enter');
    await iris.sees('Outside stops at: Router');
    await iris.sees('external TCP 443 → 192.168.20.10 port 8443');
    await iris.isAccessible();
  });

  it('the guide is followed by the program, step by step', async () => {
    const steps = async () => (await iris.text('.guide > li.done h3')).split('\n').filter(Boolean).length;
    for (const [n, title] of [
      [2, 'Open the port on the router'],
      [3, 'Get a certificate'],
      [4, 'Send plain requests to the encrypted address'],
    ] as const) {
      const before = await steps();
      await iris.press('Do it', `.guide > li:nth-child(${n})`);
      await expect.poll(steps, { timeout: 20_000 }).toBe(before + 1);
      expect(await iris.text('.guide > li.done')).toContain(title);
    }
    await iris.sees('Everybody can get in.');
    await iris.press('Done by hand: look', '.guide > li:nth-child(1)');
    await expect.poll(steps, { timeout: 20_000 }).toBe(4);
    await iris.press('Look', '.guide > li:nth-child(5)');
    await iris.sees('Guide 5 of 5');
    await iris.isAccessible();
  });

  it('what breaks is seen on the open page and on Today, and what mends it is one press', async () => {
    await iris.press('Settings');
    await iris.press('Name servers that take updates from the program: none yet');
    await iris.page.select('#ns-network', 'guest');
    await iris.fill('#ns-server', '192.168.40.1');
    await iris.fill('#ns-key', 'quay-update');
    await iris.fill('#ns-secret', outside.updateSecret);
    await iris.press('Keep the key');
    await iris.sees('Name servers that take updates from the program: the guest Wi-Fi');
    await iris.isAccessible();
    await outside.faults({ 'router.noLoopback': true });
    await iris.press('Check now');
    await iris.sees('People on the guest Wi-Fi cannot.');
    await iris.page.goto(`${office.origin}/today`);
    await iris.sees('files.saltmarsh.example: People on the guest Wi-Fi cannot.');
    await iris.press('See the way in');
    await iris.sees('Guest Wi-Fi stops at: Router');
    await iris.press('Do it', '.remedies');
    await iris.sees('Everybody can get in.');
  });

  it('the views beside it: renewals, what answers, by telephone, links, checks; bookmarks lead back to each', async () => {
    for (const [view, words] of [
      ['renewals', 'Certificate by'],
      ['exposure', 'Only what should answer does.'],
      ['telephone', 'Switch a telephone to its mobile connection'],
      ['links', 'No link that could still be opened'],
      ['history', 'after a remedy'],
    ] as const) {
      const url = new URL(iris.page.url());
      url.searchParams.set('view', view);
      await iris.page.goto(url.href);
      await iris.sees(words, '.reach-view');
      await iris.isAccessible();
    }
  });

  it('what the server goes by in its network is typed in, refused with words, and found again', async () => {
    const url = new URL(iris.page.url());
    url.searchParams.set('view', 'settings');
    await iris.page.goto(url.href);
    await iris.sees('192.168.20.1 as the file says', '.facts');
    await iris.page.click('button[aria-label="Change: This server over IPv6"]');
    await iris.fill('#say-insideAddress6', '192.168.20.10');
    await iris.press('Go by it');
    await iris.sees('That is no IPv6 address');
    await iris.isAccessible();
    await iris.fill('#say-insideAddress6', '2001:db8:20::10');
    await iris.press('Go by it');
    await iris.sees('2001:db8:20::10 as you said', '.facts');
    await iris.page.click('button[aria-label="Change: This server over IPv6"]');
    await iris.press('Go by what is found');
    await iris.sees('none', '.facts');
  });

  it('a code for another office is made, and what is no code is refused with words', async () => {
    await iris.page.evaluate(() =>
      [...document.querySelectorAll('summary')].find((s) => s.textContent?.includes('Another Lockfast Quay'))?.click(),
    );
    await iris.press('Make a code');
    await iris.sees('look1.');
    await iris.sees('It counts once');
    await iris.fill('#lookout-code', 'relay1.something-else');
    await iris.press('Take it');
    await iris.sees('That is no code of another Lockfast Quay');
    await iris.isAccessible();
  });

  it('a share is built on it, and the lamp says that it works from outside', async () => {
    const { id } = (
      await (await office.signedIn('iris')).upload(office.roots.projects, 'Levels.csv', Buffer.from('1,2\n'))
    ).body;
    await iris.page.goto(`${office.origin}/stores/${office.roots.projects}`);
    await iris.sees('Levels.csv');
    await iris.page.click('.folder-table .item');
    await iris.page.keyboard.press('s');
    await iris.sees('Works only inside the office', '.slip');
    await iris.press('Use https://files.saltmarsh.example instead', '.slip');
    await iris.sees('works from outside', '.slip');
    await iris.press('Publish', '.slip');
    await iris.sees('https://files.saltmarsh.example/s/', '.handover');
    expect(id).toBeTruthy();
  });

  it('what would work elsewhere is answered before anything is bought', async () => {
    await iris.page.goto(`${office.origin}/reach/plan`);
    await iris.sees('On this line: own address, port opened on the router.');
    await iris.page.select('#line', 'shared');
    await iris.sees('On this line: through a relay.');
    expect(iris.page.url()).toContain('line=shared');
    await iris.isAccessible();
    expect(iris.errors).toEqual([]);
  });
});
