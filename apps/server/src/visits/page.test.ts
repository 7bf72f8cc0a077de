import type { VisitorDoor } from '@quay/contract';
import { execFile } from 'node:child_process';
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest';
import { openMailbox, type Mailbox } from '../_fixtures/mailbox.js';
import { Mail } from '../platform/mail.js';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';

const run = promisify(execFile);
const PASSWORD = 'gravel-heron-silent-oar';
let office: TestOffice;
let iris: Client;
let mailbox: Mailbox;
let work: string;
beforeAll(async () => {
  work = mkdtempSync(join(tmpdir(), 'quay-page-'));
  mailbox = await openMailbox();
  office = await openOffice({ smtpUrl: mailbox.url });
  // The queue of mail goes by PostgreSQL's clock.
  office.clock.at = Date.now();
  iris = await office.signedIn('iris');
});
afterAll(async () => {
  await office.close();
  await mailbox.close();
  rmSync(work, { recursive: true, force: true });
});

const put = async (name: string, text: string, at = office.roots.projects) =>
  (await iris.upload(at, name, Buffer.from(text), '&conflict=keep-both')).body.id;
const folderOf = async (name: string) =>
  (await iris.ask<{ id: string }>('POST', `/api/folders/${office.roots.projects}/folders`, { name })).body.id;

describe('the language of the page', () => {
  const page = (token: string, accepted: string) =>
    office.client().fetch(`/s/${token}`, { headers: { 'accept-language': accepted } });
  it('is what the browser reads, with its texts in the page; the same for every token', async () => {
    const { token } = await office.publish(iris, [await put('language.txt', 'x')]);
    const answer = await page(token, 'de-CH, en;q=0.5');
    expect(answer.headers.get('vary')).toContain('Accept-Language');
    const html = await answer.text();
    expect(html).toContain('<html lang="de">');
    const [, data = ''] = /<script type="application\/json" id="texts">(.*?)<\/script>/s.exec(html) ?? [];
    expect(JSON.parse(data)).toMatchObject({ password: 'Passwort', 'files#other': '{count} Dateien' });
    const other = 'A'.repeat(22);
    expect((await (await page(other, 'de-CH, en;q=0.5')).text()).replaceAll(other, token)).toBe(html);
    expect(await (await page(token, 'xx')).text()).toContain('<html lang="en">');
    expect(await (await page(token, `de;q=${'9'.repeat(5000)}<script>`)).text()).toContain('<html lang=');
  });
});

