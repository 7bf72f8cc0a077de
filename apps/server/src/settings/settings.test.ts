import { PNG } from 'pngjs';
import type {
  MailSettings,
  MailTrialAnswer,
  StoreSettings,
  StoreSummary,
  About,
  LogoPicture,
  SessionRow,
  WouldDo,
} from '@quay/contract';
import { existsSync, readFileSync } from 'node:fs';
import { join, resolve } from 'node:path';
import type { AddressInfo } from 'node:net';
import { SMTPServer } from 'smtp-server';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { openOffice, type Client, type TestOffice, PASSWORDS } from '../_fixtures/office.js';
import { Events } from '../platform/events/events.js';
import { Mail } from '../platform/mail.js';

// A mail server of another maker, which wants a password and remembers what it was told.
const told: string[] = [];
const taken: string[] = [];
const smtp = new SMTPServer({
  hideSTARTTLS: true,
  allowInsecureAuth: true,
  authOptional: true,
  onAuth: ({ username, password }, _session, done) => {
    told.push(`${username} ${password}`);
    done(null, { user: username ?? '' });
  },
  onData: (stream, _session, done) => {
    let text = '';
    stream.on('data', (piece: Buffer) => (text += piece.toString()));
    stream.on('end', () => (taken.push(text), done()));
  },
});

let office: TestOffice;
let iris: Client;
let tomas: Client;
let port: number;
beforeAll(async () => {
  await new Promise<void>((resolve) => smtp.listen(0, '127.0.0.1', resolve));
  ({ port } = smtp.server.address() as AddressInfo);
  office = await openOffice();
  // Mail is what a test hands in, and nothing that the office tells by itself.
  await office.db.query(`UPDATE person SET notices = '{}'`);
  iris = await office.signedIn('iris');
  tomas = await office.signedIn('tomas');
});
afterAll(async () => {
  await office.close();
  await new Promise<void>((resolve) => smtp.close(resolve));
});

const lastWords = async () =>
  (await iris.ask<{ entries: { words: string }[] }>('GET', '/api/ledger?limit=1')).body.entries[0]?.words;
const OFFICE = { name: 'Saltmarsh Survey', zone: 'Europe/London', homes: true, words: '' };

describe('the office', () => {
  it('is changed for everybody at once, and it is written down what that did', async () => {
    const heard: string[] = [];
    const hearing = office.app.get(Events).stream.subscribe((e) => heard.push(`${e.topic} ${e.id}`));
    const asked = { ...OFFICE, name: 'Saltmarsh Survey Partnership', zone: 'Europe/Oslo' };
    expect((await iris.ask('PUT', '/api/settings/office', asked)).body).toMatchObject(asked);
    expect(heard).toContain('session office');
    expect((await tomas.ask('GET', '/api/session')).body).toMatchObject({
      office: { name: 'Saltmarsh Survey Partnership', zone: 'Europe/Oslo' },
    });
    expect(await lastWords()).toContain('Times read 1 h later.');
    hearing.unsubscribe();
    await iris.ask('PUT', '/api/settings/office', OFFICE);
  });
  it('stays as it is when nothing is changed, or what is asked for is nothing', async () => {
    const before = (await iris.ask<{ entries: number }>('GET', '/api/ledger/chain')).body.entries;
    await iris.ask('PUT', '/api/settings/office', OFFICE);
    const refused = await iris.ask('PUT', '/api/settings/office', { ...OFFICE, zone: 'Mars/Olympus' });
    expect([refused.status, refused.body.errors?.[0]?.field]).toEqual([400, 'zone']);
    expect((await iris.ask<{ entries: number }>('GET', '/api/ledger/chain')).body.entries).toBe(before);
  });
});

