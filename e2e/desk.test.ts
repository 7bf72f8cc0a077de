import { writeFileSync, mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { Browser, ElementHandle } from 'puppeteer-core';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { openOffice, PASSWORDS, type TestOffice } from '../apps/server/src/_fixtures/office.js';
import { launch, Person } from './_fixtures/browser.js';

let office: TestOffice;
let browser: Browser;
const desk = mkdtempSync(join(tmpdir(), 'desk-'));
beforeAll(async () => {
  office = await openOffice();
  office.clock.at = Date.now();
  browser = await launch();
});
afterAll(async () => {
  await browser.disconnect();
  await office.close();
  rmSync(desk, { recursive: true, force: true });
});

const keys = async (person: Person, ...names: Parameters<Person['page']['keyboard']['press']>[0][]) => {
  for (const name of names) await person.page.keyboard.press(name);
};

describe('signing in and out', () => {
  it('a wrong password is told, the right one leads to where one wanted to go', async () => {
    const tomas = await Person.at(browser, office.origin);
    await tomas.page.goto(`${office.origin}/shares?state=open`);
    await tomas.fill('#name', 'tomas');
    await tomas.isAccessible();
    await tomas.fill('#password', 'wrong');
    await keys(tomas, 'Enter');
    await tomas.sees('That name and password do not belong together.');
    await tomas.fill('#password', PASSWORDS.tomas);
    await keys(tomas, 'Enter');
    await tomas.sees('0 shares open');
    expect(tomas.page.url()).toBe(`${office.origin}/shares?state=open`);
    await tomas.isAccessible();
    await tomas.press('TO: account of Tomas Osei, sign out');
    await tomas.press('Sign out');
    await tomas.page.waitForSelector('#name');
    await tomas.leave();
  });
});

describe('a folder by keyboard alone', () => {
  it('make a folder, rename, trash, undo, go in and up', async () => {
    const iris = await Person.at(browser, office.origin);
    await iris.signIn('iris', `/stores/${office.roots.iris}`);
    await iris.sees('This folder is empty.');
    await iris.isAccessible();
    await keys(iris, 'n');
    await iris.page.waitForSelector('#item-name');
    await iris.page.keyboard.type('con');
    await iris.sees('Windows reserves this name for a device.');
    await keys(iris, 'Backspace', 'Backspace', 'Backspace');
    await iris.page.keyboard.type('Letters');
    await keys(iris, 'Enter');
    await iris.sees('Letters', '.folder-table');
    await iris.page.waitForFunction(() => !document.querySelector('.modal'));
    await keys(iris, 'ArrowDown', 'F2');
    await iris.page.waitForSelector('#item-name');
    await iris.page.keyboard.type('Old letters');
    await keys(iris, 'Enter');
    await iris.sees('Old letters', '.folder-table');
    await iris.page.waitForFunction(() => !document.querySelector('.modal'));
    await iris.isAccessible();
    await keys(iris, 'ArrowDown', 'Delete');
    await iris.sees('Old letters went to the trash.');
    await iris.sees('This folder is empty.');
    await iris.page.keyboard.down('Control');
    await keys(iris, 'z');
    await iris.page.keyboard.up('Control');
    await iris.sees('Old letters', '.folder-table');
    await keys(iris, 'ArrowDown', 'Enter');
    await iris.sees('Old letters: 0 items');
    await iris.page.keyboard.down('Alt');
    await keys(iris, 'ArrowUp');
    await iris.page.keyboard.up('Alt');
    await iris.sees('My files: 1 item');
    await iris.leave();
  });

  it('what somebody else does in the folder appears by itself', async () => {
    const iris = await Person.at(browser, office.origin);
    await iris.signIn('iris', `/stores/${office.roots.projects}`);
    await iris.sees('Projects: 0 items');
    const tomas = await office.signedIn('tomas');
    await tomas.upload(office.roots.projects, 'from tomas.txt', Buffer.from('hello'));
    await iris.sees('from tomas.txt', '.folder-table');
    await iris.leave();
  });

  it('a taken name is asked about once, and what was decided is done', async () => {
    const iris = await Person.at(browser, office.origin);
    await iris.signIn('iris', `/stores/${office.roots.projects}`);
    for (const name of ['from tomas.txt', 'nul.txt', 'new.txt']) writeFileSync(join(desk, name), `${name} anew`);
    const chooser = (await iris.page.waitForSelector('[aria-label="Add files"]')) as ElementHandle<HTMLInputElement>;
    await chooser.uploadFile(...['from tomas.txt', 'nul.txt', 'new.txt'].map((n) => join(desk, n)));
    await iris.sees('One name is taken');
    await iris.isAccessible();
    await iris.press('Keep as new version');
    await iris.sees('v2', '.folder-table');
    await iris.sees('new.txt', '.folder-table');
    await iris.sees('Windows reserves this name for a device.');
    await iris.leave();
  });
});

describe('the slip', () => {
  it('stays through moving and reload, and says what is wrong before it is sent', async () => {
    const iris = await Person.at(browser, office.origin);
    await iris.signIn('iris', `/stores/${office.roots.projects}`);
    await iris.press('Select new.txt');
    await keys(iris, 's');
    await iris.sees('1 item', '.slip');
    await iris.press('Today', 'nav');
    await iris.sees('new.txt', '.slip');
    await iris.page.reload();
    await iris.sees('new.txt', '.slip');
    await iris.unfold('Guard');
    await iris.press('Typed', '.slip');
    await iris.fill('[aria-label="Password of the share"]', 'password1');
    await iris.sees('Easy to guess; I mean it', '.slip');
    await iris.press('Publish', '.slip');
    await iris.sees('The password is easy to guess.', '.slip');
    await iris.fill('[aria-label="Visit limit"]', '0');
    await iris.sees('A whole number from 1 to 100,000', '.slip');
    await iris.isAccessible();
    await iris.press('None', '.slip');
    await iris.fill('[aria-label="Visit limit"]', '3');
    await iris.unfold('When');
    await iris.press('Custom', '.slip');
    await iris.press('Publish', '.slip');
    await iris.sees('Hand over', '.slip');
    await iris.leave();
  });
});

describe('whoever sits here next', () => {
  it('finds nothing of the person before: no slip, no transfers, no answers', async () => {
    const iris = await Person.at(browser, office.origin);
    await iris.signIn('iris', `/stores/${office.roots.projects}`);
    await iris.press('Select new.txt');
    await keys(iris, 's');
    await iris.sees('1 item', '.slip');
    writeFileSync(join(desk, 'waits.txt'), 'waits for a decision');
    writeFileSync(join(desk, 'new.txt'), 'and this one too');
    const chooser = (await iris.page.waitForSelector('[aria-label="Add files"]')) as ElementHandle<HTMLInputElement>;
    await chooser.uploadFile(join(desk, 'new.txt'), join(desk, 'waits.txt'));
    await iris.sees('One name is taken');
    // The session ends elsewhere: what is asked next is refused, and the page shows the sign-in.
    await office.db.query('DELETE FROM session');
    // Something else that the page asks may be refused before this.
    await iris.page.$eval('.modal .btn-primary', (button) => (button as HTMLButtonElement).click()).catch(() => null);
    await iris.page.waitForSelector('#name');
    const kept = () =>
      iris.page.evaluate(async () => {
        const files = await new Promise<number>((resolve) => {
          const opening = indexedDB.open('quay-transfers', 1);
          opening.onsuccess = () => {
            const counting = opening.result.transaction('files').objectStore('files').count();
            counting.onsuccess = () => resolve(counting.result);
          };
        });
        return { files, slip: localStorage.getItem('quay-slip') ?? '' };
      });
    await iris.page.waitForFunction(() => !(localStorage.getItem('quay-slip') ?? '').includes('new.txt'));
    expect((await kept()).files).toBe(0);
    await iris.signIn('tomas', '/today');
    await iris.page.waitForSelector('nav[aria-label="Places"]');
    expect(await iris.page.$('.slip')).toBeNull();
    await iris.page.waitForSelector('[aria-label="Transfers"]');
    await iris.leave();
  });
});

describe('who is signed out in another tab', () => {
  it('leaves nothing in this one, nor for whoever signs in there', async () => {
    const iris = await Person.at(browser, office.origin);
    await iris.signIn('iris', `/stores/${office.roots.projects}`);
    await iris.press('Select new.txt');
    await keys(iris, 's');
    await iris.sees('1 item', '.slip');
    // As another tab would: this page only hears that the session is over.
    await iris.page.evaluate(() => fetch('/api/session', { method: 'DELETE' }));
    await iris.page.waitForSelector('#name');
    await iris.page.waitForFunction(() => !(localStorage.getItem('quay-slip') ?? '').includes('new.txt'));
    await iris.signIn('tomas', '/today');
    await iris.page.waitForSelector('nav[aria-label="Places"]');
    expect(await iris.page.$('.slip')).toBeNull();
    await iris.leave();
  });
});

describe('every view', () => {
  it.each(['light', 'dark'])('has 0 violations of axe-core and no error, %s', async (scheme) => {
    const iris = await Person.at(browser, office.origin);
    await iris.page.emulateMediaFeatures([
      { name: 'prefers-reduced-motion', value: 'reduce' },
      { name: 'prefers-color-scheme', value: scheme },
    ]);
    await iris.signIn('iris');
    const { storeId } = (
      await (
        await office.signedIn('iris')
      ).ask<{ folder: { storeId: string } }>('GET', `/api/folders/${office.roots.projects}`)
    ).body.folder;
    for (const [path, words] of [
      ['/today', 'open'],
      ['/stores', 'stores'],
      [`/stores/${office.roots.projects}`, 'new.txt'],
      [`/stores/${storeId}/trash`, 'Trash of Projects'],
      ['/shares', 'open'],
      ['/intakes', 'intake'],
      ['/intakes/new', 'What may come'],
      ['/ledger', 'entries'],
      ['/account', 'Change your password'],
      ['/work', 'The server gets everything done.'],
    ] as const) {
      await iris.page.goto(office.origin + path);
      await iris.sees(words, 'main');
      await iris.isAccessible();
    }
    await keys(iris, '?');
    await iris.sees('commands: go to a place');
    await iris.isAccessible();
    await keys(iris, 'Escape');
    await iris.page.waitForFunction(() => !document.querySelector('.modal'));
    await iris.page.keyboard.down('Control');
    await keys(iris, 'k');
    await iris.page.keyboard.up('Control');
    await iris.page.waitForSelector('[role=combobox]');
    await iris.page.keyboard.type('ledg');
    await iris.isAccessible();
    await keys(iris, 'Enter');
    await iris.sees('entries', 'main');
    await iris.page.waitForFunction(() => !document.querySelector('.modal, .modal-backdrop'));
    await iris.press('Verify the chain');
    await iris.sees('The chain holds');
    await iris.leave();
  });
});

/** What can only be read or reached by scrolling sideways; tables of figures may scroll within themselves. */
const outOfSight = (iris: Person) =>
  iris.page.evaluate(() => {
    const width = document.documentElement.clientWidth;
    const scrolls = (e: Element | null): boolean =>
      e !== null && (/auto|scroll/.test(getComputedStyle(e).overflowX) || scrolls(e.parentElement));
    const beyond = [
      ...document.querySelectorAll('button, a, input, select, h1, h2, h3, p, label, td, [role=row]'),
    ].filter((e) => {
      const { right, left, width: own } = e.getBoundingClientRect();
      return own > 1 && (right > width + 1 || left < -1) && !scrolls(e.parentElement) && e.checkVisibility();
    });
    return {
      page: document.documentElement.scrollWidth,
      main: [...document.querySelectorAll('main')].every((m) => m.scrollWidth <= m.clientWidth + 1),
      beyond: beyond.map((e) => `${e.tagName} ${e.className} ${e.textContent?.slice(0, 40)}`),
    };
  });

describe('on a telephone, 360 px wide (WCAG 2.2, 1.4.10 Reflow asks for 320 px at most)', () => {
  it('every view fits, the slip and the details too, with 0 violations of axe-core', async () => {
    const iris = await Person.at(browser, office.origin);
    await iris.page.setViewport({ width: 360, height: 740 });
    await iris.page.emulateMediaFeatures([{ name: 'prefers-reduced-motion', value: 'reduce' }]);
    await iris.signIn('iris');
    const client = await office.signedIn('iris');
    const { projects } = office.roots;
    const { folder } = (await client.ask<{ folder: { storeId: string } }>('GET', `/api/folders/${projects}`)).body;
    const { body: file } = await client.upload(projects, 'telephone.txt', Buffer.from('small'));
    const share = await office.publish(client, [file.id], {
      title: 'A share with a long title, to be read on a telephone',
    });
    const fits = async (what: string) => {
      await iris.isStyled();
      expect({ what, ...(await outOfSight(iris)) }).toEqual({ what, page: 360, main: true, beyond: [] });
      await iris.isAccessible();
    };
    for (const [path, words] of [
      ['/today', 'open'],
      ['/stores', 'stores'],
      [`/stores/${projects}`, 'telephone.txt'],
      [`/stores/${folder.storeId}/trash`, 'Trash of Projects'],
      [`/stores/${folder.storeId}/storage`, 'Quotas of people'],
      [`/stores/${projects}/past`, 'telephone.txt'],
      ['/stores/find?text=telephone', 'telephone.txt'],
      ['/shares', 'open'],
      [`/shares/${share.id}`, 'visits'],
      ['/intakes', 'intake'],
      ['/intakes/new', 'What may come'],
      ['/reach', 'address'],
      ['/reach/plan', 'Reach'],
      ['/ledger', 'entries'],
      ['/account', 'Change your password'],
      ['/work', 'The server gets everything done.'],
    ] as const) {
      await iris.page.goto(office.origin + path);
      await iris.sees(words, 'body');
      await fits(path);
    }
    await iris.page.goto(`${office.origin}/stores/${projects}`);
    await iris.press('Select telephone.txt');
    await fits('a selection');
    await keys(iris, 'i');
    await iris.sees('SHA-256');
    await fits('the details');
    await iris.press('Change', '.who-reaches');
    await iris.sees('Grant to', '.access-dialog');
    await fits('who reaches it');
    await keys(iris, 'Escape');
    await iris.page.waitForFunction(() => !document.querySelector('.modal'));
    await keys(iris, 'i');
    await keys(iris, 's');
    await iris.sees('1 item', '.slip');
    await fits('the slip');
    await iris.leave();
  });
});

describe('Today', () => {
  it('the end of a bar can be dragged, and dragged back by undo', async () => {
    const client = await office.signedIn('iris');
    const { body: file } = await client.upload(office.roots.projects, 'bar.txt', Buffer.from('bar'));
    const share = await office.publish(client, [file.id], { title: 'A bar to drag' });
    const closes = async () =>
      Date.parse((await client.ask<{ closesAt: string }>('GET', `/api/shares/${share.id}`)).body.closesAt);
    const before = await closes();
    const iris = await Person.at(browser, office.origin);
    await iris.signIn('iris');
    await iris.sees('A bar to drag', 'svg.windows');
    const grip = await iris.page.waitForSelector('g:has(a[aria-label^="A bar to drag"]) .grip');
    const box = await grip?.boundingBox();
    if (!box) throw new Error('the bar has no grip');
    const [x, y] = [box.x + box.width / 2, box.y + box.height / 2];
    await iris.page.mouse.move(x, y);
    await iris.page.mouse.down();
    await iris.page.mouse.move(x + 60, y, { steps: 6 });
    await iris.page.mouse.move(x + 90, y, { steps: 4 });
    await iris.page.mouse.up();
    await iris.sees('A bar to drag has a new end.');
    expect(await closes()).toBeGreaterThan(before + 86_400_000);
    await iris.press('Undo');
    for (let i = 0; i < 40 && (await closes()) !== before; i += 1) await new Promise((r) => setTimeout(r, 50));
    expect(await closes()).toBe(before);
    await iris.leave();
  });
});
