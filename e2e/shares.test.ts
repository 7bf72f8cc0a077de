import { MAY_DOWNLOAD, NO_GUARDRAILS } from '@quay/core';
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { PDFDocument } from 'pdf-lib';
import type { Browser, ElementHandle, Frame } from 'puppeteer-core';
import sharp from 'sharp';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { openOffice, type TestOffice } from '../apps/server/src/_fixtures/office.js';
import { launch, Person } from './_fixtures/browser.js';

let office: TestOffice;
let browser: Browser;
beforeAll(async () => {
  office = await openOffice();
  office.clock.at = Date.now();
  browser = await launch();
});
afterAll(async () => {
  await browser.disconnect();
  await office.close();
});

describe('many shares', () => {
  it('are found by words, state and order, more as one asks for more; the address leads back to it', async () => {
    const client = await office.signedIn('tomas');
    const { id } = (await client.upload(office.roots.projects, 'many.txt', Buffer.from('many'))).body;
    await office.publish(client, [id], { title: 'Weir House levels', window: { opensAt: null, closesAt: null } });
    await office.db.query(
      `INSERT INTO share (id, title, message, token_hash, token_sealed, address_id, closes_at, created_at, created_by)
       SELECT gen_random_uuid(), 'Survey ' || n, '', sha256(n::text::bytea), '', s.address_id, $1::timestamptz + make_interval(days => n),
              $1::timestamptz - make_interval(hours => n), s.created_by
         FROM generate_series(1, 130) n, share s WHERE s.title = 'Weir House levels'`,
      [office.clock.date()],
    );
    await office.db.query(
      `INSERT INTO share_item (share_id, node_id, position) SELECT id, $1, 0 FROM share WHERE title LIKE 'Survey %'`,
      [id],
    );
    const tomas = await Person.at(browser, office.origin);
    await tomas.signIn('tomas', '/shares');
    await tomas.sees('131 shares open');
    const rows = () => tomas.page.$$eval('table.rows tbody tr', (list) => list.length);
    expect(await rows()).toBe(100);
    await tomas.press('Show more shares');
    await tomas.page.waitForFunction(() => document.querySelectorAll('table.rows tbody tr').length === 131);
    await tomas.page.keyboard.press('/');
    await tomas.page.keyboard.type('survey 77');
    await tomas.sees('1 share found.');
    expect(await rows()).toBe(1);
    await tomas.fill('[aria-label="Find a share"]', '');
    await tomas.press('Title');
    await tomas.page.waitForSelector('th[aria-sort=ascending]');
    await tomas.page.waitForFunction(
      () => document.querySelector('table.rows tbody tr .first')?.textContent === 'Survey 1',
    );
    await tomas.press('Title');
    await tomas.page.waitForFunction(
      () => document.querySelector('table.rows tbody tr .first')?.textContent === 'Weir House levels',
    );
    expect(tomas.page.url()).toBe(`${office.origin}/shares?sort=title&descending=true`);
    await tomas.page.evaluate(() => (document.activeElement as HTMLElement).blur());
    await tomas.page.keyboard.press('ArrowDown');
    await tomas.sees('Weir House levels', '.sheet');
    await tomas.page.reload();
    await tomas.sees('Weir House levels', '.sheet');
    await tomas.page.waitForSelector('th[aria-sort=descending]');
    await tomas.isAccessible();
    // Two changes before anything is drawn again: the second keeps the first.
    await tomas.page.evaluate(async () => {
      const press = (words: string) =>
        [...document.querySelectorAll('button')].find((b) => b.textContent.startsWith(words))?.click();
      press('Title');
      for (let turn = 0; turn < 20; turn++) await Promise.resolve();
      press('open');
    });
    await tomas.page.waitForFunction(() => window.location.search === '?state=open');
    await tomas.leave();
  });
});