describe('the pages of visitors', () => {
  const picture = PNG.sync.write(new PNG({ width: 40, height: 12 }));
  it('show logo and words of the office, whatever the share; the logo is kept by browsers until it is another', async () => {
    const iris = await office.signedIn('iris');
    const { body } = await iris.upload(office.roots.projects, 'Plan.txt', Buffer.from('plan'));
    const { token } = await office.publish(iris, [body.id], { password: 'weir-lantern-copper' });
    const door = async () =>
      (await office.client().ask<{ logo: string | null; officeWords: string }>('GET', `/s/${token}/door`)).body;
    expect(await door()).toMatchObject({ logo: null, officeWords: '' });
    expect((await office.client().fetch(`/s/${token}/logo`)).status).toBe(404);
    await iris.ask('PUT', '/api/settings/office', { ...OFFICE, words: 'Staithe Lane 4\nAsk Iris Ward' });
    expect((await iris.ask('PUT', '/api/settings/logo', { png: picture.toString('base64') })).status).toBe(200);
    expect(await lastWords()).toContain('put a logo on the pages of visitors');
    const { logo, officeWords } = await door();
    expect(officeWords).toBe('Staithe Lane 4\nAsk Iris Ward');
    const shown = await office.client().fetch(`/s/${token}/logo?v=${logo}`);
    expect([shown.headers.get('content-type'), shown.headers.get('cache-control')]).toEqual([
      'image/png',
      'private, max-age=31536000, immutable',
    ]);
    expect(PNG.sync.read(Buffer.from(await shown.arrayBuffer()))).toMatchObject({ width: 40, height: 12 });
    const other = await office.client().fetch(`/s/${'A'.repeat(22)}/logo?v=older`);
    expect([other.status, other.headers.get('cache-control')]).toEqual([200, 'no-store']);
    await iris.ask('DELETE', '/api/settings/logo');
    expect(await door()).toMatchObject({ logo: null });
    await iris.ask('PUT', '/api/settings/office', OFFICE);
  });
  it('take no picture that is something else or too large, and keep the one that is there', async () => {
    const iris = await office.signedIn('iris');
    await iris.ask('PUT', '/api/settings/logo', { png: picture.toString('base64') });
    const svg = Buffer.from('<svg xmlns="http://www.w3.org/2000/svg" onload="alert(1)"/>').toString('base64');
    const refused = await iris.ask('PUT', '/api/settings/logo', { png: svg });
    expect([refused.status, refused.body.errors?.[0]?.code]).toEqual([400, 'logo.unreadable']);
    const large = PNG.sync.write(new PNG({ width: 900, height: 12 })).toString('base64');
    expect((await iris.ask('PUT', '/api/settings/logo', { png: large })).body.detail).toContain('900 by 12 pixels');
    const long = Buffer.alloc(200_000).toString('base64');
    expect((await iris.ask('PUT', '/api/settings/logo', { png: long })).status).toBe(413);
    expect((await iris.ask<LogoPicture>('GET', '/api/settings/logo')).body.png).not.toBeNull();
    await iris.ask('DELETE', '/api/settings/logo');
  });
});

