import { createHash, randomBytes } from 'node:crypto';
import { mkdirSync, mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { Browser, ElementHandle } from 'puppeteer-core';
import sharp from 'sharp';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import type { FolderPage, StoreSummary } from '@quay/contract';
import { openOffice, type Client, type TestOffice } from '../apps/server/src/_fixtures/office.js';
import { launch, Person } from './_fixtures/browser.js';

let office: TestOffice;
let browser: Browser;
let client: Client;
const desk = mkdtempSync(join(tmpdir(), 'desk-'));
beforeAll(async () => {
  office = await openOffice();
  office.clock.at = Date.now();
  browser = await launch();
  client = await office.signedIn('iris');
});
afterAll(async () => {
  await browser.disconnect();
  await office.close();
  rmSync(desk, { recursive: true, force: true });
});

const folder = async (parent: string, name: string) =>
  (await client.ask<{ id: string }>('POST', `/api/folders/${parent}/folders`, { name })).body.id;
const names = async (id: string) =>
  (await client.ask<FolderPage>('GET', `/api/folders/${id}`)).body.items.map((i) => i.name);
const keys = async (person: Person, ...list: Parameters<Person['page']['keyboard']['press']>[0][]) => {
  for (const name of list) await person.page.keyboard.press(name);
};
const withCtrl = async (person: Person, key: Parameters<Person['page']['keyboard']['press']>[0]) => {
  await person.page.keyboard.down('Control');
  await person.page.keyboard.press(key);
  await person.page.keyboard.up('Control');
};
const visit = async (path: string) => {
  const iris = await Person.at(browser, office.origin);
  await iris.signIn('iris', path);
  return iris;
};

describe('getting files in', () => {
  it('a whole tree of small files and a large one: everything arrives, with its folders and its bytes', async () => {
    const id = await folder(office.roots.projects, 'Tree');
    const root = join(desk, 'Site');
    mkdirSync(join(root, 'Photographs/Day 1'), { recursive: true });
    // More than one question about names, one batch, or one request's JSON could hold.
    for (let n = 0; n < 6000; n += 1)
      writeFileSync(join(root, n % 3 ? 'Photographs/Day 1' : 'Photographs', `p ${n}.txt`), `photograph ${n}`);
    const large = randomBytes(3_500_000);
    writeFileSync(join(root, 'scan.las'), large);
    const iris = await visit(`/stores/${id}`);
    await iris.sees('This folder is empty.');
    const chooser = (await iris.page.$('#add-folder')) as ElementHandle<HTMLInputElement>;
    await chooser.uploadFile(root);
    await iris.page.waitForFunction(
      () => document.querySelector('.transfers')?.textContent?.includes('6,001 files done'),
      { timeout: 60_000, polling: 200 },
    );
    await iris.isAccessible();
    await iris.sees('Site', '.folder-table');
    const site = (await client.ask<FolderPage>('GET', `/api/folders/${id}`)).body.items[0];
    const [photographs, scan] = (await client.ask<FolderPage>('GET', `/api/folders/${site?.id}`)).body.items;
    expect([photographs?.name, photographs?.itemCount, scan?.sizeBytes]).toEqual(['Photographs', 2001, large.length]);
    const bytes = Buffer.from(await (await client.fetch(`/api/files/${scan?.id}/content`)).arrayBuffer());
    expect(createHash('sha256').update(bytes).digest('hex')).toBe(createHash('sha256').update(large).digest('hex'));
    await iris.leave();
  });

  it('an upload that a reload cut off waits for its file, goes on where it was, and can be paused', async () => {
    const id = await folder(office.roots.projects, 'Cut off');
    writeFileSync(join(desk, 'long.bin'), randomBytes(40_000_000));
    const iris = await visit(`/stores/${id}`);
    await iris.sees('This folder is empty.');
    const session = await iris.page.createCDPSession();
    await session.send('Network.enable');
    // Slow enough to be caught in the middle.
    await session.send('Network.emulateNetworkConditions', {
      offline: false,
      latency: 0,
      downloadThroughput: -1,
      uploadThroughput: 6_000_000,
    });
    await ((await iris.page.waitForSelector('[aria-label="Add files"]')) as ElementHandle<HTMLInputElement>).uploadFile(
      join(desk, 'long.bin'),
    );
    await iris.sees('MB of', '.transfers');
    await iris.press('Pause long.bin', '.transfers');
    await iris.sees('paused', '.transfers');
    await iris.press('Go on with long.bin', '.transfers');
    await iris.page.waitForFunction(
      () => Number(document.querySelector('.transfers [role=progressbar]')?.getAttribute('aria-valuenow')) > 15,
      { polling: 50 },
    );
    // The page asks before it is left while something is on its way.
    iris.page.once('dialog', (dialog) => void dialog.accept());
    await iris.page.reload();
    await iris.sees('long.bin was not sent to the end.', '.files-needed');
    await iris.isAccessible();
    await ((await iris.page.$('#files-again')) as ElementHandle<HTMLInputElement>).uploadFile(join(desk, 'long.bin'));
    await session.send('Network.emulateNetworkConditions', {
      offline: false,
      latency: 0,
      downloadThroughput: -1,
      uploadThroughput: -1,
    });
    await iris.sees('1 file done', '.transfers');
    expect(await names(id)).toEqual(['long.bin']);
    await iris.leave();
  });

  it('a connection that breaks and comes back: it goes on by itself', async () => {
    const id = await folder(office.roots.projects, 'Flaky');
    for (let n = 0; n < 20; n += 1) writeFileSync(join(desk, `f ${n}.txt`), `${n}`);
    const iris = await visit(`/stores/${id}`);
    await iris.sees('This folder is empty.');
    const session = await iris.page.createCDPSession();
    await session.send('Network.enable');
    await session.send('Network.emulateNetworkConditions', {
      offline: true,
      latency: 0,
      downloadThroughput: -1,
      uploadThroughput: -1,
    });
    await ((await iris.page.waitForSelector('[aria-label="Add files"]')) as ElementHandle<HTMLInputElement>).uploadFile(
      ...Array.from({ length: 20 }, (_, n) => join(desk, `f ${n}.txt`)),
    );
    await iris.sees('trying again', '.transfers');
    await session.send('Network.emulateNetworkConditions', {
      offline: false,
      latency: 0,
      downloadThroughput: -1,
      uploadThroughput: -1,
    });
    await iris.sees('20 files done', '.transfers');
    await expect.poll(async () => (await names(id)).length).toBe(20);
    await iris.leave();
  });
});

describe('living with files', () => {
  it('two folders side by side: cut and put down, drag across, undo', async () => {
    const [left, right] = [await folder(office.roots.projects, 'Left'), await folder(office.roots.projects, 'Right')];
    for (const name of ['one.txt', 'two.txt', 'three.txt']) await client.upload(left, name, Buffer.from(name));
    const iris = await visit(`/stores/${left}?beside=${right}`);
    await iris.sees('one.txt', '.pane:first-child');
    await iris.sees('This folder is empty.', '.pane:nth-child(2)');
    await iris.isAccessible();
    await iris.page.click('.pane:first-child .row-grid.item');
    await withCtrl(iris, 'x');
    await iris.page.click('.pane:nth-child(2) h1');
    await withCtrl(iris, 'v');
    await iris.sees('one.txt moved to Right.');
    await iris.sees('one.txt', '.pane:nth-child(2) .folder-table');
    await withCtrl(iris, 'z');
    await iris.sees('one.txt', '.pane:first-child .folder-table');
    await expect.poll(() => names(right)).toEqual([]);
    await iris.page.waitForFunction(() => document.querySelectorAll('.pane:first-child .row-grid.item').length === 3);
    const [from, to] = [
      await iris.page.$('.pane:first-child .row-grid.item:nth-child(2)'),
      await iris.page.$('.pane:nth-child(2) .pane-list'),
    ];
    await (to as ElementHandle<Element>).drop(from as ElementHandle<Element>);
    await iris.sees('moved to Right.');
    await expect.poll(() => names(right)).toHaveLength(1);
    await iris.leave();
  });

  it('tags, pins, details, the context menu and search', async () => {
    const id = await folder(office.roots.projects, 'Labels');
    await client.upload(id, 'weir section.txt', Buffer.from('The weir.'));
    const iris = await visit(`/stores/${id}`);
    await iris.sees('weir section.txt', '.folder-table');
    await iris.page.click('.row-grid.item');
    await keys(iris, 't');
    await iris.page.waitForSelector('#tag-name');
    await iris.page.type('#tag-name', 'Check');
    await keys(iris, 'Enter');
    await iris.page.waitForSelector('.folder-table .tag-dot');
    await iris.isAccessible();
    await keys(iris, 'Escape');
    await iris.page.waitForFunction(() => !document.querySelector('.modal'));
    await iris.page.click('.row-grid.item', { button: 'right' });
    await iris.page.waitForSelector('.context-menu');
    await iris.isAccessible();
    await iris.press('Pin', '.context-menu');
    await iris.page.waitForSelector('.folder-table .pinned');
    await keys(iris, 'i');
    await iris.sees('Nobody outside can reach it.', '.details');
    await iris.isAccessible();
    await iris.page.goto(`${office.origin}/stores`);
    await iris.sees('weir section.txt', '.pin-list');
    await iris.isAccessible();
    await keys(iris, '/');
    await iris.page.waitForSelector('.find-form');
    await iris.page.keyboard.type('section we');
    await iris.sees('1 item found.');
    await iris.isAccessible();
    await iris.press('weir section.txt', 'table');
    await iris.sees('The weir.', '.viewer');
    await iris.isAccessible();
    await keys(iris, 'Escape');
    await iris.page.waitForFunction(() => !document.querySelector('.viewer'));
    await iris.leave();
  });

  it('pictures: tiles, then full size, moving by keys', async () => {
    const id = await folder(office.roots.projects, 'Pictures');
    for (const [name, background] of [
      ['a.png', '#246'],
      ['b.png', '#642'],
    ] as const)
      await client.upload(
        id,
        name,
        await sharp({ create: { width: 400, height: 300, channels: 3, background } })
          .png()
          .toBuffer(),
      );
    const iris = await visit(`/stores/${id}`);
    await iris.press('As tiles');
    await iris.page.waitForFunction(
      () =>
        [...document.querySelectorAll<HTMLImageElement>('.tile-picture img')].filter((i) => i.naturalWidth > 0)
          .length === 2,
      { timeout: 15_000 },
    );
    await iris.isAccessible();
    await iris.page.click('.tile');
    await keys(iris, 'Space');
    await iris.sees('1 of 2', '.viewer');
    await keys(iris, 'ArrowRight');
    await iris.sees('2 of 2', '.viewer');
    await iris.page.waitForFunction(
      () => (document.querySelector<HTMLImageElement>('.viewer img')?.naturalWidth ?? 0) === 400,
      { timeout: 15_000 },
    );
    expect(iris.page.url()).toContain('show=');
    await keys(iris, 'Escape');
    await iris.press('As a table');
    await iris.leave();
  });
});

describe('who reaches what', () => {
  it('is granted, seen at once by whom it was granted, ended, and taken back by undo', async () => {
    const id = await folder(office.roots.partners, 'Weir House');
    const rosa = await Person.at(browser, office.origin);
    await rosa.signIn('rosa');
    await rosa.page.goto(`${office.origin}/stores`);
    await rosa.sees('My files');
    const iris = await visit(`/stores/${id}`);
    await iris.sees('This folder is empty.');
    await keys(iris, 'i');
    await iris.sees('Can view: granted on Partners.', '.who-reaches');
    await iris.isAccessible();
    await iris.press('Change', '.who-reaches');
    await iris.choose('#grant-subject', 'Rosa Quill');
    await iris.page.select('#grant-level', 'edit');
    await iris.press('Grant', '.access-dialog');
    await iris.sees('Rosa Quill can edit there now.');
    await iris.isAccessible();
    // Her page was open all the while.
    await rosa.sees('Weir House', '.store-list');
    await rosa.page.click(`.store-list a[href="/stores/${id}"]`);
    await rosa.sees('This folder is empty.');
    expect(await rosa.text('.path-line')).not.toContain('Partners');
    await iris.press('End what Rosa Quill has here', '.access-dialog');
    await iris.sees('What Rosa Quill had there has ended.');
    await rosa.sees('is not there, or you may not see it');
    await iris.press('Undo', '.notices .notice:last-child');
    await iris.sees('Rosa Quill', '.access-dialog table');
    // Closing the folder leaves everybody who reaches it where they are.
    await iris.press('What is granted above counts here too', '.access-dialog');
    await iris.sees('What is granted above does not count there any more.');
    await iris.sees('this folder', '.access-dialog table');
    await iris.isAccessible();
    await rosa.page.reload();
    await rosa.sees('This folder is empty.');
    await rosa.leave();
    await iris.leave();
  });
  it('is seen before something moves to where more people reach it', async () => {
    const from = await folder(office.roots.iris, 'Drafts');
    const to = await folder(office.roots.projects, 'For all');
    await client.upload(from, 'offer.txt', Buffer.from('x'));
    const iris = await visit(`/stores/${from}?beside=${to}`);
    await iris.sees('offer.txt', '.folder-table');
    await iris.page.click('.row-grid.item');
    await withCtrl(iris, 'x');
    await iris.page.click('.pane:nth-of-type(2) h1, .pane + .pane h1');
    await withCtrl(iris, 'v');
    await iris.sees('More people reach For all');
    await iris.sees('Rosa Quill can edit', '.modal');
    await iris.isAccessible();
    expect(await names(from)).toEqual(['offer.txt']);
    await iris.press('Move all the same', '.modal');
    await iris.sees('offer.txt moved to For all.');
    expect(await names(to)).toEqual(['offer.txt']);
    await iris.leave();
  });
});

describe('getting files back', () => {
  it('versions compared line by line, one brought back, a folder as it was', async () => {
    const id = await folder(office.roots.projects, 'Time');
    const { body: file } = await client.upload(id, 'levels.csv', Buffer.from('point,level\na,1\nb,2\n'));
    office.clock.advance(60_000);
    await client.upload(id, 'levels.csv', Buffer.from('point,level\na,1\nb,3\n'), '&conflict=version');
    office.clock.advance(60_000);
    const { body: gone } = await client.upload(id, 'gone.txt', Buffer.from('gone'));
    office.clock.advance(60_000);
    await client.ask('POST', '/api/trash', { nodeIds: [gone.id] });
    office.clock.advance(60_000);
    const iris = await visit(`/stores/${id}`);
    await iris.sees('levels.csv', '.folder-table');
    await iris.page.click('.row-grid.item');
    if (!(await iris.page.$('.details'))) await keys(iris, 'i');
    await iris.fromMenu('What to do with version 1', 'Compare with the present one', '.details');
    await iris.sees('b,2', '.difference .removed');
    await iris.sees('b,3', '.difference .added');
    await iris.isAccessible();
    await iris.press('Bring version 1 back', '.modal');
    await iris.sees('v3', '.folder-table');
    expect(Buffer.from(await (await client.fetch(`/api/files/${file.id}/content`)).arrayBuffer()).toString()).toContain(
      'b,2',
    );
    await iris.page.goto(`${office.origin}/stores/${id}/past`);
    await iris.sees('as it is now');
    for (let i = 0; i < 8 && !(await iris.text('table.rows').catch(() => '')).includes('gone.txt'); i += 1) {
      await keys(iris, '[');
      await new Promise((r) => setTimeout(r, 300));
    }
    await iris.sees('in the trash now', 'table.rows');
    await iris.isAccessible();
    await iris.press('Select gone.txt');
    await iris.press('Bring 1 item back');
    await iris.sees('gone.txt', '.folder-table');
    await iris.leave();
  });

  it('the trash: elsewhere when the place is gone, and for good', async () => {
    const id = await folder(office.roots.iris, 'Away');
    const { body: file } = await client.upload(id, 'lone.txt', Buffer.from('lone'));
    await client.ask('POST', '/api/trash', { nodeIds: [file.id] });
    await client.ask('POST', '/api/trash', { nodeIds: [id] });
    const store = (await client.ask<StoreSummary[]>('GET', '/api/stores')).body.find((s) => s.kind === 'home');
    const iris = await visit(`/stores/${store?.id}/trash`);
    await iris.sees('(gone)', 'table.rows');
    await iris.isAccessible();
    await iris.press('Put back lone.txt');
    await iris.sees('Put lone.txt into another folder');
    await iris.isAccessible();
    await iris.press('Put into iris', '.modal');
    await expect.poll(() => names(office.roots.iris)).toContain('lone.txt');
    await iris.press('Select Away');
    await iris.press('Remove for good', '.tools');
    await iris.isAccessible();
    await iris.press('Remove for good', '.modal');
    await iris.sees('waits here');
    await iris.leave();
  });

  it("storage: what fills it, its rules with their effect, and the office's quotas", async () => {
    const store = (await client.ask<StoreSummary[]>('GET', '/api/stores')).body.find((s) => s.name === 'Projects');
    const iris = await visit(`/stores/${store?.id}/storage`);
    await iris.sees('Projects holds');
    await iris.page.waitForSelector('.treemap .cell');
    await iris.isAccessible();
    await iris.fill('#rule-kept', '1');
    await iris.sees('These rules would remove', '.rule-effect');
    await iris.fill('#rule-kept', '20');
    await iris.press('Save the rules');
    await iris.sees('The rules are changed.');
    await iris.page.emulateMediaFeatures([
      { name: 'prefers-color-scheme', value: 'dark' },
      { name: 'prefers-reduced-motion', value: 'reduce' },
    ]);
    await iris.isAccessible();
    await iris.leave();
  });
});
