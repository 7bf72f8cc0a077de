import { execFileSync } from 'node:child_process';
import { readdirSync } from 'node:fs';
import { dirname, join } from 'node:path';
import type { Browser } from 'puppeteer-core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { openOffice, type TestOffice } from '../apps/server/src/_fixtures/office.js';
import { AccountsService } from '../apps/server/src/accounts/accounts.service.js';
import { launch, Person } from './_fixtures/browser.js';

// The job: decide about the office, and see before it is kept what that does.
let office: TestOffice;
let browser: Browser;
let iris: Person;

beforeAll(async () => {
  office = await openOffice();
  browser = await launch();
  iris = await Person.at(browser, office.origin);
  await iris.signIn('iris', '/settings');
});
afterAll(async () => {
  await browser?.disconnect();
  await office?.close();
});

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
    // A page that is open uses the session.
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
  it('show everybody where they are signed in, and end it elsewhere', async () => {
    const [here, there] = [await Person.at(browser, office.origin), await Person.at(browser, office.origin)];
    await there.signIn('tomas', '/stores');
    await here.signIn('tomas', '/account');
    await here.sees('Where you are signed in');
    await here.sees('(here)', '.sessions');
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
    for (const subject of ['office', 'stores', 'mail', 'security', 'backups', 'health', 'about']) {
      await iris.page.goto(`${office.origin}/settings/${subject}`);
      await iris.page.waitForSelector('.settings form, .backup-place, .health li, .settings table');
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
