import type { MailTrialAnswer, SetupCandidate, SetupStanding, SetupState, StoreSummary } from '@quay/contract';
import { execFileSync } from 'node:child_process';
import { existsSync, mkdtempSync, readFileSync, rmSync, statSync, writeFileSync } from 'node:fs';
import { createServer, type AddressInfo, type Server } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { SMTPServer } from 'smtp-server';
import { afterAll, afterEach, beforeAll, beforeEach, describe, expect, it, vi } from 'vitest';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';
import { Restart } from './restart.js';
import { SetupService } from './setup.service.js';

let folder: string;
let office: TestOffice;
let printed: string[];
let iris: Client;

beforeEach(async () => {
  folder = mkdtempSync(join(tmpdir(), 'quay-setup-'));
  office = await openOffice({ codeFile: join(folder, 'code') }, false);
  printed = [];
  await office.app.get(SetupService).announce((words) => printed.push(words));
  iris = office.client();
});
afterEach(async () => {
  await office.close();
  rmSync(folder, { recursive: true, force: true });
});

const code = () => readFileSync(join(folder, 'code'), 'utf8').trim();
const hold = (client: Client, typed = code()) => client.ask('POST', '/api/setup/code', { code: typed });
const YOU = {
  name: 'Iris Ward',
  signInName: 'iris',
  email: 'iris@saltmarsh.example',
  password: 'weir-lantern-copper-tide',
};
const answers = (): [string, object][] => [
  ['office', { name: 'Saltmarsh Survey', zone: 'Europe/London' }],
  ['you', YOU],
  ['place', { folder: join(folder, 'bytes') }],
  ['stores', { names: ['Office', 'Projects'], homes: true }],
  ['mail', { later: true }],
  ['way-in', { kind: 'inside', inside: 'http://192.168.20.10:4180' }],
];
async function answerAll(client: Client, but: Record<string, object> = {}): Promise<void> {
  for (const [step, answer] of answers()) {
    const { status, body } = await client.ask('PUT', `/api/setup/${step}`, but[step] ?? answer);
    if (status !== 200) throw new Error(`${step}: ${body.detail}`);
  }
}
const finish = (client: Client) => client.ask<{ restarts: boolean }>('POST', '/api/setup/finish');
const people = async () => Number((await office.db.query<{ n: string }[]>('SELECT count(*) AS n FROM person'))[0]?.n);

describe('a server without an office', () => {
  it('answers nothing but the first start', async () => {
    for (const [method, path] of [
      ['GET', '/api/stores'],
      ['POST', '/api/session'],
      ['GET', `/s/${'a'.repeat(22)}/door`],
      ['GET', '/api/docs'],
    ] as const)
      expect((await iris.ask(method, path)).body).toMatchObject({ status: 503, code: 'setup.unfinished' });
    const page = await iris.fetch('/today', { headers: { accept: 'text/html' } });
    expect([page.status, page.headers.get('location')]).toEqual([302, '/begin']);
    expect((await iris.fetch('/begin')).status).toBe(200);
    expect((await iris.ask<SetupStanding>('GET', '/api/setup')).body).toMatchObject({ held: false });
  });
  it('asks for the code that was printed, which is in a file for its owner alone', async () => {
    expect(printed.at(-1)).toContain(code());
    expect(statSync(join(folder, 'code')).mode & 0o777).toBe(0o600);
    expect((await hold(iris, 'AAAA-AAAA')).body.code).toBe('setup.code-wrong');
    expect((await hold(iris, 'AAAA')).status).toBe(400);
    // Typed as people type: small, with blanks, O for 0.
    expect((await hold(iris, code().toLowerCase().replace('-', ' ').replace(/0/g, 'o'))).status).toBe(204);
    expect((await iris.ask<SetupStanding>('GET', '/api/setup')).body.held).toBe(true);
  });
  it('takes a code once, and for an hour; then another one is printed', async () => {
    const first = code();
    await hold(iris);
    expect(code()).not.toBe(first);
    expect((await hold(office.client(), first)).body.code).toBe('setup.code-wrong');
    office.clock.advance(3_600_000);
    expect((await hold(office.client())).body.code).toBe('setup.code-old');
    expect((await office.client().ask('POST', '/api/setup/code/new')).status).toBe(204);
    expect((await hold(office.client())).status).toBe(204);
  });
  it('limits tries, also to have codes printed', async () => {
    const tries = await Promise.all(Array.from({ length: 12 }, () => hold(office.client(), 'ZZZZ-ZZZZ')));
    expect(tries.filter((t) => t.status === 429).length).toBe(2);
    const before = printed.length;
    const valid = code();
    for (let n = 0; n < 5; n += 1) await iris.ask('POST', '/api/setup/code/new');
    expect(printed.length - before).toBe(3);
    // Nobody makes a code void that is being typed.
    expect(code()).toBe(valid);
  });
  it('goes on in one browser at a time: the last that typed a code', async () => {
    await hold(iris);
    await iris.ask('PUT', '/api/setup/office', answers()[0]?.[1]);
    const other = office.client();
    await hold(other);
    const { body } = await other.ask<{ held: true; state: SetupState }>('GET', '/api/setup');
    expect(body.state.answers.office?.name).toBe('Saltmarsh Survey');
    expect((await iris.ask('PUT', '/api/setup/office', answers()[0]?.[1])).body.code).toBe('setup.not-held');
  });
  it('tells and takes nothing without the code, whatever is asked', async () => {
    const stranger = office.client();
    for (const [step, answer] of answers())
      expect((await stranger.ask('PUT', `/api/setup/${step}`, answer)).status, step).toBe(401);
    for (const [method, path, body] of [
      ['GET', 'places'],
      ['POST', 'places', { folder: '/tmp' }],
      ['POST', 'mail/trial', { ...MAIL, to: 'x@saltmarsh.example' }],
      ['POST', 'finish'],
    ] as const)
      expect((await stranger.ask(method, `/api/setup/${path}`, body)).status, path).toBe(401);
    const forged = { cookie: 'quay_setup=AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA' };
    const answer = await fetch(`${office.origin}/api/setup/finish`, { method: 'POST', headers: forged });
    expect(answer.status).toBe(401);
  });
});