describe('what is in a share', () => {
  it('comes and goes while it is out: it is begun empty, filled from the stores, and visitors see it', async () => {
    const client = await office.signedIn('iris');
    await client.upload(office.roots.projects, 'Programme.txt', Buffer.from('weeks 1 to 8'));
    const iris = await Person.at(browser, office.origin);
    await iris.signIn('iris', '/shares');
    await iris.press('New share');
    await iris.sees('It can go out empty', '.slip');
    await iris.fill('[aria-label="Title"]', 'Tender pack 4');
    await iris.unfold('Guard');
    await iris.press('None', '.slip');
    await iris.sees('can download what is put in it from now', '.slip .sentence');
    await iris.isAccessible();
    await iris.press('Publish', '.slip');
    await iris.sees('Hand over', '.slip');
    const link = await iris.page.$eval('.slip .copy-line .value', (e) => e.textContent ?? '');
    await iris.press('Done');
    const visitor = await Person.at(browser, office.origin);
    await visitor.page.goto(link);
    await visitor.sees('Nothing is in it yet. This page shows the files as soon as they are there.');
    await visitor.isAccessible();

    // Filled from a folder, by way of the slip; the slip is still there after a reload.
    await iris.press('Shares', 'nav');
    await iris.press('Tender pack 4', 'table');
    await iris.press('Add items', '.sheet');
    await iris.page.goto(`${office.origin}/stores/${office.roots.projects}`);
    await iris.press('Select Programme.txt');
    await iris.press('Put on slip S');
    await iris.sees('1 item (12 B) will be in Tender pack 4', '.slip .sentence');
    await iris.press('Programme.txt, live: freeze it', '.slip');
    await iris.sees('frozen', '.slip .what');
    await iris.isAccessible();
    await iris.press('Add to the share', '.slip');
    await iris.sees('1 item more in Tender pack 4.');
    await visitor.sees('1 file, 12 B');

    // Taken off, and on again.
    await iris.press('Shares', 'nav');
    await iris.press('Tender pack 4', 'table');
    await iris.sees('frozen', '.sheet');
    await iris.press('Take Programme.txt off the share', '.sheet');
    await visitor.sees('Nothing is in it yet.');
    await iris.sees('took Programme.txt off Tender pack 4', '.sheet');
    await iris.isAccessible();
    await visitor.leave();
    await iris.leave();
  });

  it('comes from the desktop, too: files put onto the slip lie in Outgoing, and what is in the home stays its own', async () => {
    const desk = mkdtempSync(join(tmpdir(), 'quay-slip-'));
    for (const name of ['Film.txt', 'Levels.txt']) writeFileSync(join(desk, name), name);
    const tomas = await Person.at(browser, office.origin);
    await tomas.signIn('tomas', '/shares');
    await tomas.press('New share');
    await tomas.sees('They lie in your Outgoing (20 GB left) and go to its trash 30 days after', '.slip');
    await tomas.fill('[aria-label="Title"]', 'Site film');
    const chooser = (await tomas.page.$('[aria-label="Put files on the slip"]')) as ElementHandle<HTMLInputElement>;
    await chooser.uploadFile(join(desk, 'Film.txt'));
    await tomas.sees('1 item (8 B)', '.slip .sentence');
    // What comes after it goes to the same place.
    await chooser.uploadFile(join(desk, 'Levels.txt'));
    await tomas.sees('1 item (18 B)', '.slip .sentence');
    await tomas.isAccessible();
    await tomas.unfold('Guard');
    await tomas.press('None', '.slip');
    await tomas.press('Publish', '.slip');
    await tomas.sees('Hand over', '.slip');
    const visitor = await Person.at(browser, office.origin);
    await visitor.page.goto(await tomas.page.$eval('.slip .copy-line .value', (e) => e.textContent ?? ''));
    await visitor.sees('2 files, 18 B');
    await tomas.page.goto(`${office.origin}/stores/${office.roots.tomas}`);
    await tomas.press('Outgoing', '.folder-table');
    await tomas.sees('Site film', '.folder-table');
    rmSync(desk, { recursive: true });
    await visitor.leave();
    await tomas.leave();
  });
});

