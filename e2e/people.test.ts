import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import type { Browser, ElementHandle } from 'puppeteer-core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { openOffice, type TestOffice } from '../apps/server/src/_fixtures/office.js';
import { launch, Person } from './_fixtures/browser.js';

// The job: see and steer who can do what with which folder, and be able to say so of last week.
const PASSWORD = 'copper-weir-oar-lantern';
let office: TestOffice;
let browser: Browser;
let iris: Person;

beforeAll(async () => {
  office = await openOffice();
  browser = await launch();
  iris = await Person.at(browser, office.origin);
  await iris.signIn('iris', '/people');
});
afterAll(async () => {
  await browser?.disconnect();
  await office?.close();
});

/** What a cell says of itself. */
async function cell(who: string, where: string): Promise<string | null> {
  const found = await iris.page.waitForSelector(`[role=gridcell][aria-label^="${who}, ${where}:"]`);
  return found?.evaluate((e) => e.getAttribute('aria-label')) ?? null;
}
const key = (name: string) => iris.page.keyboard.press(name as 'Enter');

describe('people', () => {
  it('somebody gets an account, begins by the link, and is in a group', async () => {
    await iris.sees('3 staff, 0 guests.');
    await iris.isAccessible();
    await iris.press('Groups 0');
    await iris.fill('#new-group', 'Site crew');
    await key('Enter');
    await iris.sees('Site crew', 'table');
    await iris.press('Add a person');
    await iris.fill('#add-name', 'Zoe Calder');
    await iris.fill('#add-email', 'zoe@saltmarsh.example');
    await iris.sees('Signs in as');
    await iris.isAccessible();
    await iris.press('Site crew', '.group-choice');
    await iris.page.select('#add-by', 'link');
    await iris.press('Make the account');
    await iris.sees('Nobody has told Zoe Calder yet');
    const link = await iris.page.$eval('.copy-line .value', (e) => e.textContent ?? '');
    await iris.press('Done', '.modal');
    const zoe = await Person.at(browser, office.origin);
    await zoe.page.goto(`${office.origin}${new URL(link).pathname}`);
    await zoe.fill('#new-password', PASSWORD);
    await zoe.press('Set the password');
    await zoe.fill('#name', 'zoe@saltmarsh.example');
    await zoe.fill('#password', PASSWORD);
    await zoe.press('Sign in', 'main');
    await zoe.sees('Nothing is open.', 'main');
    await zoe.leave();
    await iris.sees('4 staff', 'h1');
  });
  it('the table is walked by keys, and a cell says why', async () => {
    await iris.press('Who reaches what');
    await cell('Site crew', 'Projects');
    expect(await cell('Tomas Osei', 'Partners')).toBe('Tomas Osei, Partners: can view, granted here');
    await iris.page.focus('[role=grid]');
    for (const name of ['ArrowDown', 'ArrowDown', 'ArrowRight']) await key(name);
    await iris.sees('All staff, Projects', '.people-sheet');
    await key('End');
    await key('ArrowDown');
    await iris.sees('Iris Ward, Projects', '.people-sheet');
    await iris.sees('Can manage: the admin does.', '.people-sheet');
    await iris.isAccessible();
  });
  it('a change is seen before it is done, and is done at once', async () => {
    await iris.page.click('[role=gridcell][aria-label^="Tomas Osei, Partners:"]');
    await iris.sees('Can view: granted on Partners.', '.people-sheet');
    await iris.page.select('[aria-label="Level of Tomas Osei on Partners"]', 'edit');
    await iris.sees('1 person gains.', '.access-preview');
    await iris.sees('Tomas Osei, Partners: view → edit', '.access-preview');
    await iris.isAccessible();
    expect(await cell('Tomas Osei', 'Partners')).toContain('can view');
    await iris.press('Do it');
    await iris.page.waitForSelector('[role=gridcell][aria-label="Tomas Osei, Partners: can edit, granted here"]');
    await iris.press('Undo', '.notices');
    await iris.page.waitForSelector('[role=gridcell][aria-label="Tomas Osei, Partners: can view, granted here"]');
  });
  it('the same at an earlier moment, and what has changed since and by whom', async () => {
    const then = office.clock.date().toISOString();
    office.clock.advance(2 * 3600_000);
    const client = await office.signedIn('iris');
    await client.ask('POST', `/api/folders/${office.roots.partners}/grants`, {
      ...{ subject: { kind: 'staff' }, level: 'download', until: null },
    });
    await iris.page.goto(`${office.origin}/people?at=${encodeURIComponent(then)}`);
    await iris.sees('Compare with now');
    expect(await cell('Rosa Quill', 'Partners')).toBe('Rosa Quill, Partners: nothing');
    await iris.press('Compare with now');
    await iris.sees('3 people gain.', '.people-sheet');
    await iris.sees('Changed by Iris Ward.', '.people-sheet');
    await iris.isAccessible();
    // To the hour in which Zoe came, and on to now.
    for (const name of [']', ']']) await key(name);
    await iris.page.waitForSelector(
      '[role=gridcell][aria-label="Rosa Quill, Partners: can download, by a group or from above"]',
    );
  });
  it('a question is answered in a line, and the change that mends it is done', async () => {
    await iris.page.goto(`${office.origin}/stores/${office.roots.partners}`);
    await iris.sees('Partners', 'main');
    await iris.page.keyboard.down('Control');
    await key('k');
    await iris.page.keyboard.up('Control');
    await iris.page.waitForSelector('[role=combobox]');
    await iris.page.keyboard.type("why can't Rosa upload here");
    await iris.sees('question', '.command-list');
    await key('Enter');
    await iris.sees('Rosa Quill can download Partners, and for that they would need “can add files”.');
    await iris.sees('1 person gains.', '.answer-mend');
    await iris.isAccessible();
    await iris.press('Do it');
    await iris.sees('Rosa Quill can add files to Partners now.');
  });
  it('a list of people is looked at line by line before it is taken in', async () => {
    const list = join(iris.downloads, 'people.csv');
    writeFileSync(
      list,
      'Surname;First name;E-Mail;Team\nBirch;Ada;ada@saltmarsh.example;Site crew\n=1+1;;x@y.example;\n',
    );
    await iris.page.goto(`${office.origin}/people/staff`);
    await iris.press('From a list');
    const field = (await iris.page.waitForSelector('#import-file')) as ElementHandle<HTMLInputElement>;
    await field.uploadFile(list);
    await iris.sees('1 person would be added, 1 line cannot be taken.');
    await iris.sees('begins as a formula of a spreadsheet does');
    await iris.isAccessible();
    await iris.press('Send everybody their link by mail', '.modal');
    await iris.press('Add the 1 without faults');
    await iris.sees('1 person added');
    await iris.press('Done', '.modal');
    await iris.sees('Ada Birch', 'table');
  });
  it('duties get a name, and what a change does is read before it is saved', async () => {
    await iris.press('Duties');
    await iris.fill('#new-duty-set', 'Front desk');
    await key('Enter');
    await iris.sees('Nobody. It is given in the sheet of a person', '.people-sheet');
    await iris.press('look after people and groups', '.duties-draft');
    await iris.sees('Nobody has this set yet.', '.access-preview');
    await iris.press('Save', '.access-preview');
    await iris.sees('look after people and groups', '.duty-sets tr:first-child');
    await iris.isAccessible();
    await iris.press('Close', '.people-sheet');
    await iris.page.goto(`${office.origin}/people/staff`);
    await iris.press('Tomas Osei', 'table');
    await iris.choose('[aria-label="By which set"]', 'Front desk');
    await iris.sees('Tomas Osei may look after people and groups, and may no longer', '.access-preview');
    await iris.press('Save', '.access-preview');
    await iris.sees('Their duties are changed.', '.notices');
    await iris.page.goto(`${office.origin}/people/duties`);
    await iris.sees('Tomas Osei', '.duty-sets tr:first-child');
    // Another change is for everybody who has it; leaving it leaves all as it was.
    await iris.press('Front desk', 'table');
    await iris.press('see the whole ledger', '.duties-draft');
    await iris.sees('Tomas Osei may see the whole ledger.', '.access-preview');
    await iris.press('Leave it', '.access-preview');
    await iris.press('Remove this set');
    await iris.sees('Tomas Osei of their own', '.duty-sets');
    await iris.page.goto(`${office.origin}/people/staff`);
  });
  it('what of people needs a hand stands on Today, with what mends it', async () => {
    await office.db.query(
      `INSERT INTO person (id, sign_in_name, email, name, initials, role, password_hash, created_at, ends_at)
      SELECT gen_random_uuid(), 'pell', 'pell@calder.example', 'Pell Calder', 'PC', 'guest', password_hash, created_at, $1
        FROM person WHERE sign_in_name = 'iris'`,
      [new Date(office.clock.now() + 3 * 86_400_000)],
    );
    await iris.page.goto(`${office.origin}/`);
    await iris.sees('Nobody answers for the guest Pell Calder');
    await iris.sees('The account of Pell Calder ends this week');
    await iris.isAccessible();
    await iris.press('30 days more');
    await iris.sees('The account of Pell Calder ends 30 days later.', '.notices');
    await iris.press('Undo', '.notices');
    await iris.sees('The account of Pell Calder ends this week', '.two-columns');
    await office.db.query(`UPDATE person SET disabled_at = now() WHERE sign_in_name = 'pell'`);
    await iris.page.goto(`${office.origin}/people/staff`);
  });
  it('somebody leaves in one act, and comes back', async () => {
    await iris.press('Tomas Osei', 'table');
    await iris.press('Leaves', '.people-sheet');
    await iris.sees('What was granted to them on Partners ends (can view).');
    await iris.isAccessible();
    await iris.press('See Tomas Osei off');
    await iris.sees('Tomas Osei has left.');
    await iris.sees('seen off by Iris Ward', '.people-sheet');
    await iris.press('Take it back');
    await iris.sees('Tomas Osei is back, with what they had.');
    await iris.sees('Can view: granted on Partners.', '.people-sheet');
  });
  it('what somebody gets is looked at as they get it', async () => {
    await iris.page.goto(`${office.origin}/people/staff`);
    await iris.press('Tomas Osei');
    await iris.press('As they see it', '.people-sheet');
    await iris.sees('As Tomas Osei gets it.');
    await iris.isAccessible();
    await iris.page.click('.seen-stores a');
    await iris.sees('here.', 'h1');
    await iris.isAccessible();
    await iris.press('Enough seen');
    await iris.sees('Tomas Osei', '.people-sheet');
  });

  it('a guest is let into a folder, and looked at', async () => {
    await iris.page.goto(`${office.origin}/stores/${office.roots.projects}`);
    await iris.sees('Projects', 'main');
    await key('i');
    await iris.press('Invite a guest');
    await iris.fill('#guest-name', 'Marek Hale');
    await iris.fill('#guest-email', 'm.hale@fenway.example');
    await iris.page.select('#guest-by', 'password');
    await iris.isAccessible();
    await iris.press('Let them in');
    await iris.sees('Marek Hale is let in');
    await iris.sees('On the telephone:', '.modal');
    await iris.isAccessible();
    const [, given = ''] = await iris.page.$$eval('.copy-line .value', (all) => all.map((e) => e.textContent ?? ''));
    await iris.press('Done', '.modal');
    const marek = await Person.at(browser, office.origin);
    await marek.page.goto(`${office.origin}/sign-in`);
    await marek.fill('#name', 'm.hale@fenway.example');
    await marek.fill('#password', given);
    await marek.press('Sign in', 'main');
    await marek.sees('A password of your own', 'h1');
    await marek.isAccessible();
    await marek.fill('#password-current', given);
    await marek.fill('#password-next', PASSWORD);
    await marek.press('Change password');
    await marek.sees('Projects', 'main');
    await marek.leave();
    await iris.sees('Marek Hale', '.who-reaches');
    await iris.page.goto(`${office.origin}/people/guests`);
    await iris.press('Marek Hale', 'table');
    await iris.sees('after 90 days without a visit', '.people-sheet');
    await iris.sees('Can download: granted on Projects.', '.people-sheet');
    await iris.isAccessible();
    await iris.press('Disable', '.people-sheet');
    await iris.sees('Marek Hale can no longer sign in.');
    await iris.press('Undo', '.notices');
    await iris.sees('1 guest', 'h1');
  });
});

it.each(['', '/staff', '/guests', '/groups', '/duties'])('/people%s fits on a telephone, 360 px wide', async (view) => {
  await iris.page.setViewport({ width: 360, height: 740 });
  await iris.page.goto(`${office.origin}/people${view}`);
  await iris.sees('staff', 'h1');
  await iris.isStyled();
  expect(await iris.page.evaluate(() => document.documentElement.scrollWidth)).toBe(360);
  await iris.isAccessible();
});
