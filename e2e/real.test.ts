import { execFileSync, spawn, type ChildProcess } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import { existsSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join, resolve } from 'node:path';
import type { VisitorDoor } from '@quay/contract';
import type { Browser, ElementHandle } from 'puppeteer-core';
import { afterAll, beforeAll, expect, it, vi } from 'vitest';
import { startExim, type Exim } from '../apps/server/src/_fixtures/exim.js';
import { freePort } from '../apps/server/src/_fixtures/free-port.js';
import { launch, Person } from './_fixtures/browser.js';

// The job from nothing to the first share, as on a machine: `./quay start` and nothing of the outside world. PostgreSQL,
// the mail server (exim4) and the name server (BIND 9) are Debian's; curl opens what was published, where dig finds it.
const NAME = 'files.saltmarsh.example';
const folder = mkdtempSync(join(tmpdir(), 'quay-real-'));
let exim: Exim;
let named: ChildProcess;
let namesPort: number;
let quay: ChildProcess;
let port: number;
let printed = '';
let browser: Browser;

const dig = () => {
  const asked = ['@127.0.0.1', '-p', String(namesPort), '+short', '+tries=1', '+time=1', NAME, 'A'];
  return execFileSync('dig', asked, { encoding: 'utf8' }).trim();
};

beforeAll(async () => {
  exim = await startExim(folder);
  namesPort = await freePort();
  writeFileSync(
    join(folder, 'zone'),
    '$TTL 300\n@ SOA ns1 hostmaster 1 3600 600 604800 60\n@ NS ns1\nns1 A 127.0.0.1\nfiles A 127.0.0.1\n',
  );
  writeFileSync(
    join(folder, 'named.conf'),
    `options { directory "${folder}"; listen-on port ${namesPort} { 127.0.0.1; }; listen-on-v6 { none; }; pid-file none; recursion no; session-keyfile none; };
     controls { };
     zone "saltmarsh.example" { type primary; file "${folder}/zone"; };`,
  );
  named = spawn('/usr/sbin/named', ['-g', '-c', join(folder, 'named.conf')], { stdio: 'ignore' });
  await vi.waitFor(() => expect(dig()).toBe('127.0.0.1'), { timeout: 15_000, interval: 200 });
  // The port of the web, and the next for the database.
  port = await freePort();
  quay = spawn(resolve(import.meta.dirname, '../quay'), ['start', '--port', String(port), '--host', '127.0.0.1'], {
    env: { ...process.env, QUAY_VAR: join(folder, 'var'), NODE_EXTRA_CA_CERTS: exim.authority },
    stdio: ['ignore', 'pipe', 'inherit'],
  });
  quay.stdout?.on('data', (piece: Buffer) => (printed += piece.toString()));
  await vi.waitFor(() => expect(printed).toMatch(/good for an hour and for one browser: \S+/), 100_000);
  browser = await launch();
});
afterAll(async () => {
  await browser?.disconnect();
  const ended = new Promise((done) => quay.once('exit', done));
  quay.kill('SIGTERM');
  await ended;
  named.kill();
  await exim.stop();
  rmSync(folder, { recursive: true, force: true });
});

it('from a bare machine to a share that a client opens', async () => {
  const iris = await Person.at(browser, `http://127.0.0.1:${port}`);
  await iris.page.goto(iris.origin);
  await iris.fill('#code', /for one browser: (\S+)/.exec(printed)?.[1] ?? '');
  await iris.press('Begin');
  await iris.fill('#office-name', 'Saltmarsh Survey');
  await iris.fill('#office-zone', 'Europe/London');
  await iris.page.keyboard.press('Enter');
  await iris.fill('#you-name', 'Iris Ward');
  await iris.fill('#you-mail', 'iris@saltmarsh.example');
  await iris.fill('#you-password', 'weir-lantern-copper-tide');
  await iris.page.keyboard.press('Enter');
  await iris.sees('free', '.begin-places');
  await iris.press('Another folder');
  await iris.fill('#folder', join(folder, 'bytes'));
  await iris.press('Look at it');
  await iris.sees(join(folder, 'bytes'), '.begin-places');
  await iris.press(`Use ${join(folder, 'bytes')}`);
  await iris.sees('Stores, one on each line');
  await iris.press('Keep and go on');
  await iris.fill('#mail-host', 'localhost');
  await iris.fill('#mail-port', String(exim.port));
  await iris.fill('#mail-user', exim.user);
  await iris.fill('#mail-password', exim.password);
  await iris.fill('#mail-sender', 'quay@saltmarsh.example');
  await iris.press('Send a test message');
  await iris.sees('The mail server has taken a message');
  expect(exim.queue()).toContain('A test message of Lockfast Quay');
  await iris.press('Keep and go on');
  await iris.sees('How do people outside get to what you publish?');
  await iris.page.click('input[value=inside]');
  await iris.fill('#inside', `http://${NAME}:${port}`);
  await iris.press('Keep and go on');
  await iris.press('Open Saltmarsh Survey');
  await iris.sees('What is left to do');

  const bytes = randomBytes(400_000);
  writeFileSync(join(folder, 'Mill Lane.pdf'), bytes);
  await iris.press('Go to the stores', '.left-list');
  await iris.sees('Office', '.store-row');
  await iris.page.evaluate(() => {
    const names = [...document.querySelectorAll('.store-row strong')];
    names
      .find((name) => name.textContent === 'Office')
      ?.closest('a')
      ?.click();
  });
  const chooser = (await iris.page.waitForSelector('[aria-label="Add files"]')) as ElementHandle<HTMLInputElement>;
  await chooser.uploadFile(join(folder, 'Mill Lane.pdf'));
  await iris.sees('Mill Lane.pdf', '.folder-table');
  await iris.press('Select Mill Lane.pdf');
  await iris.press('Put on slip S');
  await iris.press('Publish', '.slip');
  await iris.sees('Hand over', '.slip');
  await iris.sees('The password, by another channel', '.handover');
  const [link = '', password = ''] = await iris.page.$$eval('.handover .value', (e) =>
    e.map((x) => x.textContent ?? ''),
  );
  expect(link).toMatch(new RegExp(`^http://${NAME}:${port}/s/`));

  const at = ['--resolve', `${NAME}:${port}:${dig()}`, '--silent', '--fail', '--cookie-jar', join(folder, 'jar')];
  const json = ['--header', 'content-type: application/json', '--data', JSON.stringify({ password })];
  const door = JSON.parse(execFileSync('curl', [...at, ...json, `${link}/open`], { encoding: 'utf8' })) as VisitorDoor;
  expect(door.contents?.files).toMatchObject([{ path: 'Mill Lane.pdf', sizeBytes: bytes.length }]);
  const file = `${link}/files/${door.contents?.files[0]?.id}`;
  execFileSync('curl', [...at, '--cookie', join(folder, 'jar'), '--output', join(folder, 'got.pdf'), file]);
  expect(readFileSync(join(folder, 'got.pdf')).equals(bytes)).toBe(true);
  expect(existsSync(join(folder, 'bytes'))).toBe(true);
  expect(iris.errors).toEqual([]);
});