it('a guardrail closes what does not keep to it, which its sheet mends; the slip says it before publishing', async () => {
  const client = await office.signedIn('iris');
  const { id } = (await client.upload(office.roots.projects, 'guarded.txt', Buffer.from('guarded'))).body;
  const share = await office.publish(client, [id], { title: 'Without end', window: { opensAt: null, closesAt: null } });
  const [iris, visitor] = [await Person.at(browser, office.origin), await Person.at(browser, office.origin)];
  await visitor.page.goto(`${office.origin}/s/${share.token}`);
  await visitor.sees('guarded.txt');
  await iris.signIn('iris', '/settings/shares');
  await iris.sees('Guardrails');
  await iris.isAccessible();
  await iris.page.click('#rail-end');
  await iris.press('Save', '.guardrails');
  await iris.sees('not keep to that', '.touched');
  await iris.sees('Without end', '.touched');
  await iris.isAccessible();
  await iris.page.click('.guardrails button[type=submit]');
  await visitor.sees('keeps it closed');
  await visitor.isAccessible();

  await iris.page.goto(`${office.origin}/shares/${share.id}`);
  await iris.sees('Closed by a rule since', '.sheet');
  await iris.isAccessible();
  await iris.press('Close it after 30 days', '.sheet');
  await iris.sees('Anyone with the link can download 1 item (7 B) from now until', '.sheet .sentence');
  await visitor.sees('guarded.txt');

  // On the slip it stands at its field, and one press mends it.
  await client.ask('PUT', '/api/guardrails/office', { ...NO_GUARDRAILS, passwordNeeded: true });
  await iris.page.goto(`${office.origin}/stores/${office.roots.projects}`);
  await iris.press('Select guarded.txt');
  await iris.page.keyboard.press('s');
  await iris.unfold('Guard');
  await iris.press('None', '.slip');
  await iris.sees('The office: a share has a password.', '.slip');
  await iris.isAccessible();
  await iris.press('Propose one', '.slip');
  await iris.page.waitForFunction(
    () => !document.querySelector('.slip')?.textContent?.includes('a share has a password'),
  );
  await client.ask('PUT', '/api/guardrails/office', NO_GUARDRAILS);
  for (const person of [iris, visitor]) await person.leave();
});