describe('the answers', () => {
  beforeEach(async () => void (await hold(iris)));
  it.each([
    ['office', { name: 'X', zone: 'Europe/Londn' }, 'zone'],
    ['office', { name: ' ', zone: 'UTC' }, 'name'],
    ['you', { ...YOU, password: 'password1234' }, 'password'],
    ['you', { ...YOU, signInName: 'i' }, 'signInName'],
    ['you', { ...YOU, email: 'iris' }, 'email'],
    ['place', { folder: 'bytes' }, 'folder'],
    ['place', { folder: '/proc/quay' }, 'folder'],
    ['place', { folder: '/dev/shm/quay', anyway: true }, 'folder'],
    // Where a folder for what is under way is somebody else's, too: old files in it would be swept.
    ['place', { folder: '/', anyway: true }, 'folder'],
    ['place', { folder: '/etc', anyway: true }, 'folder'],
    ['place', { folder: '/etc/passwd/quay' }, 'folder'],
    ['stores', { names: [], homes: true }, 'names'],
    ['stores', { names: ['Office', 'office'], homes: true }, 'names.1'],
    ['stores', { names: ['a/b'], homes: true }, 'names.0'],
    ['mail', { host: 'mail.saltmarsh.example', port: 0, encryption: 'tls', sender: 'q@saltmarsh.example' }, 'port'],
    ['mail', { later: true, host: 'x' }, 'host'],
    ['way-in', { kind: 'inside', inside: 'ftp://x' }, 'inside'],
  ])('%s: %j is refused at %s, and nothing is kept', async (step, answer, field) => {
    const { status, body } = await iris.ask('PUT', `/api/setup/${step}`, answer);
    expect([status, body.errors?.[0]?.field]).toEqual([400, field]);
    expect((await iris.ask<{ state: SetupState }>('GET', '/api/setup')).body.state.answers).toEqual({});
  });
  it('are kept as they come, without what is secret, and go on in another process', async () => {
    await answerAll(iris, { mail: { ...MAIL, user: 'iris', password: 'mail-secret' } });
    const kept = JSON.stringify(await office.db.query('SELECT * FROM setup'));
    expect(kept).toContain('Saltmarsh Survey');
    for (const secret of [YOU.password, 'mail-secret']) expect(kept).not.toContain(secret);
    const { databaseUrl, sealingKey } = office.config;
    const second = await openOffice({ databaseUrl, sealingKey }, false);
    const { body } = await iris.at(second.origin).ask<{ state: SetupState }>('GET', '/api/setup');
    expect(body.state.answers).toMatchObject({
      office: { zone: 'Europe/London' },
      you: { name: 'Iris Ward' },
      mail: { user: 'iris' },
    });
    expect(JSON.stringify(body)).not.toMatch(/mail-secret|weir|hash|sealed/i);
    await second.close();
  });
  it('name folders that are measured, and leave nothing there', async () => {
    const { body } = await iris.ask<SetupCandidate>('POST', '/api/setup/places', { folder: join(folder, 'bytes') });
    expect(body.mark).not.toBe('fail');
    // The kernel's own word on what is free there (coreutils).
    const free = Number(
      execFileSync('stat', ['-f', '-c', '%a %S', folder])
        .toString()
        .split(' ')
        .reduce((a, b) => String(Number(a) * Number(b))),
    );
    expect(Math.abs(body.freeBytes - free) / free).toBeLessThan(0.05);
    expect(execFileSync('find', [folder, '-mindepth', '1']).toString().trim().split('\n')).toEqual([
      join(folder, 'code'),
    ]);
    const all = (await iris.ask<SetupCandidate[]>('GET', '/api/setup/places')).body;
    expect(all[0]?.folder).toBe(office.config.blobRoot);
  });
  it('are all needed', async () => {
    await iris.ask('PUT', '/api/setup/office', answers()[0]?.[1]);
    const { status, body } = await finish(iris);
    expect([status, body['missing']]).toEqual([409, ['you', 'place', 'stores', 'mail', 'wayIn']]);
    expect(await people()).toBe(0);
  });
});

