import { createHash, randomBytes } from 'node:crypto';
import { execFileSync } from 'node:child_process';
import { mkdirSync, mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { Browser, ElementHandle } from 'puppeteer-core';
import { afterAll, beforeAll, expect, it } from 'vitest';
import { openOffice, type TestOffice } from '../apps/server/src/_fixtures/office.js';
import { LAN_NAME, launch, Person } from './_fixtures/browser.js';

let office: TestOffice;
let browser: Browser;
const desk = mkdtempSync(join(tmpdir(), 'desk-'));
const photograph = randomBytes(700_000);
const levels = Buffer.from('point,level\r\nCP001,12.345\r\n');

beforeAll(async () => {
  office = await openOffice();
  // What people see moves with the browser's clock, so this office's clock runs from the present.
  office.clock.at = Date.now();
  browser = await launch();
  mkdirSync(join(desk, 'Site visit/Photographs'), { recursive: true });
  writeFileSync(join(desk, 'Site visit/Photographs/001.jpg'), photograph);
  writeFileSync(join(desk, 'Site visit/levels.csv'), levels);
});
afterAll(async () => {
  await browser.disconnect();
  await office.close();
  rmSync(desk, { recursive: true, force: true });
});

// A CommonJS package whose types and shape disagree about its default.
const sha = (bytes: Buffer) => createHash('sha256').update(bytes).digest('hex');

it('from a folder on the desk to a visitor holding the right bytes, and to the closed door', async () => {
  const iris = await Person.at(browser, office.origin);
  await iris.signIn('iris', `/stores/${office.roots.projects}`);

  // A whole folder goes in.

  const chooser = (await iris.page.waitForSelector('#add-folder')) as ElementHandle<HTMLInputElement>;
  await chooser.uploadFile(join(desk, 'Site visit'));
  await iris.sees('2 files done');
  await iris.press('Clear');

  // Two items from different folders go onto the slip.
  await iris.press('Site visit', '.folder-table');
  await iris.sees('levels.csv', '.folder-table');
  await iris.press('Select levels.csv');
  await iris.page.keyboard.press('s');
  await iris.sees('1 item', '.slip');
  await iris.press('Photographs', '.folder-table');
  await iris.sees('001.jpg', '.folder-table');
  await iris.press('Select 001.jpg');
  await iris.press('Put on slip S');
  await iris.sees('2 items', '.slip');

  // Title, window, visits; the password is proposed.
  await iris.unfold('What');
  await iris.fill('[aria-label="Title"]', 'Site visit of Monday');
  await iris.unfold('When');
  await iris.press('3 days', '.slip');
  await iris.unfold('Guard');
  await iris.fill('[aria-label="Visit limit"]', '2');
  await iris.sees(
    'Anyone with the link and the password can download 2 items (700 kB) from now until',
    '.slip .sentence',
  );
  await iris.sees('at most 2 visits.', '.slip .sentence');
  await iris.isAccessible();
  await iris.press('Publish', '.slip');
  await iris.sees('Hand over', '.slip');
  await iris.sees('The password, by another channel', '.slip');
  await iris.isAccessible();
  const [link, password] = (await iris.page.$$eval('.handover .value', (e) => e.map((x) => x.textContent))) as [
    string,
    string,
  ];
  expect(link).toMatch(new RegExp(`^${office.origin}/s/[0-9A-Za-z]{22}$`));

  // Each can be copied, and the QR code says the same to a decoder of somebody else's (jsQR).
  await iris.page.bringToFront();
  await iris.press('Copy link');
  await iris.sees('Copied', '.handover');
  expect(await iris.page.evaluate(() => navigator.clipboard.readText())).toBe(link);
  expect(await iris.readsQr()).toBe(link);

  // A visitor with a clean browser: wrong password, then the right one.
  const visitor = await Person.at(browser, office.origin);
  await visitor.page.goto(link);
  await visitor.sees('Site visit of Monday');
  await visitor.sees('Iris Ward, Saltmarsh Survey');
  await visitor.isAccessible();
  await visitor.fill('#password', 'not the password');
  await visitor.press('Open');
  await visitor.sees('That is not the password. 9 tries left in this minute.');
  await visitor.fill('#password', password);
  await visitor.press('Open');
  await visitor.sees('2 files, 700 kB');
  await visitor.isAccessible();

  // One file, then everything as one archive: the same bytes.
  await visitor.press('001.jpg');
  expect(sha(await visitor.downloaded('001.jpg'))).toBe(sha(photograph));
  await visitor.page.click('a.main');
  await visitor.downloaded('Site visit of Monday.zip');
  expect(sha(execFileSync('unzip', ['-p', join(visitor.downloads, 'Site visit of Monday.zip'), 'levels.csv']))).toBe(
    sha(levels),
  );

  // No script of the staff application came along.
  const scripts = await visitor.page.evaluate(() =>
    performance
      .getEntriesByType('resource')
      .map((r) => r.name)
      .filter((n) => n.endsWith('.js')),
  );
  expect(scripts.some((s) => s.includes('/index-'))).toBe(false);

  // The second visit is the last; a third browser is told so. A reload is the same visit.
  await visitor.page.reload();
  await visitor.sees('2 files');
  const second = await Person.at(browser, office.origin);
  await second.page.goto(link);
  await second.fill('#password', password);
  await second.sees('the last visit');
  await second.press('Open');
  await second.sees('2 files');
  const third = await Person.at(browser, office.origin);
  await third.page.goto(link);
  await third.sees('All visits are used');
  await third.isAccessible();

  // Iris sees the visits, and withdraws: the page that is open closes by itself.
  await iris.press('Done');
  await iris.press('Shares', 'nav');
  await iris.press('Site visit of Monday', 'table');
  await iris.sees('2 visits of 2', '.sheet');
  await iris.isAccessible();
  await iris.press('Withdraw', '.sheet');
  await visitor.sees('Iris Ward has withdrawn this share.');
  await third.sees('Withdrawn');
  await iris.page.keyboard.down('Control');
  await iris.page.keyboard.press('z');
  await iris.page.keyboard.up('Control');
  await visitor.sees('2 files');
  for (const person of [iris, visitor, second, third]) await person.leave();
});

it('a share that opens later opens by itself on a page that waits, and closes when its end is brought forward', async () => {
  const iris = await office.signedIn('iris');
  const { body: file } = await iris.upload(office.roots.projects, 'later.txt', Buffer.from('later'));
  const share = await office.publish(iris, [file.id], {
    title: 'For later',
    window: { opensAt: new Date(office.clock.now() + 2500).toISOString(), closesAt: null },
  });
  const visitor = await Person.at(browser, office.origin);
  await visitor.page.goto(`${office.origin}/s/${share.token}`);
  await visitor.sees('Not open yet');
  await visitor.isAccessible();
  office.clock.advance(2600);
  await visitor.sees('1 file, 5 B');
  office.clock.advance(60_000);
  await iris.ask('PATCH', `/api/shares/${share.id}`, {
    window: { opensAt: null, closesAt: new Date(office.clock.now() + 1500).toISOString() },
  });
  await visitor.sees('Open until');
  office.clock.advance(1600);
  await visitor.sees('Closed');
  await visitor.page.goto(`${office.origin}/s/AbCdEfGhIjKlMnOpQrStUv`);
  await visitor.sees('There is nothing at this link');
  await visitor.isAccessible();
  await visitor.leave();
});

it('a share takes files in from whoever holds its link, until it does not any more', async () => {
  const client = await office.signedIn('iris');
  const { body: folder } = await client.ask<{ id: string }>('POST', `/api/folders/${office.roots.projects}/folders`, {
    name: 'Site photographs',
  });
  const { body: plan } = await client.upload(folder.id, 'plan.csv', levels);
  const { body: alone } = await client.upload(office.roots.projects, 'Alone.csv', levels);
  const iris = await Person.at(browser, office.origin);
  await iris.signIn('iris', `/stores/${office.roots.projects}`);
  await iris.press('Select Site photographs');
  await iris.page.keyboard.press('s');
  await iris.press('Select Site photographs');
  await iris.press('Select Alone.csv');
  await iris.press('Put on slip S');
  await iris.unfold('May');
  await iris.press('Add and replace', '.slip');
  await iris.sees('can download, add to and replace 2 items', '.slip .sentence');
  await iris.unfold('Guard');
  await iris.press('None', '.slip');
  await iris.unfold('May');
  await iris.isAccessible();
  await iris.press('Publish', '.slip');
  await iris.sees('Hand over', '.slip');
  const link = (await iris.page.$eval('.handover .value', (e) => e.textContent)) as string;
  await iris.press('Done');

  const visitor = await Person.at(browser, office.origin);
  await visitor.page.setViewport({ width: 360, height: 740 });
  await visitor.page.goto(link);
  await visitor.sees('Drop files here, or');
  const chooser = (await visitor.page.waitForSelector('#bring')) as ElementHandle<HTMLInputElement>;
  await chooser.uploadFile(join(desk, 'Site visit/Photographs/001.jpg'), join(desk, 'Site visit/levels.csv'));
  await visitor.sees('is there', '.bringing');
  await visitor.sees('4 files');
  await visitor.isAccessible();
  // The same name once more: it is asked about.
  await chooser.uploadFile(join(desk, 'Site visit/levels.csv'));
  await visitor.sees('Keep both', '.bringing');
  await visitor.isAccessible();
  await visitor.press('Keep both: levels.csv', '.bringing');
  await visitor.sees('levels (2).csv', '.files');
  await visitor.press('Clear the list');
  // One that is there gets a new version.
  const [over] = (await visitor.page.$$('[aria-label="Replace plan.csv"]')) as ElementHandle<HTMLInputElement>[];
  await over?.uploadFile(join(desk, 'Site visit/Photographs/001.jpg'));
  await visitor.sees('is there', '.bringing');
  const { versions } = (await client.ask<{ versions: unknown[] }>('GET', `/api/files/${plan.id}/versions`)).body;
  expect(versions).toHaveLength(2);
  // So does one by itself, though its folder is not shared; and a whole folder comes as it is.
  const [single] = (await visitor.page.$$('[aria-label="Replace Alone.csv"]')) as ElementHandle<HTMLInputElement>[];
  await single?.uploadFile(join(desk, 'Site visit/Photographs/001.jpg'));
  await expect
    .poll(
      async () => (await client.ask<{ versions: unknown[] }>('GET', `/api/files/${alone.id}/versions`)).body.versions,
    )
    .toHaveLength(2);
  const whole = (await visitor.page.waitForSelector('#bring-folder')) as ElementHandle<HTMLInputElement>;
  await whole.uploadFile(join(desk, 'Site visit'));
  await visitor.sees('Site photographs / Site visit / Photographs', '.files');
  await visitor.isAccessible();

  await iris.press('Shares', 'nav');
  await iris.press('Site photographs', 'table');
  await iris.sees('Brought:', '.sheet');
  await iris.sees('001.jpg', '.sheet');
  await iris.isAccessible();
  await iris.press('Change', '.sheet');
  await iris.press('Download', '.sheet [aria-label="What they may do"]');
  await iris.press('Save', '.sheet');
  await visitor.sees('Files are not taken in here any more.');
  expect(await visitor.page.$eval('.drop', (e) => (e as HTMLElement).hidden)).toBe(true);
  expect((await client.ask<{ items: unknown[] }>('GET', `/api/folders/${folder.id}`)).body.items).toHaveLength(5);
  for (const person of [iris, visitor]) await person.leave();
});

it('files go in where the office has no certificate yet: by a name of its own network, over plain HTTP', async () => {
  const iris = await Person.at(browser, office.origin.replace('127.0.0.1', LAN_NAME));
  await iris.signIn('iris', `/stores/${office.roots.projects}`);
  expect(await iris.page.evaluate(() => window.isSecureContext)).toBe(false);
  const chooser = (await iris.page.waitForSelector('#add-folder')) as ElementHandle<HTMLInputElement>;
  // Another folder than the one that is there already.
  await chooser.uploadFile(join(desk, 'Site visit/Photographs'));
  await iris.sees('1 file done');
  // The browser remarks there on headers that mean nothing to it: of errors only what scripts throw counts.
  expect(iris.errors.filter((error) => /TypeError|is not a function|Uncaught/.test(error))).toEqual([]);
  await iris.context.close();
});