it('files are looked at page by page without being taken, and then taken marked; a change is there at once', async () => {
  const client = await office.signedIn('iris');
  const { id } = (
    await client.ask<{ id: string }>('POST', `/api/folders/${office.roots.projects}/folders`, { name: 'Weir tender' })
  ).body;
  const made = await PDFDocument.create();
  for (const n of [1, 2]) made.addPage([595, 842]).drawText(`Weir House, sheet ${n}`, { x: 60, y: 760 });
  await client.upload(id, 'plan.pdf', Buffer.from(await made.save()));
  const background = '#7d9a8c';
  const photo = sharp({ create: { width: 1200, height: 800, channels: 3, background } }).jpeg();
  await client.upload(id, 'survey.jpg', await photo.toBuffer());
  await client.upload(id, 'notes.txt', Buffer.from('levels'));
  const [iris, visitor] = [await Person.at(browser, office.origin), await Person.at(browser, office.origin)];

  // On the slip it is one press, and the sentence says it.
  await iris.signIn('iris', `/stores/${office.roots.projects}`);
  await iris.press('Select Weir tender');
  await iris.page.keyboard.press('s');
  await iris.unfold('May');
  await iris.press('Look only', '.slip');
  await iris.sees('look at 1 item', '.slip .sentence');
  await iris.isAccessible();
  const share = await office.publish(client, [id], { may: { ...MAY_DOWNLOAD, level: 'view' } });

  await visitor.page.goto(`${office.origin}/s/${share.token}`);
  await visitor.sees('To look at only');
  expect(await visitor.page.$$eval('.files a', (links) => links.length)).toBe(0);
  await visitor.press('Look at plan.pdf');
  const isShown = () =>
    visitor.page.waitForFunction(
      () => (document.querySelector<HTMLImageElement>('.viewer img')?.naturalWidth ?? 0) > 0,
    );
  await isShown();
  await visitor.sees('page 1 of 2', '.viewer');
  await visitor.isAccessible();
  await visitor.page.keyboard.press('ArrowRight');
  await visitor.sees('page 2 of 2', '.viewer');
  await isShown();
  await visitor.page.keyboard.press('ArrowRight');
  await visitor.sees('survey.jpg', '.viewer h2');
  await isShown();
  await visitor.page.click('.viewer .picture');
  await visitor.page.waitForSelector('.viewer .picture[aria-pressed=true]');
  await visitor.page.keyboard.press('Escape');
  await visitor.page.waitForFunction(() => !document.querySelector('.viewer[open]'));
  // A text is the file itself: it is shown as a picture of its page.
  await visitor.press('Look at notes.txt');
  await visitor.page.waitForSelector('dialog[open] img');
  expect(await visitor.page.$('dialog[open] pre')).toBeNull();
  await visitor.isAccessible();
  await visitor.page.keyboard.press('Escape');

  await iris.page.goto(`${office.origin}/shares/${share.id}`);
  await iris.press('Change', '.sheet');
  await iris.press('Download', '.sheet form');
  await iris.page.select('.sheet form select[aria-labelledby=edit-watermark]', 'others-withheld');
  await iris.isAccessible();
  await iris.press('Save', '.sheet form');
  await iris.sees('pictures and PDF alone', '.sheet .sentence');

  await visitor.sees('Pictures and PDF that you take are marked with Visit');
  await visitor.sees('1 file cannot be marked, and cannot be taken.');
  await visitor.isAccessible();
  await visitor.press('Download all');
  const archive = await visitor.downloaded('Mill Lane drawings.zip');
  expect(archive.subarray(0, 2).toString()).toBe('PK');
  expect(archive.includes('notes.txt')).toBe(false);

  // Another password: whoever is inside comes in anew.
  await iris.press('Change', '.sheet');
  await iris.press('Typed', '.sheet form');
  await iris.fill('.sheet form [aria-label="Password of the share"]', '123');
  await iris.sees('At least', '.sheet form');
  await iris.press('Proposed', '.sheet form');
  await iris.sees('comes in by the new password', '.sheet form');
  await iris.isAccessible();
  await iris.press('Save', '.sheet form');
  await iris.sees('The password, by another channel', '.sheet');
  await visitor.sees('Password');
  const password = await iris.page.$eval('.sheet .value[aria-label="password"]', (e) => e.textContent ?? '');
  await visitor.fill('input[type=password]', password);
  await visitor.page.keyboard.press('Enter');
  await visitor.sees('cannot be marked, and cannot be taken.');
  for (const person of [iris, visitor]) {
    expect(person.errors).toEqual([]);
    await person.leave();
  }
});