describe('the office', () => {
  beforeEach(async () => void (await hold(iris)));
  it('begins with all that was answered, and its admin is signed in', async () => {
    await answerAll(iris, { mail: { ...MAIL, user: 'iris', password: 'mail-secret' } });
    const done = await finish(iris);
    expect([done.status, done.body.restarts]).toEqual([200, true]);
    expect((await iris.ask<{ name: string }>('GET', '/api/session')).body).toMatchObject({
      name: 'Iris Ward',
      initials: 'IW',
      role: 'admin',
      office: { name: 'Saltmarsh Survey', zone: 'Europe/London' },
    });
    const stores = (await iris.ask<StoreSummary[]>('GET', '/api/stores')).body;
    expect(stores.map((s) => [s.kind, s.name, s.level])).toEqual([
      ['home', 'Iris Ward', 'manage'],
      ['common', 'Office', 'manage'],
      ['common', 'Projects', 'manage'],
    ]);
    const [mail] = await office.db.query<{ host: string; password_sealed: Buffer }[]>('SELECT * FROM mail_server');
    expect([mail?.host, mail?.password_sealed.includes('mail-secret')]).toEqual(['mail.saltmarsh.example', false]);
    expect((await iris.ask('GET', '/api/ledger/chain')).body).toMatchObject({ fault: null });
    expect((await iris.ask<{ left: string[] }>('GET', '/api/office/left')).body.left).toEqual([
      'files',
      'share',
      'backup',
      'factor',
    ]);
    expect(await office.db.query('SELECT * FROM setup')).toEqual([]);
    expect(existsSync(join(folder, 'code'))).toBe(false);
    expect(statSync(join(folder, 'bytes')).mode & 0o777).toBe(0o700);
    // Nothing of the first start is there any more.
    for (const [step, answer] of answers())
      expect((await iris.ask('PUT', `/api/setup/${step}`, answer)).status).toBe(404);
    expect((await hold(office.client(), 'ABCD-EFGH')).status).toBe(404);
    const again = await office.client().ask('POST', '/api/session', { signInName: 'iris', password: YOU.password });
    expect(again.status).toBe(204);
  });
  it('is made once, however often it is asked for at once', async () => {
    await answerAll(iris);
    const all = await Promise.all(Array.from({ length: 5 }, () => finish(iris)));
    expect(all.map((a) => a.status).sort()).toEqual([200, 404, 404, 404, 404].sort());
    expect(await people()).toBe(1);
  });
  it('is noticed by other processes, which begin anew where its bytes lie, and not by this one before its answer', async () => {
    const { databaseUrl, sealingKey } = office.config;
    const second = await openOffice({ databaseUrl, sealingKey }, false);
    const asked: string[] = [];
    for (const [name, app] of [
      ['this', office.app],
      ['another', second.app],
    ] as const)
      app.get(Restart).asked.subscribe(() => asked.push(name));
    await answerAll(iris);
    await finish(iris);
    await vi.waitFor(() => expect(asked.sort()).toEqual(['another', 'this']), 60_000);
    expect((await second.client().ask('GET', '/api/session')).status).toBe(401);
    await second.close();
  });
  it('is not made by halves: what is refused at the end leaves everything as it was', async () => {
    await answerAll(iris);
    // A file where the folder was to be, since it was measured.
    writeFileSync(join(folder, 'bytes'), '');
    expect((await finish(iris)).body.code).toBe('place.refused');
    expect([await people(), (await office.db.query('SELECT 1 FROM store')).length]).toEqual([0, 0]);
    rmSync(join(folder, 'bytes'));
    expect((await finish(iris)).status).toBe(200);
  });
});

const MAIL = {
  host: 'mail.saltmarsh.example',
  port: 587,
  encryption: 'starttls',
  user: '',
  sender: 'quay@saltmarsh.example',
};

