import { execFileSync } from 'node:child_process';
import { readdirSync, writeFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { PNG } from 'pngjs';
import type { Browser, ElementHandle } from 'puppeteer-core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { openOffice, PASSWORDS, type Client, type TestOffice } from '../apps/server/src/_fixtures/office.js';
import { AccountsService } from '../apps/server/src/accounts/accounts.service.js';
import { launch, Person } from './_fixtures/browser.js';

// The job: decide about the office, and see before it is kept what that does.
let office: TestOffice;
let browser: Browser;
let iris: Person;
/** Somebody who has a file to publish. */
let maker: Client;
let file: string;

beforeAll(async () => {
  office = await openOffice();
  browser = await launch();
  maker = await office.signedIn('iris');
  file = (await maker.upload(office.roots.projects, 'Plan.txt', Buffer.from('plan'))).body.id;
  iris = await Person.at(browser, office.origin);
  await iris.signIn('iris', '/settings');
});
afterAll(async () => {
  await browser?.disconnect();
  await office?.close();
});

/** What an authenticator shows now: Debian's oathtool makes it. */
const codeOf = (secret: string): string =>
  execFileSync('oathtool', ['--totp', '--base32', `--now=@${Math.floor(office.clock.now() / 1000)}`, secret])
    .toString()
    .trim();

describe('settings', () => {
  it('say what a change of the office does before it is made, and take it back', async () => {
    await iris.sees('It is');
    await iris.isAccessible();
    await iris.fill('#office-name', 'Saltmarsh Partnership');
    await iris.fill('#office-zone', 'Asia/Kolkata');
    await iris.sees('Every page says Saltmarsh Partnership, also those of visitors.');
    await iris.sees('Times read 5 h 30 min later.');
    await iris.isAccessible();
    await iris.page.keyboard.press('Enter');
    await iris.sees('The office is changed.');
    await iris.sees('Saltmarsh Partnership', '.bar');
    await iris.press('Undo', '.notices');
    await iris.sees('Saltmarsh Survey', '.bar');
  });
  it('put a logo, drawn small, and words on the pages of visitors', async () => {
    const { token } = await office.publish(maker, [file]);
    const visitor = await Person.at(browser, office.origin);
    const picture = join(iris.downloads, 'logo.png');
    writeFileSync(picture, PNG.sync.write(new PNG({ width: 1600, height: 400 })));
    await iris.fill('#visitor-words', 'Staithe Lane 4\nAsk Iris Ward');
    await iris.sees('Visitors read these words under every share.');
    await iris.press('Change the office');
    const chooser = (await iris.page.waitForSelector('#logo-file')) as ElementHandle<HTMLInputElement>;
    await chooser.uploadFile(picture);
    await iris.sees('Visitors see this above every share.');
    await iris.isAccessible();
    await visitor.page.goto(`${office.origin}/s/${token}`);
    await visitor.sees('Ask Iris Ward', 'footer');
    await visitor.page.waitForFunction(() => {
      const logo = document.querySelector<HTMLImageElement>('.logo');
      return logo?.complete && logo.naturalWidth === 480 && logo.naturalHeight === 120;
    });
    await visitor.isAccessible();
    await iris.press('Take it away');
    await iris.sees('Visitors see the name of the office alone.');
    await iris.press('Undo', '.notice:last-child');
    await iris.page.waitForSelector('.logo-settings img');
    writeFileSync(picture, 'no picture');
    await chooser.uploadFile(picture);
    await iris.sees('logo.png is no picture that this browser can draw.');
    await visitor.leave();
  });
  it('make stores and rename them', async () => {
    await iris.press('Stores', '.settings nav');
    await iris.fill('#new-store', 'projects');
    await iris.press('Make the store');
    await iris.sees('There is a store called projects already.');
    await iris.fill('#new-store', 'Surveys');
    await iris.page.keyboard.press('Enter');
    await iris.sees('All staff may edit in it.');
    await iris.press('Rename Surveys');
    await iris.fill('#store-name', 'Land surveys');
    await iris.page.keyboard.press('Enter');
    await iris.sees('Surveys is called Land surveys now.');
    await iris.isAccessible();
    await iris.press('Move Land surveys down');
    await iris.sees('People see the stores in this order.');
    await iris.press('Archive Land surveys');
    await iris.sees('Nothing is added, changed or thrown away in Land surveys any more.');
    await iris.isAccessible();
    const tomas = await Person.at(browser, office.origin);
    const place = await iris.page.$$eval('.store-settings a', (links) =>
      links.find((link) => link.textContent === 'Land surveys')?.getAttribute('href'),
    );
    await tomas.signIn('tomas', place ?? '');
    await tomas.sees('You can edit.');
    await iris.press('Archive Land surveys', '.archive');
    await tomas.sees('nothing is added or changed.', 'h1');
    await tomas.isAccessible();
    await iris.press('Bring it back: Land surveys');
    await tomas.sees('You can edit.');
    await iris.press('Who manages and reaches it: Land surveys');
    await iris.sees('Who reaches Land surveys');
    await iris.choose('#grant-subject', 'Rosa Quill');
    await iris.page.select('#grant-level', 'manage');
    await iris.press('Grant', '.access-dialog');
    await iris.sees('Rosa Quill can manage there now.');
    await iris.press('Close', '.modal');
    await iris.sees('Managed by Rosa Quill and admins.');
    await iris.isAccessible();
    await tomas.leave();
    await iris.press('Land surveys', '.settings');
    await iris.sees('Land surveys', 'h1, .path');
  });
  it('try the mail server before it is used', async () => {
    await iris.page.goto(`${office.origin}/settings/mail`);
    await iris.fill('#mail-host', '127.0.0.1');
    await iris.fill('#mail-port', '9');
    await iris.fill('#mail-sender', 'quay@saltmarsh.example');
    await iris.press('Send a test message');
    await iris.sees('Nothing takes mail at 127.0.0.1, port 9');
    await iris.press('Use this mail server');
    await iris.sees('Mail goes out by 127.0.0.1 from now on.');
    await iris.press('Send no mail');
    await iris.sees('No mail goes out from now on.');
    await iris.isAccessible();
  });
  it('have backups made, encrypted with a key that is made here, rehearsed, and ended with a way back', async () => {
    const folder = join(dirname(office.config.blobRoot), 'copies');
    await iris.page.goto(`${office.origin}/settings/backups`);
    await iris.sees('There is no backup yet');
    await iris.isAccessible();
    await iris.press('Choose where backups go');
    await iris.fill('#backup-folder', office.config.blobRoot);
    await iris.page.keyboard.press('Tab');
    await iris.sees('Choose a folder elsewhere, best on another disk.', '.folder-look');
    await iris.fill('#backup-folder', folder);
    await iris.page.keyboard.press('Tab');
    await iris.sees('On the same disk as the files');
    await iris.fill('#backup-at', '25:00');
    await iris.press('Make a key');
    await iris.sees('lockfast-quay-backup-key.txt was saved here.');
    await iris.page.focus('#backup-at');
    await iris.page.keyboard.press('Tab');
    await iris.sees('A time of day, as in 22:30.');
    await iris.fill('#backup-at', '04:15');
    await iris.sees('The first is made at once, then one every day at 04:15.');
    await iris.isAccessible();
    await iris.press('Make backups there');
    await iris.sees('yes, to 1 key');
    await iris.sees('Rehearse now');
    const key = join(iris.downloads, readdirSync(iris.downloads).find((name) => name.endsWith('.txt')) ?? '');
    const [stamp] = readdirSync(folder).filter((name) => /^\d{8}T/.test(name));
    // age (Debian) opens it with the file that the browser saved.
    execFileSync('age', ['-d', '-i', key, '-o', `${key}.dump`, join(folder, stamp ?? '', 'database.dump.age')]);
    await iris.press('Rehearse now');
    await iris.sees('and everything in it holds');
    await iris.isAccessible();
    await iris.press('End these backups');
    await iris.sees('Those that lie there stay.');
    await iris.press('Undo', '.notices');
    await iris.sees('yes, to 1 key');
  });
  it('say who would be signed out before that is kept', async () => {
    const rosa = await Person.at(browser, office.origin);
    await rosa.signIn('rosa', '/account');
    // A page that is open, or still asks, uses the session.
    await rosa.sees('A passkey belongs to a name');
    await rosa.sees('(here)', '.sessions');
    await rosa.page.goto('about:blank');
    await office.db.query(
      `UPDATE session SET seen_at = seen_at - interval '9 days' WHERE person_id = (SELECT id FROM person WHERE sign_in_name = 'rosa')`,
    );
    await iris.page.goto(`${office.origin}/settings/security`);
    await iris.fill('#session-days', '7');
    await iris.sees('1 session of 1 person ends now.');
    await iris.isAccessible();
    await iris.press('Change that');
    await iris.sees('That holds from now on.');
    await rosa.page.goto(`${office.origin}/account`);
    await rosa.page.waitForSelector('#password');
    await rosa.leave();
  });
  it('want a second factor of everybody of the office, who set it up and sign in by it', async () => {
    const rosa = await Person.at(browser, office.origin);
    await rosa.signIn('rosa', '/stores');
    await iris.page.goto(`${office.origin}/settings/security`);
    await iris.page.waitForSelector('#factorWanted');
    await iris.page.select('#factorWanted', 'staff');
    await iris.sees('3 people set one up before doing anything else.');
    await iris.isAccessible();
    await iris.press('Change that');
    await rosa.sees('wants a second factor of you');
    await rosa.isAccessible();
    await rosa.fill('#factor-password', PASSWORDS.rosa);
    await rosa.page.keyboard.press('Enter');
    const secret = new URL((await rosa.readsQr()) ?? '').searchParams.get('secret') ?? '';
    await rosa.sees(secret, '.copy-line');
    await rosa.isAccessible();
    await rosa.fill('#factor-code', '12345');
    await rosa.page.keyboard.press('Enter');
    await rosa.sees('That code is not right');
    await rosa.fill('#factor-code', codeOf(secret));
    await rosa.page.keyboard.press('Enter');
    await rosa.sees('Your recovery codes.');
    await rosa.isAccessible();
    const recovery = await rosa.page.$eval('.recovery li', (li) => li.textContent ?? '');
    await rosa.press('I have kept them');
    await rosa.page.waitForSelector('.bar');
    await rosa.leave();
    const again = await Person.at(browser, office.origin);
    await again.page.goto(`${office.origin}/sign-in`);
    await again.fill('#name', 'rosa');
    await again.fill('#password', PASSWORDS.rosa);
    await again.page.keyboard.press('Enter');
    await again.sees('The six digits that your authenticator shows');
    await again.isAccessible();
    // The telephone is lost.
    await again.fill('#code', recovery.toUpperCase());
    await again.page.keyboard.press('Enter');
    await again.page.waitForSelector('.bar');
    await again.page.goto(`${office.origin}/account`);
    await again.sees('9 recovery codes left.');
    await again.press('Switch it off');
    await again.sees('From then on your password alone opens.');
    await again.isAccessible();
    // Iris stands before the same question; what she wants of others is taken back here, to go on.
    await iris.sees('wants a second factor of you');
    await office.db.query(`UPDATE office SET factor_wanted = 'nobody'`);
    await iris.page.reload();
    await iris.sees('A second factor is wanted from');
    office.clock.advance(60_000);
    await again.fill('#factor-code', codeOf(secret));
    await again.page.keyboard.press('Enter');
    await again.sees('Signing in takes your password alone.');
    await again.leave();
  });
  it('show everybody where they are signed in, and end it elsewhere', async () => {
    const [here, there] = [await Person.at(browser, office.origin), await Person.at(browser, office.origin)];
    await there.signIn('tomas', '/stores');
    await here.signIn('tomas', '/account');
    await here.sees('Where you are signed in');
    await here.sees('(here)', '.sessions');
    await here.sees('When a share of yours is opened for the first time');
    await here.page.click('#notice-share-opened');
    await here.sees('You are told of that by mail.');
    await here.isAccessible();
    await here.press('Sign out everywhere else');
    await here.sees('You are signed out everywhere else.');
    await there.page.waitForSelector('#password');
    await here.leave();
    await there.leave();
  });
  it('tell how the server is, with what to do about what is wrong', async () => {
    await iris.page.goto(`${office.origin}/settings/health`);
    await iris.sees('need a look');
    await iris.sees('Name a mail server in Settings');
    await iris.isAccessible();
    await iris.press('Look again');
    await iris.sees('Look again');
  });
  it('fit at 360 px, and are for those who run the server', async () => {
    await iris.page.setViewport({ width: 360, height: 740 });
    for (const subject of ['office', 'stores', 'shares', 'mail', 'security', 'backups', 'health', 'about']) {
      await iris.page.goto(`${office.origin}/settings/${subject}`);
      await iris.page.waitForSelector('.settings form, .backup-place, .health li, .settings table, .store-settings');
      expect(await iris.page.evaluate(() => document.documentElement.scrollWidth)).toBeLessThanOrEqual(360);
      await iris.isAccessible();
    }
    expect(iris.errors).toEqual([]);
    const tomas = await Person.at(browser, office.origin);
    await tomas.signIn('tomas', '/settings/mail');
    await tomas.sees('Change your password');
  });
});

describe('a link for a password', () => {
  it('lets somebody choose one, sign in by it, and is over then', async () => {
    const { token } = await office.app.get(AccountsService).passwordLink('rosa');
    const rosa = await Person.at(browser, office.origin);
    await rosa.page.goto(`${office.origin}/password/${token}`);
    await rosa.sees('Rosa Quill, choose the password');
    await rosa.isAccessible();
    await rosa.fill('#new-password', 'password1234');
    await rosa.page.keyboard.press('Enter');
    await rosa.sees('That password is easy to guess');
    await rosa.fill('#new-password', 'orchard-bramble-cistern-owl');
    await rosa.page.keyboard.press('Enter');
    await rosa.fill('#name', 'rosa');
    await rosa.fill('#password', 'orchard-bramble-cistern-owl');
    await rosa.page.keyboard.press('Enter');
    await rosa.page.waitForSelector('.bar');
    await rosa.page.goto(`${office.origin}/password/${token}`);
    await rosa.sees('This link has been used, or is over.');
    await rosa.isAccessible();
    expect(rosa.errors).toEqual([]);
  });
});
