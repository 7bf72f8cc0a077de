import type { Browser } from 'puppeteer-core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { openOffice, type TestOffice } from '../apps/server/src/_fixtures/office.js';
import { openOutside, type Outside } from '../apps/server/src/_fixtures/outside.js';
import { launch, Person } from './_fixtures/browser.js';

// The job: the directory of the office says who is there, and who is no longer.
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
  await iris.signIn('iris', '/people/directory');
});
afterAll(async () => {
  await browser?.disconnect();
  await office?.close();
  await outside?.close();
});

describe('the directory', () => {
  it('is connected step by step, and its authority trusted by its fingerprint', async () => {
    await iris.press('Connect the directory');
    await iris.fill('#directory-servers', '192.168.20.15');
    await iris.fill('#directory-bind', 'CN=Quay,OU=Services,dc=saltmarsh,dc=example');
    await iris.fill('#directory-password', 'ferry-lamp-osier-71');
    await iris.fill('#directory-base', 'dc=saltmarsh,dc=example');
    await iris.page.select('#directory-preset', 'domain');
    await iris.press('Try it');
    await iris.sees('comes from an authority that is not known here');
    await iris.isAccessible();
    await iris.press('It is the same: trust it');
    await iris.sees('people, as Quay, Tomas Osei, Hana Vance', '.directory-trial');
    await iris.isAccessible();
    await iris.press('Ask it like this');
    await iris.sees('Nobody here comes from it yet.');
  });

  it('is walked branch by branch; a branch is followed, and what that brings is seen before it is done', async () => {
    await iris.press('Crew', '.directory table');
    await iris.sees('Mina Sorrel', '.directory table');
    await iris.press('Follow this branch');
    await iris.sees('1 branch followed');
    await iris.press('Look now');
    await iris.sees('Mina Sorrel gets an account, and signs in as mina.', '.directory-run');
    await iris.sees('Tomas Osei has tomas here already. Are they the same?', '.directory-run');
    await iris.isAccessible();
    await iris.press('They are the same: Tomas Osei', '.directory-run');
    await iris.sees('Tomas Osei signs in by the directory from now on, as tomas.', '.directory-run');
    await iris.press('Make 11 changes');
    await iris.sees('5 people and 2 groups come from it.');
    await iris.page.reload();
    await iris.sees('5 people and 2 groups come from it.');
    await iris.press('Groups 2');
    await iris.sees('Tide gauges', 'table');
  });

  it('lets somebody of it sign in, who changes their password there', async () => {
    const mina = await Person.at(browser, office.origin);
    await mina.page.goto(`${office.origin}/sign-in`);
    await mina.fill('input[autocomplete^="username"]', 'SALTMARSH\\Mina');
    await mina.fill('input[type=password]', 'mina-heron-sluice');
    await mina.page.keyboard.press('Enter');
    await mina.page.waitForSelector('.bar');
    await mina.page.goto(`${office.origin}/account`);
    await mina.sees('The directory of the office knows your password.');
    await mina.isAccessible();
    await mina.leave();
  });

  it('what is found by a word is taken in alone, or left', async () => {
    await iris.page.goto(`${office.origin}/people/directory`);
    await iris.fill('input[aria-label="Find in the directory"]', 'scan');
    await iris.sees('Scanners', '.directory table');
    expect(iris.page.url()).toContain('entry=scan');
    await iris.press('Choose Scanners');
    await iris.press('See what taking in Scanners changes');
    await iris.sees('The group Scanners is made.', '.directory-run');
    await iris.sees('Tomas Osei comes into Scanners.', '.directory-run');
    await iris.press('Leave all as it is');
  });

  it('fits on a telephone, 360 px wide', async () => {
    await iris.page.setViewport({ width: 360, height: 740 });
    await iris.page.goto(`${office.origin}/people/directory`);
    await iris.sees('Looks at the directory');
    const wide = () => iris.page.evaluate(() => document.documentElement.scrollWidth);
    expect(await wide()).toBe(360);
    await iris.isAccessible();
    await iris.press('Connection');
    await iris.sees('It speaks of people by');
    expect(await wide()).toBe(360);
    await iris.isAccessible();
    await iris.leave();
  });
});