describe('mail', () => {
  const server = () => ({
    ...{ host: '127.0.0.1', port, encryption: 'none', user: 'quay', sender: 'quay@saltmarsh.example' },
  });
  const handIn = () =>
    office.app
      .get(Events)
      .change((tx) => office.app.get(Mail).handIn(tx, { to: 'tomas@saltmarsh.example', subject: 'X', text: 'Hello.' }))
      .then(() => office.app.get(Mail).hurry());

  it('goes out by what is named here, with the password that was typed', async () => {
    await handIn();
    const { body } = await iris.ask<MailSettings>('PUT', '/api/settings/mail', {
      ...server(),
      password: 'mail-secret',
    });
    expect(body).toMatchObject({ server: server(), hasPassword: true, fixed: false });
    expect(JSON.stringify(body)).not.toContain('mail-secret');
    await handIn();
    for (const late = Date.now() + 15_000; taken.length === 0 && Date.now() < late;)
      await new Promise((r) => setTimeout(r, 100));
    // What was handed in before there was a server was handed to nobody.
    expect([taken.length, told.at(-1)]).toEqual([1, 'quay mail-secret']);
  });
  it('keeps the password for the same machine and name, and tells no other one', async () => {
    await iris.ask('PUT', '/api/settings/mail', { ...server(), sender: 'office@saltmarsh.example' });
    const trial = (part: object) =>
      iris.ask<MailTrialAnswer>('POST', '/api/settings/mail/trial', {
        ...{ ...server(), to: 'iris@saltmarsh.example', ...part },
      });
    expect((await trial({})).body.sent).toBe(true);
    expect(told.at(-1)).toBe('quay mail-secret');
    told.length = 0;
    // The same machine under another name could be anybody's.
    await trial({ host: 'localhost' });
    await trial({ user: 'somebody' });
    await trial({ encryption: 'starttls' });
    const next = await iris.ask<MailSettings>('PUT', '/api/settings/mail', { ...server(), port: port + 1 });
    expect(next.body.hasPassword).toBe(false);
    expect(told.filter((t) => t.includes('mail-secret'))).toEqual([]);
    const other = await iris.ask<MailSettings>('PUT', '/api/settings/mail', {
      ...server(),
      host: 'mail.other.example',
    });
    expect(other.body.hasPassword).toBe(false);
  });
  it('is sent no more when that is asked for', async () => {
    expect((await iris.ask<MailSettings>('DELETE', '/api/settings/mail')).body.server).toBeNull();
    expect(await lastWords()).toContain('took the mail server away');
    const before = taken.length;
    await handIn();
    await new Promise((r) => setTimeout(r, 300));
    expect(taken.length).toBe(before);
  });
  it('stays as the configuration says, where it says something', async () => {
    const fixed = await openOffice({ smtpUrl: `smtp://127.0.0.1:${port}` });
    const admin = await fixed.signedIn('iris');
    expect((await admin.ask<MailSettings>('GET', '/api/settings/mail')).body.fixed).toBe(true);
    for (const [method, body] of [['PUT', server()] as const, ['DELETE', undefined] as const])
      expect((await admin.ask(method, '/api/settings/mail', body)).body.code).toBe('mail.fixed');
    await fixed.close();
  });
});

describe('stores', () => {
  const make = (name: string) => iris.ask<StoreSettings[]>('POST', '/api/settings/stores', { name });
  it('are made, and all staff edit in them at once', async () => {
    expect((await make('Surveys')).status).toBe(201);
    const seen = (await tomas.ask<StoreSummary[]>('GET', '/api/stores')).body.find((s) => s.name === 'Surveys');
    expect(seen?.level).toBe('edit');
    expect((await tomas.upload(seen?.rootId as string, 'a.txt', Buffer.from('a'))).status).toBe(201);
  });
  it('have a name each, however it is spelled', async () => {
    expect((await make('surveys')).body.code).toBe('store.name-taken');
    expect((await make('a/b')).status).toBe(400);
    const both = await Promise.all([make('Drawings'), make('drawings')]);
    expect(both.map((b) => b.status).sort()).toEqual([201, 400]);
  });
  it('are renamed with their own folder, and homes are not', async () => {
    const surveys = (await iris.ask<StoreSettings[]>('GET', '/api/settings/stores')).body.find(
      (s) => s.name === 'Surveys',
    ) as StoreSettings;
    const rename = (id: string, name: string) => iris.ask('PATCH', `/api/settings/stores/${id}`, { name });
    expect((await rename(surveys.id, 'Land surveys')).status).toBe(200);
    expect((await tomas.ask('GET', `/api/folders/${surveys.rootId}`)).body).toMatchObject({
      folder: { name: 'Land surveys' },
    });
    expect(await lastWords()).toContain('renamed the store Surveys to Land surveys');
    const home = (await tomas.ask<StoreSummary[]>('GET', '/api/stores')).body.find((s) => s.kind === 'home');
    expect((await rename(home?.id as string, 'Mine')).status).toBe(404);
  });
});

