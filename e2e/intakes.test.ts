import type { IntakeSheet } from '@quay/contract';
import { INTAKE_LIMITS, NO_GUARDRAILS } from '@quay/core';
import { execFileSync } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import { mkdirSync, mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { Browser, ElementHandle } from 'puppeteer-core';
import { afterAll, beforeAll, expect, it, vi } from 'vitest';
import { openMailbox, type Mailbox } from '../apps/server/src/_fixtures/mailbox.js';
import { openOffice, type TestOffice } from '../apps/server/src/_fixtures/office.js';
import { launch, Person } from './_fixtures/browser.js';

let office: TestOffice;
let browser: Browser;
let mailbox: Mailbox;
const desk = mkdtempSync(join(tmpdir(), 'intake-desk-'));
const cloud = randomBytes(900_000);

beforeAll(async () => {
  mailbox = await openMailbox();
  office = await openOffice({ smtpUrl: mailbox.url });
  // What people see moves with the browser's clock, so this office's clock runs from the present.
  office.clock.at = Date.now();
  browser = await launch();
  mkdirSync(join(desk, 'Site/Day 1'), { recursive: true });
  writeFileSync(join(desk, 'Site/Day 1/cloud.xyz'), cloud);
  writeFileSync(join(desk, 'Site/levels.csv'), 'point,level\r\nCP001,12.345\r\n');
  writeFileSync(join(desk, 'small.pdf'), '%PDF-1.4\n%%EOF\n');
  // A program is not what it says (PE/COFF begins with MZ).
  writeFileSync(join(desk, 'site.jpg'), Buffer.concat([Buffer.from('MZ'), randomBytes(400)]));
});
afterAll(async () => {
  await browser.disconnect();
  await office.close();
  await mailbox.close();
  rmSync(desk, { recursive: true, force: true });
});

it('from the wish for files to files in the folder, past what is not what it says, and to the closed door', async () => {
  const iris = await Person.at(browser, office.origin);
  await iris.signIn('iris', `/stores/${office.roots.projects}`);

  // From the folder that they are to go into.
  await iris.fromMenu('More', 'Ask for files');
  await iris.sees('into', '.sheet');
  await iris.press('Open the intake');
  await iris.sees('This is needed.', '.sheet');
  await iris.fill('#intake-title', 'Photographs of Monday');
  await iris.fill('#intake-message', 'By day, please.');
  await iris.press('Proposed password', '.sheet');
  await iris.press('Add a question');
  await iris.fill('[aria-label="Question 1"]', 'Which instrument?');
  await iris.sees('nobody sees what others handed in', '.sheet .sentence');
  await iris.isAccessible();
  await iris.press('Open the intake');
  await iris.sees('Nothing was handed in yet.', '.sheet');
  await iris.isAccessible();
  const [link, password] = (await iris.page.$$eval('.sheet .value', (e) => e.map((x) => x.textContent))) as [
    string,
    string,
  ];
  expect(link).toMatch(new RegExp(`^${office.origin}/h/[0-9A-Za-z]{22}$`));

  // Somebody outside.
  const zoe = await Person.at(browser, office.origin);
  await zoe.page.goto(link);
  await zoe.fill('#password', password);
  await zoe.isAccessible();
  await zoe.press('Go on');
  const folder = (await zoe.page.waitForSelector('#bring-folder')) as ElementHandle<HTMLInputElement>;
  await folder.uploadFile(join(desk, 'Site'));
  await zoe.sees('Ready to hand in: 2 files');
  const files = (await zoe.page.waitForSelector('#bring')) as ElementHandle<HTMLInputElement>;
  await files.uploadFile(join(desk, 'site.jpg'));
  await zoe.sees('Ready to hand in: 3 files');
  await zoe.sees('Site/Day 1/cloud.xyz');
  // It is there after a reload, and what was said stays while the page goes on.
  await zoe.page.reload();
  await zoe.sees('Ready to hand in: 3 files');
  await zoe.isAccessible();
  await zoe.fill('#answer-name', 'Zoe Calder');
  await zoe.press('Hand in 3 files');
  await zoe.sees('Handed in. Your receipt is D-');
  await zoe.isAccessible();
  const receipt = await zoe.page.$eval('.done a', (a) => (a as HTMLAnchorElement).href);
  await zoe.page.goto(receipt);
  await zoe.sees('It is there, and waits to be looked at.');
  await zoe.isAccessible();
  const sums = await (await fetch(`${receipt}/SHA256SUMS`)).text();
  writeFileSync(join(desk, 'sums'), sums);
  expect(execFileSync('sha256sum', ['--check', 'sums'], { cwd: desk, encoding: 'utf8' }).match(/: OK$/gm)).toHaveLength(
    3,
  );

  // What came is shown by itself; what is not what it says is left out unless it is meant.
  await iris.sees('Zoe Calder', '.sheet');
  await iris.sees('site.jpg is a program', '.sheet');
  await iris.isAccessible();
  await iris.press('Look at Site/levels.csv', '.sheet');
  await iris.sees('CP001', '.viewer');
  await iris.isAccessible();
  await iris.page.keyboard.press('Escape');
  await iris.press('Ask back', '.sheet');
  await iris.page.keyboard.type('Please send day 2 as well.');
  await iris.isAccessible();
  await iris.press('Ask Zoe Calder', '.sheet');
  await iris.sees('It stands on the receipt of Zoe Calder.');
  await zoe.page.reload();
  await zoe.sees('Please send day 2 as well.');
  await zoe.isAccessible();
  await iris.press('Accept 2 into Projects');
  // Said once it stands so on the sheet as well.
  await iris.sees('2 files went into Projects.');
  expect(await iris.page.$$('.sheet .deposit-files input')).toHaveLength(1);
  await iris.press('Choose site.jpg', '.sheet');
  await iris.press('Refuse', '.sheet');
  await iris.page.keyboard.type('That is no picture.');
  await iris.press('Refuse 1 file', '.sheet');
  await iris.sees('partly accepted', '.sheet');
  await iris.isAccessible();
  await zoe.page.reload();
  await zoe.sees('Some of it was accepted, and some was not.');
  await zoe.sees('That is no picture.');

  // Today says what waits; a page that is open closes when the intake is withdrawn.
  await zoe.page.goto(link);
  await zoe.sees('What you handed in');
  await iris.press('Withdraw', '.sheet');
  await iris.sees('Nothing can be handed in any more.');
  await zoe.page.reload();
  await zoe.sees('Iris Ward has withdrawn it.');
  await zoe.isAccessible();
  const client = await office.signedIn('iris');
  const id = iris.page.url().split('/intakes/')[1] as string;
  const { body } = await client.ask<IntakeSheet>('GET', `/api/intakes/${id}`);
  expect(body).toMatchObject({ state: 'withdrawn', deposits: 1, files: 3, waiting: 0 });
  await zoe.leave();
  await iris.leave();
});

it('is for those who are listed: proven by a code, counted, and reminded', async () => {
  const iris = await Person.at(browser, office.origin);
  await iris.signIn('iris', `/intakes/new?folder=${office.roots.projects}`);
  await iris.fill('#intake-title', 'Certificates');
  await iris.press('Listed', '.sheet');
  await iris.fill('[aria-label="Recipients"]', 'zoe@brookline.example lena@mill.example');
  await iris.press('Write to those who have handed nothing in', '.sheet');
  await iris.fill('[aria-label="Days before it closes"]', '40');
  await iris.press('Open the intake');
  await iris.sees('Something above is not right yet.', '.sheet');
  await iris.fill('[aria-label="Days before it closes"]', '2');
  await iris.isAccessible();
  await iris.press('Open the intake');
  await iris.sees('0 of 2 people have handed something in', '.sheet');
  await iris.press('Write to the 2 who have not', '.sheet');
  await iris.sees('2 people are written to.');
  await iris.sees('written to today', '.sheet');
  await iris.isAccessible();
  await vi.waitFor(() => expect(mailbox.mails).toHaveLength(2), 60_000);
  const link = /Hand them in here: (\S+)/.exec(mailbox.mails.splice(0)[0]?.text ?? '')?.[1] as string;

  const zoe = await Person.at(browser, office.origin);
  await zoe.page.goto(link);
  await zoe.fill('#address', 'zoe@brookline.example');
  await zoe.isAccessible();
  await zoe.press('Send me a code');
  await zoe.sees('a code is on its way there');
  await vi.waitFor(() => expect(mailbox.mails).toHaveLength(1), 60_000);
  await zoe.fill('#code', mailbox.mails.splice(0)[0]?.text?.slice(0, 6) ?? '');
  await zoe.isAccessible();
  await zoe.press('Go on');
  const files = (await zoe.page.waitForSelector('#bring')) as ElementHandle<HTMLInputElement>;
  await files.uploadFile(join(desk, 'Site/levels.csv'));
  await zoe.sees('Ready to hand in: 1 file');
  await zoe.fill('#answer-name', 'Zoe Calder');
  await zoe.press('Hand in 1 file');
  await zoe.sees('Handed in. Your receipt is D-');
  await iris.sees('1 of 2 people has handed something in', '.sheet');
  await iris.sees('zoe@brookline.example', '.deposit-said');
  await iris.isAccessible();
  await zoe.leave();
  await iris.leave();
});

it('is handed in within a page of somebody else’s, which it grows in, and which no cookie is kept for', async () => {
  const client = await office.signedIn('iris');
  const { body } = await client.ask<IntakeSheet>('POST', '/api/intakes', {
    ...{ title: 'From our web site', folderId: office.roots.projects, message: '', folderPattern: null },
    ...{ window: { opensAt: null, closesAt: null }, limits: INTAKE_LIMITS },
    questions: { name: 'may', mail: 'no', firm: 'no', own: [] },
  });
  // A page of another site, that shows what is put into it.
  let snippet = '';
  const site = createServer((_req, res) => res.setHeader('Content-Type', 'text/html').end(`<!doctype html>${snippet}`));
  await new Promise<void>((resolve) => site.listen(0, '127.0.0.1', resolve));
  const { hostname } = new URL(office.origin);
  const other = hostname === 'localhost' ? '127.0.0.1' : 'localhost';
  const at = `http://${other}:${(site.address() as AddressInfo).port}`;
  const iris = await Person.at(browser, office.origin);
  await iris.signIn('iris', `/intakes/${body.id}`);
  await iris.press('On your own web page', '.sheet');
  await iris.press('Allow it', '.sheet');
  await iris.sees('Say the address of the page.', '.sheet');
  await iris.fill('#embed-origins', `${at}/contact`);
  await iris.press('In colours of that page', '.sheet');
  await iris.isAccessible();
  await iris.press('Allow it', '.sheet');
  await iris.sees('Put this into the page', '.sheet');
  await iris.isAccessible();
  snippet = await iris.page.$eval('[aria-label="snippet"]', (e) => (e as HTMLTextAreaElement).value);
  await iris.leave();

  const zoe = await Person.at(browser, office.origin);
  await zoe.page.goto(at);
  const frame = await (await zoe.page.waitForSelector('iframe'))?.contentFrame();
  if (!frame) throw new Error('there is no page within the page');
  const files = (await frame.waitForSelector('#bring')) as ElementHandle<HTMLInputElement>;
  const height = () => zoe.page.$eval('iframe', (e) => e.getBoundingClientRect().height);
  await files.uploadFile(...['small.pdf', 'site.jpg'].map((name) => join(desk, name)));
  await frame.waitForFunction(() => document.body.innerText.includes('Ready to hand in: 2 files'), { timeout: 60_000 });
  const inner = await frame.evaluate(() => document.body.getBoundingClientRect().height);
  await vi.waitFor(async () => expect(Math.abs((await height()) - inner)).toBeLessThan(40), 20_000);
  expect(await frame.evaluate(() => getComputedStyle(document.body).backgroundColor)).toBe('rgb(251, 249, 244)');
  // It goes on after a reload, known by what the page keeps.
  await frame.evaluate(() => location.reload());
  await frame.waitForFunction(() => document.body.innerText.includes('Ready to hand in: 2 files'), { timeout: 60_000 });
  await frame.click('.answers button.main');
  await frame.waitForFunction(() => document.body.innerText.includes('Your receipt is D-'), { timeout: 60_000 });
  expect(await browser.cookies().then((all) => all.filter((c) => c.name === 'quay_deposit'))).toEqual([]);
  const { body: sheet } = await client.ask<IntakeSheet>('GET', `/api/intakes/${body.id}`);
  expect(sheet).toMatchObject({ deposits: 1, files: 2 });
  await zoe.leave();
  site.close();
});

it('is handed in without script, one file at a time', async () => {
  const client = await office.signedIn('iris');
  const { body } = await client.ask<IntakeSheet>('POST', '/api/intakes', {
    ...{ title: 'Without script', folderId: office.roots.projects, message: '', folderPattern: null },
    ...{ window: { opensAt: null, closesAt: null }, limits: INTAKE_LIMITS },
    questions: { name: 'must', mail: 'no', firm: 'no', own: [] },
  });
  const zoe = await Person.at(browser, office.origin);
  await zoe.page.setJavaScriptEnabled(false);
  await zoe.page.goto(body.link);
  // Without script nothing can be waited for in the page: what is pressed leads to another.
  const press = async (selector: string) => {
    await Promise.all([zoe.page.waitForNavigation(), zoe.page.click(selector)]);
  };
  await press('noscript a, a.main');
  for (const name of ['small.pdf', 'site.jpg']) {
    const input = (await zoe.page.$('#file')) as ElementHandle<HTMLInputElement>;
    await input.uploadFile(join(desk, name));
    await press('form[enctype] button');
  }
  expect(await zoe.page.content()).toContain('Ready to hand in: 2 files');
  await zoe.page.type('#name', 'Zoe Calder');
  await press('.answers button');
  expect(zoe.page.url()).toContain('/receipt/');
  expect(await zoe.page.content()).toContain('small.pdf');
  const { body: sheet } = await client.ask<IntakeSheet>('GET', `/api/intakes/${body.id}`);
  expect(sheet).toMatchObject({ deposits: 1, files: 2 });
  await zoe.leave();
});

it('fits on a telephone, 360 px wide, for both', async () => {
  const client = await office.signedIn('iris');
  const { body } = await client.ask<IntakeSheet>('POST', '/api/intakes', {
    ...{ title: 'A long title of what is asked for, Weir House and Mill Lane', folderId: office.roots.projects },
    ...{ window: { opensAt: null, closesAt: null }, folderPattern: null, message: '' },
    limits: { fileBytes: 2e9, files: 20, contributorBytes: 5e9, allBytes: 50e9, kinds: ['picture', 'pdf'] },
    questions: { name: 'must', mail: 'may', firm: 'may', own: [] },
  });
  const zoe = await Person.at(browser, office.origin);
  await zoe.page.setViewport({ width: 360, height: 740 });
  await zoe.page.goto(body.link);
  await zoe.sees('Only pictures and PDF.');
  const files = (await zoe.page.waitForSelector('#bring')) as ElementHandle<HTMLInputElement>;
  await files.uploadFile(join(desk, 'small.pdf'));
  await zoe.sees('Ready to hand in: 1 file');
  const width = () => zoe.page.evaluate(() => document.documentElement.scrollWidth);
  expect(await width()).toBe(360);
  await zoe.fill('#answer-name', 'Zoe Calder');
  await zoe.press('Hand in 1 file');
  await zoe.sees('Handed in. Your receipt is D-');
  await zoe.sees('What you handed in');
  expect(await width()).toBe(360);
  await zoe.page.goto(await zoe.page.$eval('.done a', (a) => (a as HTMLAnchorElement).href));
  await zoe.sees('waits to be looked at');
  expect(await width()).toBe(360);
  await zoe.leave();
  const iris = await Person.at(browser, office.origin);
  await iris.page.setViewport({ width: 360, height: 740 });
  await iris.signIn('iris', `/intakes/${body.id}`);
  await iris.sees('Zoe Calder', '.sheet');
  expect(await iris.page.evaluate(() => document.documentElement.scrollWidth)).toBe(360);
  await iris.isAccessible();
  await iris.page.goto(`${office.origin}/today`);
  await iris.sees('1 deposit waits');
  await iris.leave();
});

it('keeps to the rules of the office by one press, and only some of what comes goes straight in', async () => {
  const client = await office.signedIn('iris');
  const rules = (part: object) =>
    client.ask('PUT', '/api/guardrails/office', { ...NO_GUARDRAILS, domains: [], addresses: [], ...part });
  await rules({ longestDays: 3, passwordNeeded: true });
  const iris = await Person.at(browser, office.origin);
  await iris.signIn('iris', `/intakes/new?folder=${office.roots.projects}`);
  await iris.fill('#intake-title', 'Certificates of the week');
  await iris.sees('The office: an intake is open for at most 3 days.', '.sheet');
  await iris.isAccessible();
  await iris.press('Open the intake');
  await iris.sees('Something above is not right yet.', '.sheet');
  await iris.press('Close it after 3 days', '.sheet');
  await iris.press('Propose one', '.sheet');
  await iris.press('It goes straight in', '.sheet');
  await iris.press('Only some of it does, the rest waits', '.sheet');
  await iris.press('Open the intake');
  await iris.sees('Say what goes straight in, or let everything.', '.sheet');
  await iris.fill('[aria-label="Megabytes of a file that goes straight in"]', '50');
  await iris.isAccessible();
  await iris.press('Open the intake');
  await iris.sees('Nothing was handed in yet.', '.sheet');
  await iris.sees('only files of at most 50 MB go straight in, the rest waits to be accepted.', '.sheet');
  // A rule that comes later closes what is out, and says so where it stands.
  await rules({ longestDays: 2 });
  await iris.sees('Nothing can be handed in until it keeps to that.', '.sheet');
  await iris.isAccessible();
  await iris.press('Change', '.sheet');
  await iris.press('Close it after 2 days', '.sheet');
  await iris.press('Save', '.sheet');
  await vi.waitFor(async () => {
    const id = iris.page.url().split('/intakes/')[1] as string;
    expect((await client.ask<IntakeSheet>('GET', `/api/intakes/${id}`)).body.state).toBe('open');
  }, 20_000);
  await rules({});
  await iris.leave();
});