// Mail servers of another maker, and sockets that behave as broken ones do.
describe('the test message', () => {
  const taken: string[] = [];
  const servers: { close: (done: () => void) => void }[] = [];
  const ports = {} as Record<'open' | 'starttls' | 'tls' | 'silent' | 'closed', number>;
  beforeAll(async () => {
    const onData = (stream: NodeJS.ReadableStream, _session: unknown, done: () => void) => {
      stream.on('data', (piece: Buffer) => taken.push(piece.toString())).on('end', done);
    };
    const onAuth = (
      { username, password }: { username?: string; password?: string },
      _session: unknown,
      done: (error: Error | null, answer?: { user: string }) => void,
    ) => (password === 'mail-secret' ? done(null, { user: username ?? '' }) : done(new Error('Bad credentials')));
    const listening = async (server: Server | SMTPServer) => {
      servers.push(server as Server);
      // Whoever tries and goes is an error to it.
      server.on('error', () => undefined);
      await new Promise<void>((resolve) => (server as Server).listen(0, '127.0.0.1', () => resolve()));
      return ((('server' in server ? server.server : server) as Server).address() as AddressInfo).port;
    };
    const subject = ['-subj', '/CN=mail.saltmarsh.example', '-keyout', '-', '-out', '-'];
    const made = ['req', '-x509', '-newkey', 'ec', '-pkeyopt', 'ec_paramgen_curve:P-256', '-nodes', '-days', '30'];
    const pem = execFileSync('openssl', [...made, ...subject], { stdio: ['ignore', 'pipe', 'ignore'] });
    const own = { key: pem, cert: pem };
    ports.open = await listening(new SMTPServer({ disabledCommands: ['AUTH', 'STARTTLS'], onData } as never));
    ports.starttls = await listening(new SMTPServer({ ...own, onData, onAuth } as never));
    ports.tls = await listening(new SMTPServer({ ...own, secure: true, onData, onAuth } as never));
    ports.silent = await listening(createServer(() => undefined));
    ports.closed = await listening(createServer());
    servers.pop()?.close(() => undefined);
  });
  afterAll(async () => {
    await Promise.all(servers.map((s) => new Promise<void>((resolve) => s.close(resolve))));
  });
  beforeEach(async () => void (await hold(iris)));
  const trial = async (part: object) =>
    (
      await iris.ask<MailTrialAnswer>('POST', '/api/setup/mail/trial', {
        ...{ ...MAIL, host: '127.0.0.1', to: 'iris@saltmarsh.example' },
        ...part,
      })
    ).body;

  it('is sent, and what the servers said is told line by line', async () => {
    const { sent, lines } = await trial({ port: ports.open, encryption: 'none' });
    expect(sent).toBe(true);
    expect(lines.map((l) => `${l.from} ${l.text}`).join('\n')).toMatch(
      /server 220 [\s\S]*us EHLO[\s\S]*us MAIL FROM:<quay@saltmarsh.example>[\s\S]*us RCPT TO:<iris@saltmarsh.example>[\s\S]*server 250/,
    );
    expect(taken.join('')).toContain('Subject: A test message of Lockfast Quay');
  });
  it.each([
    ['closed', 'starttls', /Nothing takes mail at 127.0.0.1/],
    ['open', 'starttls', /does not offer STARTTLS/],
    ['open', 'tls', /does not encrypt from the first byte/],
    // A certificate that nobody has vouched for.
    ['starttls', 'starttls', /certificate of 127.0.0.1 is not trusted/],
    ['tls', 'tls', /certificate of 127.0.0.1 is not trusted/],
    ['silent', 'none', /does not answer/],
  ] as const)('to a server that is %s, with %s, says what is wrong', async (which, encryption, words) => {
    const { sent, words: told } = await trial({ port: ports[which], encryption });
    expect(sent).toBe(false);
    expect(told).toMatch(words);
  });
  it('never shows the password, right or wrong, in any of its forms', async () => {
    const wants = new SMTPServer({
      hideSTARTTLS: true,
      allowInsecureAuth: true,
      onAuth: (_auth: unknown, _session: unknown, done: (error: Error) => void) => done(new Error('Bad credentials')),
    } as never);
    await new Promise<void>((resolve) => wants.listen(0, '127.0.0.1', () => resolve()));
    const { port } = wants.server.address() as AddressInfo;
    const answer = await trial({ port, encryption: 'none', user: 'iris', password: 'mail-secret' });
    expect(answer.words).toMatch(/does not accept that name and password/);
    const text = JSON.stringify(answer);
    for (const form of ['mail-secret', '\u0000iris\u0000mail-secret'])
      for (const spelled of [form, Buffer.from(form).toString('base64')]) expect(text).not.toContain(spelled);
    await new Promise<void>((resolve) => wants.close(resolve));
  });
});
