// The pictures in docs/screenshots: the demo office on a database of its own, at four minutes past ten on a working day.
import { execFileSync } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import { mkdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { startProgram } from './lib/children.mjs';
import { build, requireNpmPackages, requirePrograms, ROOT, VAR } from './lib/install.mjs';
import { requireDatabase, startPostgres } from './lib/postgres.mjs';
import { freePort } from './lib/test-database.mjs';
import { demoReach, setUpWayIn, startOutside } from './lib/outside.mjs';
import { say } from './lib/words.mjs';

const OUT = join(ROOT, 'docs/screenshots');
const WORK = join(VAR, 'screenshots');
/** Where the demo of the pictures is backed up to: shown in one of them. */
const COPIES = '/tmp/saltmarsh-copies';

export async function run() {
  requirePrograms('postgres', 'setpriv', 'chromium');
  requireNpmPackages();
  build();
  for (const folder of [WORK, COPIES]) rmSync(folder, { recursive: true, force: true });
  mkdirSync(WORK, { recursive: true });
  const stops = [];
  try {
    const database = await startPostgres(join(WORK, 'postgres'), await freePort(), { fast: true });
    stops.push(database.stop);
    await requireDatabase(database, 'quay');
    const port = await freePort();
    const origin = `http://127.0.0.1:${port}`;
    writeFileSync(join(WORK, 'key'), randomBytes(32).toString('hex'));
    const at = tenPastWorking();
    const env = {
      QUAY_DATABASE_URL: database.url('quay'),
      QUAY_BLOBS: join(WORK, 'blobs'),
      QUAY_KEY_FILE: join(WORK, 'key'),
      QUAY_WEB: join(ROOT, 'apps/web/dist'),
      QUAY_PORT: String(port),
      QUAY_LOG: 'warn',
      QUAY_ADDRESS: origin,
      QUAY_DEMO_BACKUPS: COPIES,
      QUAY_DEMO_AT: at,
      ...demoReach(WORK),
    };
    execFileSync(process.execPath, [join(ROOT, 'apps/server/dist/demo/main.js')], {
      env: { ...process.env, ...env },
      stdio: 'ignore',
    });
    const ports = {
      web: port,
      smtp: await freePort(),
      outside: await freePort(),
      tls: await freePort(),
      plain: await freePort(),
    };
    const outside = await startOutside(WORK, ports, { OUTSIDE_CLOCK_AT: at });
    stops.push(outside.stop);
    const server = await startProgram(
      join(ROOT, 'apps/server/dist/main.js'),
      { ...env, ...outside.env, QUAY_CLOCK_AT: at },
      'the server',
    );
    stops.push(server.stop);
    await setUpWayIn(origin, `http://127.0.0.1:${ports.outside}`);
    await pictures(origin, stops, await startEmpty(database, env, at, stops));
  } finally {
    while (stops.length) await stops.pop()();
    for (const folder of [WORK, COPIES]) rmSync(folder, { recursive: true, force: true });
  }
}

/** A server without an office, for the first start. @returns where it serves, and its code */
async function startEmpty(database, env, at, stops) {
  await requireDatabase(database, 'empty');
  const port = await freePort();
  const codeFile = join(WORK, 'code');
  const own = { QUAY_DATABASE_URL: database.url('empty'), QUAY_PORT: String(port), QUAY_CODE_FILE: codeFile };
  const server = await startProgram(
    join(ROOT, 'apps/server/dist/main.js'),
    { ...env, ...own, QUAY_BLOBS: '/srv/quay', QUAY_CLOCK_AT: at },
    'the server without an office',
  );
  stops.push(server.stop);
  return { origin: `http://127.0.0.1:${port}`, code: readFileSync(codeFile, 'utf8').trim() };
}

/** The first start, at its third step. */
async function beginPicture(page, { origin, code }, shoot, settle) {
  const ask = (method, path, body) =>
    page.evaluate(
      (m, p, b) => fetch(p, { method: m, headers: { 'content-type': 'application/json' }, body: JSON.stringify(b) }),
      ...[method, `/api/setup/${path}`, body],
    );
  await page.goto(`${origin}/begin`);
  await ask('POST', 'code', { code });
  await ask('PUT', 'office', { name: 'Saltmarsh Survey', zone: 'Europe/London' });
  const you = { name: 'Iris Ward', signInName: 'iris', email: 'iris@saltmarsh.example' };
  await ask('PUT', 'you', { ...you, password: 'weir-lantern-copper-tide' });
  await page.reload();
  await page.waitForSelector('.begin-places', { timeout: 30_000 });
  await settle();
  await shoot('begin');
}

/** 10:04 UTC of the last day that was not at a week's end. */
function tenPastWorking() {
  const at = new Date();
  at.setUTCHours(10, 4, 0, 0);
  while ([0, 6].includes(at.getUTCDay())) at.setUTCDate(at.getUTCDate() - 1);
  return at.toISOString();
}

async function pictures(origin, stops, empty) {
  const { default: puppeteer } = await import('puppeteer-core');
  const browser = await puppeteer.launch({
    executablePath: '/usr/bin/chromium',
    headless: true,
    args: [
      '--disable-gpu',
      '--disable-quic',
      '--no-first-run',
      '--disable-background-networking',
      '--disable-component-update',
      '--disable-sync',
      ...(process.getuid() === 0 ? ['--no-sandbox'] : []),
    ],
    defaultViewport: { width: 1280, height: 800 },
  });
  stops.push(() => browser.close());
  mkdirSync(OUT, { recursive: true });
  const settle = (ms = 900) => new Promise((resolve) => setTimeout(resolve, ms));
  const page = await browser.newPage();
  const shoot = async (name, of = page) => {
    await settle();
    await of.screenshot({ path: join(OUT, `${name}.png`) });
    say(`docs/screenshots/${name}.png`);
  };
  const press = async (words, within = 'body') => {
    const found = await page.waitForFunction(
      (w, s) =>
        [...document.querySelectorAll(`${s} button, ${s} a, ${s} input`)].find(
          (e) => (e.getAttribute('aria-label') ?? e.textContent).trim() === w,
        ),
      { timeout: 8000 },
      words,
      within,
    );
    await found.click();
    await settle(500);
  };
  const unfold = async (part) => {
    const found = await page.waitForFunction(
      (name) =>
        [...document.querySelectorAll('.slip .part.folded button')].find(
          (e) => e.querySelector('.name').textContent === name,
        ),
      { timeout: 8000 },
      part,
    );
    await found.click();
    await settle(300);
  };
  await beginPicture(page, empty, shoot, settle);
  await page.goto(`${origin}/sign-in`);
  await page.waitForSelector('#name');
  await page.type('#name', 'iris');
  await page.type('#password', 'weir-lantern-copper-tide');
  await page.keyboard.press('Enter');
  await page.waitForSelector('svg.windows');
  // Links of the office in the pictures are those that outsiders use.
  await page.evaluate(async () => {
    const addresses = await (await fetch('/api/reach/addresses')).json();
    await fetch(`/api/reach/addresses/${addresses.find((a) => a.wayIn === 'mapping').id}`, {
      method: 'PATCH',
      headers: { 'content-type': 'application/json' },
      body: '{"isDefault":true}',
    });
  });
  await settle(6000);
  await shoot('today');
  await press('Shares', 'nav');
  await shoot('shares');
  await press('Mill Lane drawings', 'table');
  await shoot('share');

  await page.goto(`${origin}/intakes`);
  await press('Site photographs, Weir House');
  await settle();
  // What waits, beside the list.
  await page.evaluate(() => {
    const [sheet, first] = [document.querySelector('.sheet'), document.querySelector('.deposit')];
    sheet.scrollTop = first.offsetTop - sheet.offsetTop - 40;
  });
  await shoot('intakes');
  await press('Reach', 'nav');
  await page.waitForSelector('.matrix');
  await shoot('reach');
  await page.goto(`${origin}/reach/plan?line=shared`);
  await page.waitForSelector('.plan-table');
  await shoot('reach-plan');
  await page.goto(`${origin}/settings/backups`);
  await page.waitForFunction(() => document.querySelector('.backup-place .facts dd:last-of-type time'), {
    timeout: 180_000,
  });
  await shoot('settings');
  await press('People', 'nav');
  await page.waitForSelector('.access-grid .gauge');
  await page.click('button.hand');
  await page.waitForSelector('.kept-note');
  await shoot('people');
  await press('Ledger', 'nav');
  await press('Verify the chain');
  await shoot('ledger');
  await storesPictures(page, origin, shoot, settle);
  await press('Stores', 'nav');
  for (const name of ['Projects', '2026', 'Mill Lane']) await openFolder(page, name, settle);
  for (const name of ['ML-101 ground floor.pdf', 'ML-102 first floor.pdf', 'North elevation.png'])
    await press(`Select ${name}`, '.folder-table');
  await press('Put on slip S', '.selection-bar');
  await unfold('What');
  await page.click('[aria-label="Title"]', { count: 3 });
  await page.type('[aria-label="Title"]', 'Mill Lane, revised plans');
  await unfold('Guard');
  await page.type('[aria-label="Visit limit"]', '10');
  await shoot('stores');
  await press('Publish', '.slip');
  await page.waitForSelector('.handover');
  await shoot('handover');
  const [link, password] = await page.$$eval('.handover .value', (e) => e.map((x) => x.textContent));
  const context = await browser.createBrowserContext();
  const visitor = await context.newPage();
  await visitor.goto(origin + new URL(link).pathname);
  await visitor.waitForSelector('#password');
  await shoot('visitor', visitor);
  await visitor.type('#password', password);
  await visitor.keyboard.press('Enter');
  await visitor.waitForSelector('.files');
}

/** Details, the past, search and storage. */
async function storesPictures(page, origin, shoot, settle) {
  const ask = (path) => page.evaluate(async (p) => (await fetch(p)).json(), path);
  const found = async (name) => (await ask(`/api/find?text=${encodeURIComponent(name)}&kind=folder`)).items;
  const lane = (await found('Mill Lane')).find((i) => i.name === 'Mill Lane');
  const projects = (await ask('/api/stores')).find((s) => s.name === 'Projects');
  await page.goto(`${origin}/stores/${lane.id}`);
  await page.waitForSelector('.row-grid.item:nth-child(7)');
  await page.click('.row-grid.item:nth-child(7)');
  await page.keyboard.press('i');
  await page.waitForSelector('.details .version-row');
  await settle(4000);
  await shoot('details');
  await page.keyboard.press('i');
  await page.goto(`${origin}/stores/${lane.id}/past`);
  await page.waitForSelector('.time-scale');
  for (let i = 0; i < 12; i += 1) await page.keyboard.press('[');
  await shoot('past');
  await page.goto(`${origin}/stores/find?text=section&kind=pdf`);
  await page.waitForSelector('table.found');
  await shoot('find');
  await page.goto(`${origin}/stores/${projects.id}/storage`);
  await page.waitForSelector('.treemap .cell');
  await shoot('storage');
  const weir = (await found('Weir House')).find((i) => i.name === 'Weir House');
  await page.goto(`${origin}/stores/${weir.id}`);
  await page.waitForSelector('.row-grid.item');
  await page.keyboard.press('i');
  await page.waitForSelector('.who-reaches li');
  await page.evaluate(() =>
    [...document.querySelectorAll('.who-reaches button')].find((b) => b.textContent === 'Change')?.click(),
  );
  await page.waitForSelector('.access-dialog table');
  await settle(800);
  await shoot('access');
  await page.keyboard.press('Escape');
  await page.keyboard.press('i');
  await page.goto(`${origin}/work`);
  await page.waitForSelector('.work-row');
  await settle(800);
  await shoot('work');
  await page.goto(`${origin}/stores`);
  await page.waitForSelector('table.found');
}

async function openFolder(page, name, settle) {
  const found = await page.waitForFunction(
    (n) =>
      [...document.querySelectorAll('.store-list a, .folder-table a')].find(
        (a) => (a.querySelector('strong') ?? a).textContent.trim() === n,
      ),
    { timeout: 8000 },
    name,
  );
  await found.click();
  await settle(700);
}