describe('those who sign in', () => {
  const kept = { sessionDays: 14, leastStrength: 3, factorWanted: 'nobody', signInOutside: 'everybody' };
  it('see where they are signed in, and end it elsewhere; nobody ends those of others', async () => {
    const [here, there] = [await office.signedIn('rosa'), await office.signedIn('rosa')];
    const tomas = await office.signedIn('tomas');
    const rows = (await here.ask<SessionRow[]>('GET', '/api/session/all')).body;
    expect(rows.map((r) => r.here).sort()).toEqual([false, true]);
    const other = rows.find((r) => !r.here) as SessionRow;
    expect(other).toMatchObject({ from: expect.stringMatching(/127\.0\.0\.1/), browser: 'Unknown browser' });
    expect((await tomas.ask('DELETE', `/api/session/all/${other.id}`)).status).toBe(404);
    expect((await here.ask<SessionRow[]>('DELETE', `/api/session/all/${other.id}`)).body).toHaveLength(1);
    expect((await there.ask('GET', '/api/session')).status).toBe(401);
    const again = await office.signedIn('rosa');
    expect((await here.ask<SessionRow[]>('DELETE', '/api/session/others')).body).toMatchObject([{ here: true }]);
    expect((await again.ask('GET', '/api/session')).status).toBe(401);
    expect((await here.ask('GET', '/api/session')).status).toBe(200);
  });
  it('are signed out by a shorter time, as was said before; a longer one keeps them', async () => {
    const rosa = await office.signedIn('rosa');
    office.clock.advance(5 * 86_400_000);
    const iris = await office.signedIn('iris');
    const shorter = { ...kept, sessionDays: 3 };
    const told = await iris.ask<WouldDo>('POST', '/api/settings/security/would-do', shorter);
    expect(told.body.words.at(-1)).toMatch(/^\d+ sessions? of \d+ (person|people) ends? now\.$/);
    expect((await rosa.ask('GET', '/api/session')).status).toBe(200);
    // Asked just now, that one lasts.
    const [row] = await office.db.query<{ id: string }[]>(
      `UPDATE session SET seen_at = seen_at - interval '5 days' WHERE person_id = (SELECT id FROM person WHERE sign_in_name = 'rosa') RETURNING id`,
    );
    expect(row).toBeDefined();
    expect((await iris.ask('PUT', '/api/settings/security', shorter)).body).toMatchObject(shorter);
    expect((await rosa.ask('GET', '/api/session')).status).toBe(401);
    expect((await iris.ask('GET', '/api/session')).status).toBe(200);
    await iris.ask('PUT', '/api/settings/security', { ...kept, sessionDays: 30 });
    office.clock.advance(20 * 86_400_000);
    expect((await iris.ask('GET', '/api/session')).status).toBe(200);
    office.clock.advance(31 * 86_400_000);
    expect((await iris.ask('GET', '/api/session')).status).toBe(401);
  });
  it('choose new passwords as hard to guess as the office asks', async () => {
    const iris = await office.signedIn('iris');
    await iris.ask('PUT', '/api/settings/security', { ...kept, leastStrength: 4 });
    const tomas = await office.signedIn('tomas');
    const change = (next: string) => tomas.ask('PUT', '/api/session/password', { current: PASSWORDS.tomas, next });
    // zxcvbn gives 3 of 4: good enough by default.
    const middling = 'plinth-heron';
    expect((await change(middling)).body.errors?.[0]?.code).toBe('password.weak');
    await iris.ask('PUT', '/api/settings/security', { ...kept, leastStrength: 2 });
    expect((await change(middling)).status).toBe(204);
    expect((await iris.ask('PUT', '/api/settings/security', { ...kept, leastStrength: 1 })).status).toBe(400);
    await iris.ask('PUT', '/api/settings/security', kept);
  });
});

describe('what is shipped', () => {
  it('is what is installed, each with the licence that its own manifest names; nothing that only builds and tests', async () => {
    const iris = await office.signedIn('iris');
    const { body } = await iris.ask<About>('GET', '/api/settings/about');
    const root = resolve(import.meta.dirname, '../../../..');
    const manifest = (path: string) =>
      JSON.parse(readFileSync(join(root, path, 'package.json'), 'utf8')) as {
        version: string;
        /** Older manifests name theirs in another way. */
        license?: string;
        dependencies: Record<string, string>;
      };
    for (const part of ['apps/server', 'apps/web'])
      for (const name of Object.keys(manifest(part).dependencies).filter((n) => !n.startsWith('@quay/'))) {
        const own = existsSync(join(root, part, 'node_modules', name));
        const { version, license: licence = 'see the package' } = manifest(
          `${own ? `${part}/` : ''}node_modules/${name}`,
        );
        expect(body.packages).toContainEqual({ name, version, licence });
      }
    for (const dev of ['vitest', 'eslint', 'prettier']) expect(body.packages.map((p) => p.name)).not.toContain(dev);
  });
});
