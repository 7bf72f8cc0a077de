import { tokenFromBytes } from '@quay/core';
import type { ShareSheet, VisitorDoor } from '@quay/contract';
import { execFile } from 'node:child_process';
import { createHash, randomBytes } from 'node:crypto';
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { openOffice, START, type Client, type TestOffice } from '../_fixtures/office.js';

const HOUR = 3_600_000;
let office: TestOffice;
let iris: Client;
let folder = '';
let plan = '';
const bytes = randomBytes(400_000);

beforeAll(async () => {
  office = await openOffice();
  iris = await office.signedIn('iris');
  folder = (
    await iris.ask<{ id: string }>('POST', `/api/folders/${office.roots.projects}/folders`, { name: 'Photographs' })
  ).body.id;
  await iris.upload(folder, '001.jpg', bytes);
  await iris.upload(folder, '.DS_Store', Buffer.from('litter'));
  plan = (await iris.upload(office.roots.projects, 'plan.pdf', Buffer.from('a plan'))).body.id;
});
afterAll(() => office.close());

const look = (visitor: Client, token: string) => visitor.ask<VisitorDoor>('GET', `/s/${token}/door`);
const open = (visitor: Client, token: string, password: string | null = null) =>
  visitor.ask<VisitorDoor>('POST', `/s/${token}/open`, { password });
const file = (visitor: Client, token: string, id: string) => visitor.ask('GET', `/s/${token}/files/${id}`);
const change = (id: string, part: object) => iris.ask<ShareSheet>('PATCH', `/api/shares/${id}`, part);
const at = (ms: number) => new Date(office.clock.now() + ms).toISOString();

describe('a visit', () => {
  it('shows the door first, then the files with their hashes, and the bytes are the same', async () => {
    const share = await office.publish(iris, [folder, plan], { password: 'gravel-heron-silent-oar' });
    const visitor = office.client();
    const door = await look(visitor, share.token);
    expect(door.body).toMatchObject({
      office: 'Saltmarsh Survey',
      sender: 'Iris Ward',
      title: 'Mill Lane drawings',
      message: '',
      state: 'open',
      needsPassword: true,
      contents: null,
    });
    const { body } = await open(visitor, share.token, 'gravel-heron-silent-oar');
    expect(body.message).toBe('As agreed.');
    expect(body.contents?.files.map((f) => f.path)).toEqual(['Photographs/001.jpg', 'plan.pdf']);
    const first = body.contents?.files[0] as { id: string; sha256: string };
    expect(first.sha256).toBe(createHash('sha256').update(bytes).digest('hex'));
    const got = Buffer.from(await (await visitor.fetch(`/s/${share.token}/files/${first.id}`)).arrayBuffer());
    expect(got.equals(bytes)).toBe(true);
    const range = await visitor.fetch(`/s/${share.token}/files/${first.id}`, { headers: { range: 'bytes=100-199' } });
    expect([range.status, Buffer.from(await range.arrayBuffer()).equals(bytes.subarray(100, 200))]).toEqual([
      206,
      true,
    ]);
  });
  it('gives everything as one archive of exactly the announced size that unzip -t passes', async () => {
    const share = await office.publish(iris, [folder, plan]);
    const visitor = office.client();
    const { body } = await open(visitor, share.token);
    const response = await visitor.fetch(`/s/${share.token}/all.zip`);
    const zip = Buffer.from(await response.arrayBuffer());
    expect([zip.length, Number(response.headers.get('content-length'))]).toEqual([
      body.contents?.archiveBytes,
      body.contents?.archiveBytes,
    ]);
    const out = mkdtempSync(join(tmpdir(), 'visit-'));
    writeFileSync(join(out, 'all.zip'), zip);
    const { stdout } = await promisify(execFile)('unzip', ['-t', join(out, 'all.zip')]);
    expect(stdout).toContain('No errors detected');
    expect(stdout).not.toContain('DS_Store');
    rmSync(out, { recursive: true });
  });
  it('is one however often the page is loaded, and a new one in another browser or after twelve hours', async () => {
    const share = await office.publish(iris, [plan], { visitLimit: 5 });
    const visitor = office.client();
    for (let i = 0; i < 3; i += 1) await open(visitor, share.token);
    expect((await look(visitor, share.token)).body.visitsLeft).toBe(4);
    await open(office.client(), share.token);
    expect((await look(visitor, share.token)).body.visitsLeft).toBe(3);
    office.clock.advance(12 * HOUR);
    expect((await look(visitor, share.token)).body.contents).toBeNull();
    await open(visitor, share.token);
    expect((await look(visitor, share.token)).body.visitsLeft).toBe(2);
  });
  it('opens nothing but its own share', async () => {
    const [one, other] = [await office.publish(iris, [folder]), await office.publish(iris, [plan])];
    const visitor = office.client();
    await open(visitor, one.token);
    expect((await file(visitor, one.token, plan)).body.code).toBe('share.no-such-file');
    const stolen = visitor.cookieHeader(`/s/${one.token}/x`);
    const tried = await fetch(`${office.origin}/s/${other.token}/files/${plan}`, { headers: { cookie: stolen } });
    expect(tried.status).toBe(401);
  });
  it('without a visit there are no bytes', async () => {
    const share = await office.publish(iris, [plan]);
    expect((await file(office.client(), share.token, plan)).body.code).toBe('share.not-opened');
    expect((await office.client().ask('GET', `/s/${share.token}/all.zip`)).body.code).toBe('share.not-opened');
  });
  it('litter is never published', async () => {
    await office.db.query('UPDATE node SET litter = litter');
    const [{ id }] = await office.db.query<[{ id: string }]>("SELECT id FROM node WHERE name = '.DS_Store'");
    const share = await office.publish(iris, [folder]);
    const visitor = office.client();
    await open(visitor, share.token);
    expect((await file(visitor, share.token, id)).body.code).toBe('share.no-such-file');
    await expect(office.publish(iris, [id])).rejects.toThrow('item.litter');
  });
});

