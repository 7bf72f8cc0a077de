import type { Accepted, DepositRow, IntakeSheet } from '@quay/contract';
import { createHash, randomBytes } from 'node:crypto';
import { request } from 'node:http';
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest';
import { folder } from '../_fixtures/acts.js';
import {
  askForFiles,
  doorOf,
  fileRefused,
  handIn,
  NO_ANSWERS,
  outsider,
  sendFile,
  type Outsider,
} from '../_fixtures/intakes.js';
import { openMailbox, type Mailbox } from '../_fixtures/mailbox.js';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';
import { Housekeeping } from '../platform/housekeeping.js';
import { Mail } from '../platform/mail.js';

let office: TestOffice;
let iris: Client;
let into: string;
let mailbox: Mailbox;
beforeAll(async () => {
  mailbox = await openMailbox();
  office = await openOffice({ smtpUrl: mailbox.url });
  office.clock.at = Date.now();
  iris = await office.signedIn('iris');
  into = await folder(iris, office.roots.projects, 'Attacked');
});
afterAll(async () => {
  await office.close();
  await mailbox.close();
});

const sheetOf = async (id: string) => (await iris.ask<IntakeSheet>('GET', `/api/intakes/${id}`)).body;
const TUS = { 'Tus-Resumable': '1.0.0' };

/** Begins a file by the bytes of the protocol (tus 1.0.0, creation). @returns where it goes on */
async function begun({ client, token }: Outsider, name: string, size: number): Promise<string> {
  const head = { 'Upload-Length': String(size), 'Upload-Metadata': `name ${Buffer.from(name).toString('base64')}` };
  const { headers } = await client.fetch(`/h/${token}/uploads`, { method: 'POST', headers: { ...TUS, ...head } });
  return new URL(headers.get('location') ?? '', office.origin).pathname;
}
const offsetOf = async ({ client }: Outsider, at: string): Promise<number> =>
  Number((await client.fetch(at, { method: 'HEAD', headers: TUS })).headers.get('upload-offset'));

/** Sends from an offset, and breaks the connection off after so many bytes; null: never. @returns the status, if any */
function patch({ client, token }: Outsider, at: string, bytes: Buffer, from: number, cutAfter: number | null) {
  return new Promise<number | null>((resolve) => {
    const sending = request(new URL(at, office.origin), {
      method: 'PATCH',
      headers: {
        ...{ ...TUS, 'Upload-Offset': String(from), 'Content-Type': 'application/offset+octet-stream' },
        ...{ 'Content-Length': String(bytes.length - from), Cookie: client.cookieHeader(`/h/${token}/`) },
      },
    });
    sending.on('response', (answer) => {
      answer.resume();
      resolve(answer.statusCode ?? null);
    });
    sending.on('error', () => resolve(null));
    sending.on('close', () => resolve(null));
    const part = bytes.subarray(from, cutAfter === null ? undefined : from + cutAfter);
    sending.write(part, () => {
      if (cutAfter === null) sending.end();
      else setTimeout(() => sending.destroy(), 5);
    });
  });
}