describe('the page without script', () => {
  /** curl, as somebody would use it: follows where it is led, and keeps cookies. */
  const curl = async (jar: string, ...args: string[]) => {
    const { stdout } = await run('curl', ['-sS', '-L', '-b', join(work, jar), '-c', join(work, jar), ...args]);
    return stdout;
  };
  /** As a text browser of Debian's shows it. */
  const shown = async (html: string) => {
    const path = join(work, 'shown.html');
    writeFileSync(path, html);
    return (await run('w3m', ['-dump', '-T', 'text/html', '-I', 'UTF-8', '-O', 'UTF-8', path])).stdout;
  };

  it('asks for the password, lists and gives what is there', async () => {
    const id = await put('<b>plans</b> & "notes".txt'.replaceAll(/[<>"/]/g, "'"), 'the bytes');
    const share = await office.publish(iris, [id], {
      ...{ title: 'Tender <pack> & more', message: 'By "Friday".', password: PASSWORD, visitLimit: 3 },
    });
    const at = `${office.origin}/s/${share.token}/plain`;
    const asked = await curl('one', at);
    expect(asked).not.toContain('<pack>');
    const words = await shown(asked);
    for (const part of ['Tender <pack> & more', 'Password', 'one of 3 visits left']) expect(words).toContain(part);
    expect(words).not.toContain('By "Friday".');
    const wrong = await curl('one', '--data-urlencode', 'password=not that', at);
    expect(await shown(wrong)).toContain('That is not the password.');
    expect(wrong).not.toContain('files/');
    const inside = await curl('one', '--data-urlencode', `password=${PASSWORD}`, at);
    expect(await shown(inside)).toContain('By "Friday".');
    const [, path] = /href="(files\/[0-9a-f-]{36})"/.exec(inside) ?? [];
    expect(await curl('one', `${office.origin}/s/${share.token}/${path}`)).toBe('the bytes');
    // To come back is no other visit.
    expect(await shown(await curl('one', at))).toContain('notes');
    const door = (await (await office.client().fetch(`/s/${share.token}/door`)).json()) as VisitorDoor;
    expect(door.visitsLeft).toBe(2);
  });

  it('speaks the language of the browser, and tells of every state that there is', async () => {
    const share = await office.publish(iris, [await put('german.txt', 'x')]);
    const at = `${office.origin}/s/${share.token}/plain`;
    const german = ['-H', 'Accept-Language: de'];
    expect(await shown(await curl('two', ...german, at))).toMatch(/Offen bis|Öffnen/);
    await iris.ask('PATCH', `/api/shares/${share.id}`, { withdrawn: true });
    expect(await shown(await curl('two', ...german, at))).toContain('hat diese Freigabe zurückgezogen');
    expect(await shown(await curl('two', ...german, `${office.origin}/s/${'A'.repeat(22)}/plain`))).toContain(
      'gibt es keine Freigabe',
    );
  });

  it('has a code sent to whoever it is for, and takes it', async () => {
    const audience = { kind: 'listed', listed: ['m.hale@fenway.example'], blocked: [], members: [] };
    const share = await office.publish(iris, [await put('coded.txt', 'x')], { audience, password: PASSWORD });
    const at = `${office.origin}/s/${share.token}/plain`;
    const send = (...fields: string[]) => curl('three', ...fields.flatMap((f) => ['--data-urlencode', f]), at);
    expect(await shown(await curl('three', at))).toContain('Your mail address');
    const wrong = await send('password=not that', 'address=m.hale@fenway.example');
    expect(await shown(wrong)).toContain('That is not the password.');
    expect(await shown(await send(`password=${PASSWORD}`, 'address=nobody'))).toContain('no mail address');
    const asked = await send(`password=${PASSWORD}`, 'address=M.Hale@fenway.example');
    expect(await shown(asked)).toContain('a code is on its way there');
    const [, ticket = ''] = /name="ticket" value="([^"]+)"/.exec(asked) ?? [];
    expect(asked).not.toContain(PASSWORD);
    const proof = [`password=${PASSWORD}`, 'address=m.hale@fenway.example', `ticket=${ticket}`];
    const again = await send(...proof, 'code=12345');
    expect(await shown(again)).toContain('A code has six digits.');
    // The form is there again, with what was asked for before.
    expect(again).toContain(`value="${ticket}"`);
    expect(await shown(await send(...proof, 'code=000000'))).toContain('That is not the code');
    office.app.get(Mail).hurry();
    const code = await vi.waitFor(() => {
      const found = /^\d{6}$/m.exec(mailbox.mails.at(-1)?.text ?? '')?.[0];
      if (!found) throw new Error('no code came');
      return found;
    }, 60_000);
    const inside = await send(...proof, `code=${code.slice(0, 3)} ${code.slice(3)}`);
    expect(await shown(inside)).toContain('For m.hale@fenway.example.');
    expect(await shown(inside)).toContain('coded.txt');
  });

  it('is opened by a page of its own alone, and by nothing else than a password', async () => {
    const share = await office.publish(iris, [await put('own.txt', 'x')], { password: PASSWORD });
    const post = (body: string, headers: Record<string, string> = {}) =>
      office.client().fetch(`/s/${share.token}/plain`, {
        method: 'POST',
        redirect: 'manual',
        headers: { 'content-type': 'application/x-www-form-urlencoded', ...headers },
        body,
      });
    expect((await post(`password=${PASSWORD}`, { origin: 'https://elsewhere.example' })).status).toBe(403);
    for (const body of ['', 'password=', 'password[a]=1', 'password=a&password=b', `password=${'x'.repeat(9000)}`]) {
      const answer = await post(body);
      expect([400, 401, 413], body.slice(0, 30)).toContain(answer.status);
      expect(answer.headers.get('set-cookie')).toBeNull();
    }
    const opened = await post(`password=${PASSWORD}`, { origin: office.origin });
    expect([opened.status, opened.headers.get('location')]).toEqual([303, 'plain']);
    expect(opened.headers.get('set-cookie')).toMatch(/HttpOnly/i);
  });
});

describe('what is taken together', () => {
  it('is what was picked, each file known as taken; and nothing of another share', async () => {
    const folder = await folderOf('Picked');
    const [one, two, three] = [
      await put('one.txt', '1', folder),
      await put('two.txt', '2', folder),
      await put('three.txt', '3', folder),
    ];
    const elsewhere = await put('elsewhere.txt', 'no');
    const share = await office.publish(iris, [folder]);
    const visitor = office.client();
    await visitor.ask('POST', `/s/${share.token}/open`, { password: null });
    const take = (ids: string[]) =>
      visitor.fetch(`/s/${share.token}/all.zip?${ids.map((id) => `ids=${id}`).join('&')}`);
    const answer = await take([one, three, elsewhere]);
    const path = join(work, 'picked.zip');
    writeFileSync(path, Buffer.from(await answer.arrayBuffer()));
    expect((await run('unzip', ['-Z1', path])).stdout.trim().split('\n').sort()).toEqual([
      'Picked/one.txt',
      'Picked/three.txt',
    ]);
    const taken = await office.db.query<{ node_id: string }[]>(
      'SELECT f.node_id FROM visit_file f JOIN visit v ON v.id = f.visit_id WHERE v.share_id = $1 ORDER BY 1',
      [share.id],
    );
    expect(taken.map((t) => t.node_id)).toEqual([one, three].sort());
    expect((await take([elsewhere])).status).toBe(404);
    expect((await take(['../../etc'])).status).toBe(400);
    expect((await take([two, two])).status).toBe(400);
    expect((await take(Array.from({ length: 151 }, () => crypto.randomUUID()))).status).toBe(400);
    expect((await office.client().fetch(`/s/${share.token}/all.zip?ids=${one}`)).status).toBe(401);
  });

  it('is what its checksums say (coreutils: sha256sum -c)', async () => {
    const folder = await folderOf('Summed up');
    for (const name of ['plan ä.txt', 'b.csv']) await put(name, `of ${name}`, folder);
    const share = await office.publish(iris, [folder]);
    const visitor = office.client();
    await visitor.ask('POST', `/s/${share.token}/open`, { password: null });
    const at = mkdtempSync(join(work, 'sums-'));
    for (const name of ['SHA256SUMS', 'all.zip'])
      writeFileSync(
        join(at, name),
        Buffer.from(await (await visitor.fetch(`/s/${share.token}/${name}`)).arrayBuffer()),
      );
    await run('unzip', ['-q', 'all.zip'], { cwd: at });
    const { stdout } = await run('sha256sum', ['-c', '--strict', 'SHA256SUMS'], { cwd: at });
    expect(stdout.trim().split('\n').sort()).toEqual(['Summed up/b.csv: OK', 'Summed up/plan ä.txt: OK']);
    expect(readFileSync(join(at, 'Summed up/b.csv'), 'utf8')).toBe('of b.csv');
    expect((await office.client().fetch(`/s/${share.token}/SHA256SUMS`)).status).toBe(401);
  });
});