describe('every refusal says why', () => {
  it('not yet, then open, then closed, as the clock moves; half-open at both ends', async () => {
    const share = await office.publish(iris, [plan], { window: { opensAt: at(HOUR), closesAt: at(2 * HOUR) } });
    const visitor = office.client();
    expect((await open(visitor, share.token)).body).toMatchObject({
      status: 403,
      code: 'share.not-yet',
      opensAt: at(HOUR),
    });
    office.clock.advance(HOUR - 1);
    expect((await open(visitor, share.token)).body.code).toBe('share.not-yet');
    office.clock.advance(1);
    expect((await open(visitor, share.token)).status).toBe(200);
    office.clock.advance(HOUR - 1);
    expect((await file(visitor, share.token, plan)).status).toBe(200);
    office.clock.advance(1);
    expect((await file(visitor, share.token, plan)).body).toMatchObject({ status: 410, code: 'share.closed' });
    expect((await open(office.client(), share.token)).body.code).toBe('share.closed');
  });
  it('used up: N visits are served and the next is refused; those served go on', async () => {
    const share = await office.publish(iris, [plan], { visitLimit: 2 });
    const visitors = [office.client(), office.client(), office.client()];
    const codes = [];
    for (const visitor of visitors) codes.push((await open(visitor, share.token)).status);
    expect(codes).toEqual([200, 200, 410]);
    expect((await open(visitors[2] as Client, share.token)).body.code).toBe('share.used-up');
    expect((await file(visitors[1] as Client, share.token, plan)).status).toBe(200);
  });
  it('20 visitors racing for the last visit: one wins', async () => {
    const share = await office.publish(iris, [plan], { visitLimit: 3 });
    for (let i = 0; i < 2; i += 1) await open(office.client(), share.token);
    const answers = await Promise.all(Array.from({ length: 20 }, () => open(office.client(), share.token)));
    expect(answers.filter((a) => a.status === 200)).toHaveLength(1);
    // All come from one place, where so many may wait at once: the others are told to come again.
    const refused = answers.filter((a) => a.status !== 200).map((a) => a.body.code);
    expect(new Set([...refused, 'turns.too-many'])).toEqual(new Set(['share.used-up', 'turns.too-many']));
    expect((await iris.ask<ShareSheet>('GET', `/api/shares/${share.id}`)).body).toMatchObject({
      visitsUsed: 3,
      state: 'usedUp',
    });
  });
  it('withdrawn: at once, also for visits under way; and open again when it is taken back', async () => {
    const share = await office.publish(iris, [plan]);
    const visitor = office.client();
    await open(visitor, share.token);
    expect((await file(visitor, share.token, plan)).status).toBe(200);
    await change(share.id, { withdrawn: true });
    expect((await file(visitor, share.token, plan)).body.code).toBe('share.withdrawn');
    await change(share.id, { withdrawn: false });
    expect((await file(visitor, share.token, plan)).status).toBe(200);
  });
  it('broken: while a folder above an item is in the trash', async () => {
    const { body: outer } = await iris.ask<{ id: string }>('POST', `/api/folders/${office.roots.projects}/folders`, {
      name: 'Outer',
    });
    const { body: inner } = await iris.upload(outer.id, 'in.txt', Buffer.from('in'));
    const share = await office.publish(iris, [inner.id]);
    const visitor = office.client();
    await open(visitor, share.token);
    await iris.ask('POST', '/api/trash', { nodeIds: [outer.id] });
    expect((await file(visitor, share.token, inner.id)).body.code).toBe('share.broken');
    expect((await open(office.client(), share.token)).body.code).toBe('share.broken');
    await iris.ask('POST', '/api/trash/put-back', { nodeIds: [outer.id] });
    expect((await file(visitor, share.token, inner.id)).status).toBe(200);
  });
  it('a wrong password: with the tries left, and after ten in a minute a wait for that source, right or wrong', async () => {
    const share = await office.publish(iris, [plan], { password: 'gravel-heron-silent-oar' });
    const left = [];
    for (let i = 0; i < 10; i += 1)
      left.push((await open(office.client(), share.token, `guess ${i}`)).body['triesLeft']);
    expect(left).toEqual([9, 8, 7, 6, 5, 4, 3, 2, 1, 0]);
    expect((await open(office.client(), share.token, 'gravel-heron-silent-oar')).body).toMatchObject({
      status: 429,
      code: 'tries.too-many',
      retryAfterSeconds: 60,
    });
    office.clock.advance(60_000);
    expect((await open(office.client(), share.token, 'gravel-heron-silent-oar')).status).toBe(200);
    expect((await open(office.client(), share.token)).body.code).toBe('share.password-needed');
  });
  it('right passwords are not counted as tries', async () => {
    const share = await office.publish(iris, [plan], { password: 'gravel-heron-silent-oar' });
    for (let i = 0; i < 15; i += 1)
      expect((await open(office.client(), share.token, 'gravel-heron-silent-oar')).status).toBe(200);
  });
  it('a new password ends the visits that the old one let in', async () => {
    const share = await office.publish(iris, [plan], { password: 'gravel-heron-silent-oar' });
    const visitor = office.client();
    await open(visitor, share.token, 'gravel-heron-silent-oar');
    await change(share.id, { password: 'kestrel-pebble-thistle-cart' });
    expect((await file(visitor, share.token, plan)).body.code).toBe('share.not-opened');
    expect((await open(visitor, share.token, 'gravel-heron-silent-oar')).body.code).toBe('share.wrong-password');
  });
  it('unknown, malformed and cut-off links all get the same answer', async () => {
    const { token } = await office.publish(iris, [plan]);
    const almost = `${token.slice(0, 21)}${token.endsWith('0') ? '1' : '0'}`;
    const answers = await Promise.all(
      [tokenFromBytes(randomBytes(16)), 'x', 'a'.repeat(5000), almost, '%00', '..%2f..'].map(
        async (t) => (await look(office.client(), t)).body,
      ),
    );
    for (const body of answers) expect({ ...body, requestId: '' }).toEqual({ ...answers[0], requestId: '' });
    expect(answers[0]).toMatchObject({ status: 404, code: 'share.not-found' });
  });
  it('trying many links from one address is slowed down', async () => {
    office.clock.advance(60_000);
    const statuses = [];
    for (let i = 0; i < 62; i += 1)
      statuses.push((await look(office.client(), tokenFromBytes(randomBytes(16)))).status);
    expect([statuses[0], statuses[59], statuses[60]]).toEqual([404, 404, 429]);
  });
});