it('a visitor reads the page in their language, finds files, sees them as pictures, and takes what they pick', async () => {
  const client = await office.signedIn('iris');
  const { id } = (
    await client.ask<{ id: string }>('POST', `/api/folders/${office.roots.projects}/folders`, { name: 'Terrace' })
  ).body;
  for (let n = 1; n <= 8; n += 1) await client.upload(id, `level ${n}.txt`, Buffer.from(`level ${n}`));
  const background = '#486';
  const photo = sharp({ create: { width: 400, height: 300, channels: 3, background } }).jpeg();
  await client.upload(id, 'facade.jpg', await photo.toBuffer());
  const share = await office.publish(client, [id], { title: 'Terrace' });
  const visitor = await Person.at(browser, office.origin);
  await visitor.page.setExtraHTTPHeaders({ 'Accept-Language': 'fr-CH, en;q=0.5' });
  await visitor.page.goto(`${office.origin}/s/${share.token}`);
  await visitor.sees('9 fichiers');
  expect(await visitor.page.$eval('html', (e) => e.lang)).toBe('fr');
  await visitor.isAccessible();
  await visitor.fill('#find', 'LEVEL 3');
  await visitor.page.waitForFunction(() => document.querySelectorAll('.files input[type=checkbox]').length === 1);
  await visitor.press('Choisir level 3.txt');
  await visitor.fill('#find', 'level 5');
  await visitor.press('Choisir level 5.txt');
  await visitor.sees('Télécharger 2 fichiers');
  await visitor.press('Télécharger 2 fichiers');
  const archive = await visitor.downloaded('Terrace.zip');
  for (const [name, isThere] of [
    ['level 3.txt', true],
    ['level 5.txt', true],
    ['level 4.txt', false],
  ] as const)
    expect(archive.includes(`Terrace/${name}`), name).toBe(isThere);
  await visitor.fill('#find', 'nothing of that');
  await visitor.sees('Aucun fichier');
  await visitor.press('Ne rien choisir');
  await visitor.fill('#find', 'facade');
  await visitor.press('Images');
  await visitor.page.waitForFunction(
    () => (document.querySelector<HTMLImageElement>('.pictures img')?.naturalWidth ?? 0) > 0,
    { timeout: 60_000 },
  );
  await visitor.isAccessible();
  // The address leads to the pictures again.
  await visitor.page.reload();
  await visitor.page.waitForSelector('.pictures');
  await visitor.page.setViewport({ width: 360, height: 740 });
  expect(await visitor.page.evaluate(() => document.documentElement.scrollWidth)).toBe(360);
  await visitor.isAccessible();
  await visitor.leave();
});

it('several are changed at once, with one way back; the sheet says who came and what they took', async () => {
  const client = await office.signedIn('iris');
  const { id } = (await client.upload(office.roots.projects, 'bulk.txt', Buffer.from('bulk'))).body;
  const [one, two] = [
    await office.publish(client, [id], { title: 'Bulk one' }),
    await office.publish(client, [id], { title: 'Bulk two' }),
  ];
  const [iris, visitor] = [await Person.at(browser, office.origin), await Person.at(browser, office.origin)];
  await visitor.page.goto(`${office.origin}/s/${one.token}`);
  await visitor.sees('bulk.txt');
  await visitor.press('bulk.txt');
  await visitor.downloaded('bulk.txt');
  await iris.signIn('iris', '/shares?find=Bulk');
  await iris.sees('2 shares found.');
  await iris.press('Select Bulk one');
  await iris.press('Select Bulk two');
  await iris.sees('2 selected');
  await iris.isAccessible();
  await iris.press('Withdraw', '.bulk-bar');
  await iris.sees('2 shares withdrawn.');
  await visitor.sees('Withdrawn');
  await iris.press('Undo');
  await visitor.sees('bulk.txt');
  const states = async () =>
    (await client.ask<{ shares: { state: string }[] }>('GET', '/api/shares?find=Bulk')).body.shares.map((s) => s.state);
  await expect.poll(states).toEqual(['open', 'open']);

  await iris.page.goto(`${office.origin}/shares/${one.id}`);
  await iris.sees('bulk.txt, by 1 visit', '.sheet');
  await iris.sees('1 of them took something', '.sheet .time-bars');
  await iris.isAccessible();
  await iris.press('Bulk two', '.sheet');
  await iris.sees('Nobody has opened it yet.', '.sheet');
  expect(iris.page.url()).toBe(`${office.origin}/shares/${two.id}`);
  for (const person of [iris, visitor]) await person.leave();
});

