import type { DepositRow, FileText, IntakeSheet, PreviewFacts } from '@quay/contract';
import { randomBytes } from 'node:crypto';
import type { ParsedMail } from 'mailparser';
import sharp from 'sharp';
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest';
import { folder } from '../_fixtures/acts.js';
import { askForFiles, doorOf, handIn, outsider, sendFile, type Outsider } from '../_fixtures/intakes.js';
import { openMailbox, type Mailbox } from '../_fixtures/mailbox.js';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';
import { Mail } from '../platform/mail.js';

let office: TestOffice;
let mailbox: Mailbox;
let iris: Client;
let tomas: Client;
let into: string;
beforeAll(async () => {
  mailbox = await openMailbox();
  office = await openOffice({ smtpUrl: mailbox.url });
  office.clock.at = Date.now();
  [iris, tomas] = [await office.signedIn('iris'), await office.signedIn('tomas')];
  into = await folder(iris, office.roots.projects, 'Drawings');
});
afterAll(async () => {
  await office.close();
  await mailbox.close();
});

const depositsOf = async (id: string) => (await iris.ask<IntakeSheet>('GET', `/api/intakes/${id}`)).body.handedIn;
const ask = (id: string, words: string, by = iris) =>
  by.ask<DepositRow & { code?: string }>('POST', `/api/deposits/${id}/ask`, { words });

/** Hands one file in. @returns whoever did, the secret of their receipt and the deposit */
async function handed(token: string, name: string, bytes: Buffer, mail = ''): Promise<[Outsider, string]> {
  const somebody = await outsider(office, token);
  await sendFile(somebody, name, bytes);
  const { body } = await handIn(somebody, { name: 'Zoe Calder', mail });
  return [somebody, body.path.replace('receipt/', '')];
}

describe('a contributor who is asked about what they handed in', () => {
  it('is told by mail and on the receipt, and answers from there, in any browser', async () => {
    const intake = await askForFiles(iris, into, { title: 'Sheets, Weir House' });
    const [zoe, key] = await handed(
      intake.token,
      'sheets.pdf',
      Buffer.from('%PDF-1.4\n%%EOF\n'),
      'zoe@brookline.example',
    );
    const [deposit] = await depositsOf(intake.id);
    const words = 'Please send sheet 3 again: <it> is cut off.';
    const { status, body } = await ask(deposit?.id ?? '', words);
    expect([status, body.askedBack]).toEqual([200, [{ words, by: 'Iris Ward', at: expect.any(String) as string }]]);
    office.app.get(Mail).hurry();
    const about = () => mailbox.mails.find((m) => m.subject?.startsWith(`About ${deposit?.number}`));
    await vi.waitFor(() => expect(about()).toBeDefined(), 60_000);
    const mail = about() as ParsedMail;
    expect(mail.text).toContain(words);
    expect(mail.text).toContain(`/h/${intake.token}/receipt/${key}`);
    const page = await (await office.client().fetch(`/h/${intake.token}/receipt/${key}`)).text();
    expect(page).toContain('Please send sheet 3 again: &lt;it&gt; is cut off.');
    expect((await doorOf(zoe)).inside?.receipts[0]?.askedBack).toMatchObject([{ words }]);
    // Another browser, that has the receipt: it answers, and is not taken for the one before.
    const other = office.client();
    const begun = await other.ask('POST', `/h/${intake.token}/begin`, { password: null, follows: key });
    expect(begun.body).toMatchObject({ inside: { follows: deposit?.number, receipts: [] } });
    await sendFile({ client: other, token: intake.token }, 'sheet 3.pdf', Buffer.from('%PDF-1.4\n3\n%%EOF\n'));
    await handIn({ client: other, token: intake.token }, { name: 'Zoe Calder' });
    const [answer, asked] = await depositsOf(intake.id);
    expect(answer).toMatchObject({ again: false, follows: deposit?.number });
    expect(asked).toMatchObject({ number: deposit?.number, followedBy: [answer?.number] });
    const [entry] = await office.db.query<{ detail: object }[]>(
      `SELECT detail FROM ledger_entry WHERE kind = 'deposit.asked' ORDER BY seq DESC LIMIT 1`,
    );
    expect(entry?.detail).toMatchObject({ number: deposit?.number, words });
  });

  it('is not asked by others, nor where nobody could answer, nor without end; a strange receipt answers nothing', async () => {
    const intake = await askForFiles(iris, into);
    const other = await askForFiles(iris, into);
    const [, key] = await handed(other.token, 'elsewhere.txt', Buffer.from('else'));
    await handed(intake.token, 'notes.txt', Buffer.from('notes'));
    const [deposit] = await depositsOf(intake.id);
    const id = deposit?.id ?? '';
    expect((await ask(id, 'May I?', tomas)).status).toBe(404);
    expect((await ask(id, ' ')).status).toBe(400);
    for (const follows of [key, 'x'.repeat(32)]) {
      const begun = await office.client().ask('POST', `/h/${intake.token}/begin`, { password: null, follows });
      expect(begun.body).toMatchObject({ inside: { follows: null } });
    }
    for (let i = 0; i < 20; i += 1) expect((await ask(id, `Question ${i}`)).status).toBe(200);
    expect((await ask(id, 'One more')).body.code).toBe('deposit.asked-enough');
    await iris.ask('PATCH', `/api/intakes/${other.id}`, { withdrawn: true });
    const [elsewhere] = await depositsOf(other.id);
    expect((await ask(elsewhere?.id ?? '', 'Still there?')).body.code).toBe('deposit.cannot-answer');
    expect((await depositsOf(other.id))[0]?.askedBack).toEqual([]);
  });
});