describe('live', () => {
  it('an open page hears of a withdrawal at once, and of nothing secret', async () => {
    const share = await office.publish(iris, [plan]);
    const stop = new AbortController();
    const visitor = office.client();
    await open(visitor, share.token);
    const response = await visitor.fetch(`/s/${share.token}/events`, { signal: stop.signal });
    const reader = (response.body as ReadableStream<Uint8Array>).getReader();
    await reader.read();
    const heard = reader.read();
    await change(share.id, { withdrawn: true });
    expect(Buffer.from((await heard).value as Uint8Array).toString()).toBe('data: {"changed":true}\n\n');
    stop.abort();
  });
  it('what another server process commits is heard too', async () => {
    const second = await openOfficeTwice();
    const share = await office.publish(iris, [plan]);
    const visitor = office.client();
    await open(visitor, share.token);
    await second.ask('PATCH', `/api/shares/${share.id}`, { withdrawn: true });
    let code: string | undefined;
    for (let i = 0; i < 40 && code !== 'share.withdrawn'; i += 1) {
      code = (await file(visitor, share.token, plan)).body.code;
      await new Promise((r) => setTimeout(r, 25));
    }
    expect(code).toBe('share.withdrawn');
  });
});

/** A second server process's worth of application on the same database, signed in as iris. */
async function openOfficeTwice(): Promise<Client> {
  const { Test } = await import('@nestjs/testing');
  const { AppModule } = await import('../app.module.js');
  const { Clock } = await import('../platform/clock.js');
  const { configureApp } = await import('../web.js');
  const { Client: Browser, PASSWORDS } = await import('../_fixtures/office.js');
  const module = await Test.createTestingModule({ imports: [AppModule.with(office.config)] })
    .overrideProvider(Clock)
    .useValue(office.clock)
    .compile();
  const app = module.createNestApplication({ bodyParser: false, forceCloseConnections: true, logger: false });
  configureApp(app, office.config);
  await app.listen(0, '127.0.0.1');
  closing.push(() => app.close());
  const by = new Browser(await app.getUrl());
  await by.ask('POST', '/api/session', { signInName: 'iris', password: PASSWORDS.iris });
  return by;
}
const closing: (() => Promise<void>)[] = [];
afterAll(async () => {
  for (const close of closing) await close();
});

describe('the record', () => {
  it('holds who opened what, without any password or token', async () => {
    const share = await office.publish(iris, [plan], { password: 'gravel-heron-silent-oar' });
    const visitor = office.client();
    await open(visitor, share.token, 'wrong');
    await open(visitor, share.token, 'gravel-heron-silent-oar');
    for (let i = 0; i < 3; i += 1) await file(visitor, share.token, plan);
    const { body } = await iris.ask<ShareSheet>('GET', `/api/shares/${share.id}`);
    expect(body.history.map((h) => h.kind)).toEqual(['share.downloaded', 'share.visited', 'share.published']);
    expect(body.visits).toMatchObject([{ files: 1, from: '127.0.0.1' }]);
    const dump = JSON.stringify(await office.db.query('SELECT * FROM ledger_entry'));
    expect(dump).not.toContain('gravel-heron');
    expect(dump).not.toContain(share.token);
    expect(office.clock.now()).toBeGreaterThan(START);
  });
});