it('the page is seen as visitors will get it, before it is published and after, and nothing is counted', async () => {
  const client = await office.signedIn('iris');
  const { id } = (await client.upload(office.roots.projects, 'seen first.txt', Buffer.from('seen'))).body;
  const iris = await Person.at(browser, office.origin);
  await iris.signIn('iris', `/stores/${office.roots.projects}`);
  await iris.press('Select seen first.txt');
  await iris.page.keyboard.press('s');
  await iris.unfold('Who');
  await iris.press('Listed', '.slip');
  await iris.page.type('.slip [aria-label="Recipients"]', 'fenway.example');
  await iris.sees('1 entry', '.slip');
  await iris.press('See as visitor', '.slip');
  const within = async () => {
    const element = await iris.page.waitForSelector('.as-visitor iframe');
    return (await element?.contentFrame()) as Frame;
  };
  const seesWithin = async (words: string) =>
    (await within()).waitForFunction((w) => document.body.innerText.includes(w), { timeout: 30_000 }, words);
  const pressWithin = async (selector: string) => (await within()).locator(selector).click();
  await seesWithin('seen first');
  await iris.isAccessible();
  /** At the door, as whoever has the link: an address, the code, and in or not. */
  const knock = async (address: string) => {
    await (await within()).locator('#address').fill(address);
    await pressWithin('button[type=submit]');
    await seesWithin('a code is on its way there');
    await (await within()).locator('#code').fill('123456');
  };
  await (await within()).locator('#password').fill('any at all');
  await knock('m@brookline.example');
  await iris.sees('No code goes to m@brookline.example: it is not on the list.', '.as-visitor');
  await pressWithin('button[type=submit]');
  await seesWithin('That is not the code');
  await pressWithin('form button.plain:not([aria-label])');
  await knock('m.hale@fenway.example');
  await iris.page.waitForFunction(() => !document.querySelector('.as-visitor')?.textContent?.includes('No code goes'));
  await pressWithin('button[type=submit]');
  await seesWithin('For m.hale@fenway.example.');
  // What visitors take is not taken here.
  await pressWithin('.files a');
  await iris.sees('Here nothing is taken', '.as-visitor');
  await iris.press('After it closes', '.as-visitor');
  await seesWithin('Closed');
  await iris.page.select('.as-visitor label:last-of-type select', 'de');
  await seesWithin('Geschlossen');
  expect((await office.db.query<unknown[]>(`SELECT 1 FROM share WHERE title = 'seen first'`)).length).toBe(0);

  const share = await office.publish(client, [id], { title: 'Seen after', visitLimit: 1 });
  await iris.page.goto(`${office.origin}/shares/${share.id}`);
  await iris.press('See as visitor', '.sheet');
  await seesWithin('Opening uses the last visit');
  await pressWithin('button[type=submit]');
  await seesWithin('seen first.txt');
  const sheet = await client.ask<{ visitsUsed: number }>('GET', `/api/shares/${share.id}`);
  expect(sheet.body.visitsUsed).toBe(0);
  await iris.leave();
});