describe('a file that waits', () => {
  it('is looked at as picture and text by those who may decide, until they have, and by nobody else', async () => {
    const intake = await askForFiles(iris, into);
    const somebody = await outsider(office, intake.token);
    const noise = randomBytes(40 * 30 * 3);
    const picture = await sharp(noise, { raw: { width: 40, height: 30, channels: 3 } })
      .jpeg()
      .toBuffer();
    await sendFile(somebody, 'site.jpg', picture);
    await sendFile(somebody, 'levels.csv', Buffer.from('point,level\r\nA,12.3\r\n'));
    await handIn(somebody);
    const [deposit] = await depositsOf(intake.id);
    const at = (name: string) =>
      `/api/deposits/${deposit?.id}/files/${deposit?.files.find((f) => f.path === name)?.id}`;
    expect((await iris.ask<PreviewFacts>('GET', `${at('levels.csv')}/preview`)).body.kind).toBe('table');
    expect((await iris.ask<FileText>('GET', `${at('levels.csv')}/text`)).body.text).toContain('A,12.3');
    let seen = await iris.fetch(`${at('site.jpg')}/large`);
    for (let i = 0; seen.status === 202 && i < 100; i += 1) {
      await new Promise((resolve) => setTimeout(resolve, 200));
      seen = await iris.fetch(`${at('site.jpg')}/large`);
    }
    const shown = await sharp(Buffer.from(await seen.arrayBuffer())).metadata();
    expect([shown.format, shown.width, shown.height]).toEqual(['webp', 40, 30]);
    for (const what of ['preview', 'thumb', 'large', 'pages/1', 'text']) {
      expect((await tomas.fetch(`${at('levels.csv')}/${what}`)).status).toBe(404);
      expect((await somebody.client.fetch(`${at('levels.csv')}/${what}`)).status).toBe(401);
    }
    await iris.ask('POST', `/api/deposits/${deposit?.id}/refuse`, { reason: 'Too dark.' });
    for (const what of ['preview', 'thumb', 'large', 'text'])
      expect((await iris.fetch(`${at('site.jpg')}/${what}`)).status).toBe(410);
  });
});