describe('somebody outside', () => {
  it('whose connection breaks fifty times hands in the same bytes', async () => {
    const intake = await askForFiles(iris, into);
    const somebody = await outsider(office, intake.token);
    const bytes = randomBytes(1_500_000);
    const at = await begun(somebody, 'broken.bin', bytes.length);
    for (let n = 0; n < 50; n += 1) await patch(somebody, at, bytes, await offsetOf(somebody, at), 25_000);
    // What was written when it broke is settled a moment later.
    let status: number | null = null;
    for (let tries = 0; tries < 50 && status !== 204; tries += 1)
      status = await patch(somebody, at, bytes, await offsetOf(somebody, at), null);
    expect(status).toBe(204);
    expect((await handIn(somebody)).status).toBe(200);
    const [deposit] = (await sheetOf(intake.id)).handedIn;
    expect(deposit?.files[0]?.sha256).toBe(createHash('sha256').update(bytes).digest('hex'));
  });

  it('takes no room for long with what they only announce', async () => {
    const limits = { fileBytes: 1000, files: 10, contributorBytes: 1000, allBytes: 1000, kinds: null };
    const intake = await askForFiles(iris, into, { limits });
    const at = await begun(await outsider(office, intake.token), 'never.bin', 1000);
    const other = await outsider(office, intake.token);
    expect(await fileRefused(other, 'mine.bin', randomBytes(900))).toBe('intake.full');
    await office.app.get(Housekeeping).tidy();
    expect(await fileRefused(other, 'mine.bin', randomBytes(900))).toBe('intake.full');
    office.clock.advance(16 * 60_000);
    await office.app.get(Housekeeping).tidy();
    expect(at).toContain('/uploads/');
    expect(await fileRefused(other, 'mine.bin', randomBytes(900))).toBe('taken in');
  });

  it('has no more on its way from one source than a few people would, whatever number they come as', async () => {
    const limits = { fileBytes: 1000, files: 10, contributorBytes: 1000, allBytes: 100_000, kinds: null };
    const intake = await askForFiles(iris, into, { limits });
    const all: Outsider[] = [];
    for (let i = 0; i < 6; i += 1) all.push(await outsider(office, intake.token));
    const [first, ...others] = all as [Outsider, ...Outsider[]];
    await sendFile(first, '0.bin', randomBytes(1000));
    for (const [i, other] of others.slice(0, 4).entries()) await begun(other, `${i}.bin`, 1000);
    const last = others.at(-1) as Outsider;
    expect(await fileRefused(last, 'more.bin', randomBytes(1000))).toBe('intake.source-full');
    await handIn(first);
    expect(await fileRefused(last, 'more.bin', randomBytes(1000))).toBe('taken in');
  });

  it('gets one receipt for two presses, and none for what has not arrived', async () => {
    const intake = await askForFiles(iris, into);
    const somebody = await outsider(office, intake.token);
    const at = await begun(somebody, 'half.bin', 1000);
    expect((await handIn(somebody)).body.code).toBe('deposit.arriving');
    await somebody.client.fetch(at, { method: 'DELETE', headers: TUS });
    await sendFile(somebody, 'whole.txt', Buffer.from('whole'));
    const both = await Promise.all([handIn(somebody), handIn(somebody)]);
    expect(both.map((a) => a.status).sort()).toEqual([200, 401]);
    expect((await sheetOf(intake.id)).handedIn).toHaveLength(1);
  });

  it('is cut off in the middle of a file when the intake is withdrawn', async () => {
    const intake = await askForFiles(iris, into);
    const somebody = await outsider(office, intake.token);
    const at = await begun(somebody, 'cut.bin', 3_000_000);
    const ended = new Promise<void>((resolve) => {
      const sending = request(new URL(at, office.origin), {
        method: 'PATCH',
        headers: {
          ...{ ...TUS, 'Upload-Offset': '0', 'Content-Type': 'application/offset+octet-stream' },
          ...{ 'Content-Length': '3000000', Cookie: somebody.client.cookieHeader(`/h/${intake.token}/`) },
        },
      });
      sending.on('error', () => resolve());
      sending.on('close', () => resolve());
      sending.write(randomBytes(100_000));
    });
    for (let tries = 0; tries < 100; tries += 1) {
      const [row] = await office.db.query<{ writer: string | null }[]>(
        'SELECT writer FROM deposit_file WHERE id = $1',
        [at.split('/').at(-1)],
      );
      if (row?.writer) break;
      await new Promise((resolve) => setTimeout(resolve, 20));
    }
    await iris.ask('PATCH', `/api/intakes/${intake.id}`, { withdrawn: true });
    await ended;
    const head = await somebody.client.fetch(at, { method: 'HEAD', headers: TUS });
    expect(head.status).toBe(410);
  });

  it('puts nothing into a page, a mail or a folder that they were not asked for', async () => {
    await office.db.query(`UPDATE person SET notices = '{handed-in}' WHERE sign_in_name = 'iris'`);
    mailbox.mails.splice(0);
    const intake = await askForFiles(iris, into, { title: 'Photographs <b>of</b> Monday' });
    const somebody = await outsider(office, intake.token);
    await sendFile(somebody, '<img src=x onerror=alert(1)>.txt', Buffer.from('x'), '<script>');
    const name = '"><script>alert(1)</script> {{date}} ../..';
    // A line end would be another header (RFC 5322 §2.2).
    const injected = { ...NO_ANSWERS, name, mail: 'zoe@brookline.example\r\nBcc: everybody@saltmarsh.example' };
    expect((await somebody.client.ask('POST', `/h/${intake.token}/hand-in`, injected)).status).toBe(400);
    const mail = 'zoe@brookline.example';
    const { path } = (await handIn(somebody, { name, mail })).body;
    const page = await (await office.client().fetch(`/h/${intake.token}/${path}`)).text();
    expect(page).not.toMatch(/<script>|<img src=x|<b>of/);
    office.app.get(Mail).hurry();
    // The receipt, and the notice to whoever asked.
    await vi.waitFor(() => expect(mailbox.mails).toHaveLength(2), 60_000);
    const to = mailbox.mails.map((m) => (m.to as { text: string }).text).sort();
    expect(to).toEqual(['iris@saltmarsh.example', mail]);
    const receipt = mailbox.mails.find((m) => (m.to as { text: string }).text === mail);
    expect(receipt?.text).toContain(`/h/${intake.token}/${path}`);
    expect(receipt?.headers.has('bcc')).toBe(false);
    const [deposit] = (await sheetOf(intake.id)).handedIn;
    const accepted = await iris.ask<Accepted>('POST', `/api/deposits/${deposit?.id}/accept`, {});
    expect(accepted.body.accepted).toBe(1);
    const listed = await iris.ask<{ items: { name: string }[] }>('GET', `/api/folders/${into}`);
    const made = listed.body.items.find((item) => item.name.includes('script'));
    expect(made?.name).not.toMatch(/[<>/"]/);
  });

  it('reaches nothing of others: neither their files, nor their deposit by its number or cookie', async () => {
    const intake = await askForFiles(iris, into);
    const [one, other] = [await outsider(office, intake.token), await outsider(office, intake.token)];
    const at = await sendFile(one, 'mine.txt', Buffer.from('mine'));
    for (const method of ['HEAD', 'DELETE'])
      expect((await other.client.fetch(at, { method, headers: TUS })).status).toBe(404);
    expect((await doorOf(other)).inside?.files).toEqual([]);
    const elsewhere = await askForFiles(iris, into);
    const cookie = one.client.cookieHeader(`/h/${intake.token}/`);
    const moved = await fetch(`${office.origin}/h/${elsewhere.token}/door`, { headers: { cookie } });
    expect(((await moved.json()) as { inside: { files: unknown[] } }).inside.files).toEqual([]);
    await one.client.fetch(at, { method: 'DELETE', headers: TUS });
  });
});

describe('those who decide', () => {
  it('at the same time decide once, whatever they decide', async () => {
    const intake = await askForFiles(iris, into);
    for (let round = 0; round < 4; round += 1) {
      const somebody = await outsider(office, intake.token);
      await sendFile(somebody, `round ${round}.txt`, Buffer.from(`round ${round}`));
      await handIn(somebody, { name: `Round ${round}` });
      const [deposit] = (await sheetOf(intake.id)).handedIn;
      const at = `/api/deposits/${deposit?.id}`;
      const answers = await Promise.all([
        iris.ask<Accepted & { code?: string }>('POST', `${at}/accept`, {}),
        iris.ask<DepositRow & { code?: string }>('POST', `${at}/refuse`, { reason: 'No.' }),
        iris.ask<Accepted & { code?: string }>('POST', `${at}/accept`, {}),
      ]);
      expect(answers.filter((a) => a.status === 200)).toHaveLength(1);
      expect(answers.filter((a) => a.body.code === 'deposit.decided')).toHaveLength(2);
    }
  });

  it('leave what cannot go there as it was, and are told why', async () => {
    const intake = await askForFiles(iris, into, { folderPattern: null });
    const somebody = await outsider(office, intake.token);
    await sendFile(somebody, 'a.txt', Buffer.from('a'));
    await sendFile(somebody, 'b.txt', Buffer.from('bb'), 'a.txt');
    await handIn(somebody);
    const [deposit] = (await sheetOf(intake.id)).handedIn;
    const { body } = await iris.ask<Accepted>('POST', `/api/deposits/${deposit?.id}/accept`, {});
    // A folder cannot have the name of a file that goes in before it.
    expect(body.accepted + body.left.length).toBe(2);
    expect(body.deposit.state).toBe(body.left.length === 0 ? 'accepted' : 'waiting');
    const gone = await folder(iris, office.roots.projects, 'Vanishes');
    const other = await askForFiles(iris, gone);
    const late = await outsider(office, other.token);
    await sendFile(late, 'late.txt', Buffer.from('late'));
    await handIn(late);
    const [waiting] = (await sheetOf(other.id)).handedIn;
    await iris.ask('POST', '/api/trash', { nodeIds: [gone] });
    const refused = await iris.ask<{ code: string }>('POST', `/api/deposits/${waiting?.id}/accept`, {});
    expect(refused.status).toBeGreaterThanOrEqual(400);
    expect((await sheetOf(other.id)).handedIn[0]?.state).toBe('waiting');
  });
});