it('a visitor walks through the folders of many files, reads a table, and keeps the page while the server is away', async () => {
  const client = await office.signedIn('iris');
  const made = async (parent: string, name: string) =>
    (await client.ask<{ id: string }>('POST', `/api/folders/${parent}/folders`, { name })).body.id;
  const top = await made(office.roots.projects, 'Weir House');
  const level = await made(await made(top, 'Plans'), 'Level 1');
  for (let n = 1; n <= 42; n += 1) await client.upload(level, `sheet ${n}.txt`, Buffer.from(`sheet ${n}`));
  await client.upload(top, 'heights.csv', Buffer.from('point;height\r\n"A; north";3.25\r\nB;4.5\r\n'));
  const share = await office.publish(client, [top], { title: 'Weir House' });
  const visitor = await Person.at(browser, office.origin);
  await visitor.page.goto(`${office.origin}/s/${share.token}`);
  await visitor.sees('43 files');
  expect(await visitor.text('.files')).not.toContain('sheet 1.txt');
  await visitor.isAccessible();
  await visitor.press('Plans');
  await visitor.press('Level 1');
  await visitor.sees('sheet 42.txt');
  await visitor.isAccessible();
  // The address leads there again, and the browser's way back out of it.
  await visitor.page.reload();
  await visitor.sees('sheet 42.txt');
  await visitor.page.goBack();
  await visitor.page.waitForFunction(() => !document.body.innerText.includes('sheet 42.txt'));
  await visitor.sees('Level 1', '.walked');
  await visitor.press('All files');
  await visitor.press('Look at heights.csv');
  await visitor.sees('A; north', '.viewer td');
  expect(await visitor.page.$$eval('.viewer td.number', (cells) => cells.map((cell) => cell.textContent))).toEqual([
    '3.25',
    '4.5',
  ]);
  await visitor.isAccessible();
  await visitor.page.keyboard.press('Escape');

  await visitor.page.setOfflineMode(true);
  await visitor.sees('The connection is lost.', '.away');
  await visitor.sees('heights.csv');
  await visitor.page.setOfflineMode(false);
  await visitor.page.waitForFunction(() => !document.querySelector('.away'), { timeout: 30_000 });
  await visitor.page.setViewport({ width: 360, height: 740 });
  expect(await visitor.page.evaluate(() => document.documentElement.scrollWidth)).toBe(360);
  await visitor.leave();
});

it('the list is narrowed in words with counts, and what is over goes from it after it was said which', async () => {
  const client = await office.signedIn('rosa');
  const { id } = (await client.upload(office.roots.projects, 'over.txt', Buffer.from('over'))).body;
  const window = { opensAt: null, closesAt: null };
  await office.publish(client, [id], { title: 'Without end', window });
  const once = await office.publish(client, [id], { title: 'Opened once', visitLimit: 1, window });
  await office.client().ask('POST', `/s/${once.token}/open`, { password: null });
  await office.db.query(`UPDATE share SET last_visit_at = $2 WHERE id = $1`, [
    ...[once.id, new Date(office.clock.now() - 13 * 3_600_000)],
  ]);
  const rosa = await Person.at(browser, office.origin);
  await rosa.signIn('rosa', '/shares');
  await rosa.press('never opened 1');
  await rosa.page.waitForFunction(() => !document.querySelector('table.rows')?.textContent?.includes('Opened once'));
  await rosa.sees('Without end', 'table.rows');
  await rosa.isAccessible();
  // The address keeps it, and so does a name.
  await rosa.press('Keep this filter');
  await rosa.page.type('[aria-label="Name of the filter"]', 'Unseen');
  await rosa.press('Keep');
  await rosa.page.waitForSelector('.kept-filter [aria-current]');
  await rosa.press('Columns');
  await rosa.press('Reach', '.column-row');
  await rosa.page.waitForFunction(() => !document.querySelector('table.rows thead')?.textContent?.includes('Reach'));
  await rosa.isAccessible();
  await rosa.page.goto(`${office.origin}/shares`);
  await rosa.sees('Opened once', 'table.rows');
  expect(await rosa.text('table.rows thead')).not.toContain('Reach');
  await rosa.press('Unseen');
  await rosa.page.waitForSelector('.facets [aria-pressed=true]');
  await rosa.press('Forget the filter Unseen');
  await rosa.page.waitForFunction(() => !document.querySelector('.kept-filter'));
  await rosa.press('never opened 1');
  await rosa.press('Tidy');
  await rosa.sees('1 used up', '.modal');
  await rosa.isAccessible();
  await rosa.page.click('#tidy-usedUp');
  await rosa.press('Take 1 share off', '.modal');
  await rosa.sees('1 share taken off the list.');
  await rosa.page.waitForFunction(() => !document.querySelector('table.rows')?.textContent?.includes('Opened once'));
  await rosa.page.setViewport({ width: 360, height: 740 });
  expect(await rosa.page.evaluate(() => document.documentElement.scrollWidth)).toBe(360);
  await rosa.leave();
});
