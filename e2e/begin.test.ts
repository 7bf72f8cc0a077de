import { mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { Browser } from 'puppeteer-core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { openOffice, type TestOffice } from '../apps/server/src/_fixtures/office.js';
import { SetupService } from '../apps/server/src/setup/setup.service.js';
import { launch, Person } from './_fixtures/browser.js';

// The job: make an office of a machine that has nothing yet.
let folder: string;
let office: TestOffice;
let browser: Browser;
let iris: Person;

beforeAll(async () => {
  folder = mkdtempSync(join(tmpdir(), 'quay-begin-'));
  office = await openOffice({ codeFile: join(folder, 'code'), blobRoot: join(folder, 'blobs') }, false);
  await office.app.get(SetupService).announce(() => undefined);
  browser = await launch();
  iris = await Person.at(browser, office.origin);
});
afterAll(async () => {
  await browser?.disconnect();
  await office?.close();
  rmSync(folder, { recursive: true, force: true });
});

const code = () => readFileSync(join(folder, 'code'), 'utf8').trim();

describe('the first start', () => {
  it('is what every page leads to, and asks for the code', async () => {
    await iris.page.goto(`${office.origin}/stores`);
    await iris.sees('type the code that was printed');
    await iris.isAccessible();
    await iris.fill('#code', 'AAAA-AAAA');
    await iris.press('Begin');
    await iris.sees('That is not the code');
    await iris.fill('#code', code().toLowerCase());
    await iris.page.keyboard.press('Enter');
    await iris.sees('Name of the office');
  });
  it('goes by keyboard from step to step, each kept as it is done', async () => {
    await iris.fill('#office-name', 'Saltmarsh Survey');
    await iris.fill('#office-zone', 'Europe/Londn');
    await iris.page.keyboard.press('Enter');
    await iris.sees('There is no such time zone');
    await iris.fill('#office-zone', 'Europe/London');
    await iris.sees('there now');
    await iris.isAccessible();
    await iris.page.keyboard.press('Enter');
    await iris.fill('#you-name', 'Iris Ward');
    await iris.page.keyboard.press('Tab');
    await iris.fill('#you-mail', 'iris@saltmarsh.example');
    expect(await iris.page.$eval('#you-sign-in', (e) => (e as HTMLInputElement).value)).toBe('iris');
    await iris.fill('#you-password', 'password1234');
    await iris.sees('Easy to guess');
    await iris.page.keyboard.press('Enter');
    await iris.sees('That password is easy to guess');
    await iris.fill('#you-password', 'weir-lantern-copper-tide');
    await iris.sees('Hard to guess');
    await iris.isAccessible();
    await iris.page.keyboard.press('Enter');
    await iris.sees('nobody can sign in yet but you');
  });
  it('shows what the disks are like, and warns of what is not safe', async () => {
    await iris.sees('free', '.begin-places');
    await iris.press('Another folder');
    await iris.fill('#folder', '/dev/shm/quay');
    await iris.press('Look at it');
    await iris.sees('lies in memory');
    await iris.isAccessible();
    await iris.press(`${join(folder, 'blobs')}`, '.begin-places').catch(() => undefined);
    await iris.page.click('.begin-places input');
    await iris.press(`Use ${join(folder, 'blobs')}`);
    await iris.sees('Stores, one on each line');
  });
  it('goes on in another browser with another code, and lets an answer be changed', async () => {
    const other = await Person.at(browser, office.origin);
    await other.page.goto(`${office.origin}/begin`);
    await other.fill('#code', code());
    await other.press('Begin');
    await other.sees('Stores, one on each line');
    await iris.press('Keep and go on');
    await iris.sees('another one has gone on since');
    await other.press('Change: The office');
    await other.fill('#office-name', 'Saltmarsh Survey Partnership');
    await other.page.keyboard.press('Enter');
    await other.sees('Saltmarsh Survey Partnership');
    iris = other;
  });
  it('waits for mail or not, and says what the mail server said', async () => {
    await iris.press('Keep and go on');
    await iris.fill('#mail-host', '127.0.0.1');
    await iris.fill('#mail-port', '9');
    await iris.fill('#mail-sender', 'quay@saltmarsh.example');
    await iris.press('Send a test message');
    await iris.sees('Nothing takes mail at 127.0.0.1, port 9');
    await iris.isAccessible();
    await iris.press('Later');
    await iris.sees('How do people outside get to what you publish?');
    await iris.isAccessible();
    await iris.page.click('input[value=inside]');
    await iris.press('Keep and go on');
    await iris.sees('All answered');
  });
  it('fits at 360 px, and ends on Today with what is left to do', async () => {
    await iris.page.setViewport({ width: 360, height: 740 });
    expect(await iris.page.evaluate(() => document.documentElement.scrollWidth)).toBeLessThanOrEqual(360);
    await iris.isAccessible();
    await iris.page.setViewport({ width: 1280, height: 800 });
    await iris.press('Open Saltmarsh Survey Partnership');
    await iris.sees('What is left to do');
    await iris.sees('Get the first files in');
    await iris.isAccessible();
    await iris.page.goto(`${office.origin}/begin`);
    await iris.page.waitForSelector('.frame');
    expect(iris.errors).toEqual([]);
  });
});
