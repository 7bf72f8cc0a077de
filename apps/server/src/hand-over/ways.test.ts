import type {
  CodeAsked,
  HandOverFinding,
  HandOvers,
  KnownAddressee,
  MessageTemplateRow,
  ProblemBody,
  ShareSheet,
} from '@quay/contract';
import { execFileSync } from 'node:child_process';
import { randomUUID } from 'node:crypto';
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, beforeAll, beforeEach, describe, expect, it, vi } from 'vitest';
import jsqr from 'jsqr';
import sharp from 'sharp';
import { openMailbox, type Mailbox } from '../_fixtures/mailbox.js';
import { openOffice, type Answer, type Client, type TestOffice } from '../_fixtures/office.js';
import { openGateway, type Gateway } from '../_fixtures/text-gateway.js';
import { Mail } from '../platform/mail.js';
import { TextMessages } from '../platform/text-messages.js';

const decodeQr = jsqr as unknown as (data: Uint8ClampedArray, width: number, height: number) => { data: string } | null;
const PASSWORD = 'gravel-heron-silent-oar';
const NUMBER = '+447700900123';
let mailbox: Mailbox;
let gateway: Gateway;
let office: TestOffice;
let iris: Client;
let tomas: Client;
let rosa: Client;
let plan: string;
let share: ShareSheet & { token: string };
beforeAll(async () => {
  [mailbox, gateway] = await Promise.all([openMailbox(), openGateway()]);
  office = await openOffice({ smtpUrl: mailbox.url });
  office.clock.at = Date.now();
  [iris, tomas, rosa] = await Promise.all([office.signedIn('iris'), office.signedIn('tomas'), office.signedIn('rosa')]);
  const fields = [
    { name: 'recipient', value: '{to}' },
    { name: 'message', value: '{text}' },
  ];
  const asked = { url: gateway.url, format: 'form', headers: [], fields, secret: '' };
  expect((await iris.ask('PUT', '/api/settings/text-messages', asked)).status).toBe(200);
  plan = (await tomas.upload(office.roots.projects, 'plan.pdf', Buffer.from('a plan'))).body.id;
});
afterAll(async () => {
  await office.close();
  await Promise.all([mailbox.close(), gateway.close()]);
});
beforeEach(async () => {
  mailbox.mails.length = 0;
  mailbox.refuses.clear();
  gateway.asked.length = 0;
  gateway.says = { status: 202, body: 'taken' };
  share = await office.publish(tomas, [plan], { title: 'Mill Lane', password: PASSWORD });
});

type Body = HandOvers & ProblemBody;
const at = (rest = '', id = share.id) => `/api/shares/${id}/hand-overs${rest}`;
const of = async (id = share.id) => (await tomas.ask<HandOvers>('GET', at('', id))).body;
const mail = (part: object = {}, by = tomas, id = share.id): Promise<Answer<Body>> =>
  by.ask('POST', at('/mail', id), {
    sendingId: randomUUID(),
    ...{ to: ['lena@mill.example'], subject: '{{title}}', text: '{{link}}', ...part },
  });
const text = (part: object = {}, by = tomas, id = share.id): Promise<Answer<Body>> =>
  by.ask('POST', at('/text', id), { sendingId: randomUUID(), to: [NUMBER], what: 'link', ...part });
const note = (part: object): Promise<Answer<Body>> =>
  tomas.ask('POST', at(), { what: 'password', channel: 'telephone', to: ['lena@mill.example'], ...part });
const arrived = async (count: number) => {
  office.app.get(Mail).hurry();
  await vi.waitFor(() => expect(mailbox.mails).toHaveLength(count), 60_000);
  return mailbox.mails.splice(0);
};
const texted = async (count: number) => {
  office.app.get(TextMessages).hurry();
  await vi.waitFor(() => expect(gateway.asked).toHaveLength(count), 60_000);
  return gateway.asked.splice(0).map(({ body }) => Object.fromEntries(new URLSearchParams(body)));
};
const needing = async () =>
  (await tomas.ask<HandOverFinding[]>('GET', '/api/hand-overs/needing')).body.filter((f) => f.shareId === share.id);

describe('a text message', () => {
  it('takes the link or the password, as the gateway says what became of it', async () => {
    expect((await text({ to: ['"Lena" <+44 7700 900123>', '+447700900123'] })).status).toBe(200);
    expect(await texted(1)).toEqual([{ recipient: NUMBER, message: `Tomas Osei: Mill Lane\n${share.link}` }]);
    await vi.waitFor(async () =>
      expect((await of()).rows).toEqual([
        expect.objectContaining({ what: 'link', channel: 'text', recipient: NUMBER, name: 'Lena', state: 'sent' }),
      ]),
    );
    const to = ['+447700900456'];
    expect((await text({ what: 'password', password: PASSWORD, to })).status).toBe(200);
    const [sent] = await texted(1);
    expect(sent?.['message']).toBe(`The password for the link from Tomas Osei: ${PASSWORD}`);
    // What is written down anywhere has no password in it.
    await vi.waitFor(async () => expect((await of()).rows[0]).toMatchObject({ what: 'password', state: 'sent' }));
    expect(JSON.stringify(await office.db.query('SELECT * FROM hand_over, ledger_entry, text_message'))).not.toContain(
      PASSWORD,
    );
  });

  it('takes no password that is not the one of the share, and nothing to what is no number', async () => {
    expect((await text({ what: 'password', password: 'another-one-altogether' })).body).toMatchObject({
      code: 'password.other',
    });
    expect((await text({ what: 'password' })).status).toBe(400);
    expect((await text({ to: ['lena@mill.example'] })).body).toMatchObject({ code: 'recipient.number' });
    expect((await text({ to: ['07700 900123'] })).body).toMatchObject({ code: 'recipient.number' });
    const bare = await office.publish(tomas, [plan]);
    expect((await text({ what: 'password', password: PASSWORD }, tomas, bare.id)).body.code).toBe('password.none');
    expect((await text({}, rosa)).status).toBe(404);
    await tomas.ask('PATCH', `/api/shares/${share.id}`, { withdrawn: true });
    expect(await text()).toMatchObject({ status: 409, body: { code: 'share.over' } });
    expect(gateway.asked).toEqual([]);
  });

  it('floods nobody, and tells nobody a password by trying', async () => {
    const answers: number[] = [];
    for (let n = 0; n < 12; n += 1) answers.push((await text({ what: 'password', password: `guess ${n}` })).status);
    expect(answers.slice(-2)).toEqual([429, 429]);
    office.clock.advance(61_000);
    await office.db.query(
      `INSERT INTO hand_over (id, share_id, what, channel, recipient, sending_id, by_id, at, told)
       SELECT gen_random_uuid(), s.id, 'link', 'text', '+44' || n, gen_random_uuid(), s.created_by, $2, '{"window": {}}'
         FROM generate_series(1, 100) n, share s WHERE s.id = $1`,
      [share.id, office.clock.date()],
    );
    expect(await text()).toMatchObject({ status: 429, body: { code: 'hand-over.too-many' } });
    await office.db.query(`DELETE FROM hand_over WHERE told = '{"window": {}}'`);
  });

  it('that the gateway refuses needs a hand, until it is sent again or settled', async () => {
    gateway.says = { status: 422, body: 'no such number' };
    await text();
    await texted(1);
    await vi.waitFor(async () =>
      expect(await needing()).toEqual([
        expect.objectContaining({ kind: 'not-arrived', shareId: share.id, title: 'Mill Lane', recipient: NUMBER }),
      ]),
    );
    expect(await (await iris.ask<HandOverFinding[]>('GET', '/api/hand-overs/needing')).body).toEqual([]);
    const [row] = (await of()).rows;
    const settle = (settled: boolean, by = tomas) => by.ask('PATCH', at(`/${row?.id}`), { settled });
    expect((await settle(true, rosa)).status).toBe(404);
    expect((await settle(true)).status).toBe(200);
    expect(await needing()).toEqual([]);
    await settle(false);
    expect(await needing()).toHaveLength(1);
    gateway.says = { status: 202, body: 'taken' };
    await text();
    expect(await needing()).toEqual([]);
    // Of another share it is no row.
    const other = await office.publish(tomas, [plan]);
    expect((await tomas.ask('PATCH', at(`/${row?.id}`, other.id), { settled: true })).status).toBe(404);
  });
});

describe('link and password', () => {
  it('do not go the same way to the same person by oversight, whichever is first', async () => {
    await note({ channel: 'own-mail' });
    const refused = await mail();
    expect(refused).toMatchObject({ status: 400, body: { code: 'hand-over.same-way' } });
    expect(refused.body.errors?.[0]?.field).toBe('sameWayMeant');
    expect(mailbox.mails).toEqual([]);
    expect((await mail({ sameWayMeant: true })).status).toBe(200);
    await arrived(1);
    await text();
    expect((await text({ what: 'password', password: PASSWORD })).body.code).toBe('hand-over.same-way');
  });

  it('that went so knowingly need a hand for a week, or until there is another password', async () => {
    await note({ channel: 'own-mail' });
    await mail({ sameWayMeant: true });
    await arrived(1);
    expect(await needing()).toEqual([expect.objectContaining({ kind: 'same-way' })]);
    const { history } = (await tomas.ask<ShareSheet>('GET', `/api/shares/${share.id}`)).body;
    expect(history[0]?.kind).toBe('share.handed-over-same-way');
    await tomas.ask('PATCH', `/api/shares/${share.id}`, { password: 'kestrel-pebble-thistle-cart' });
    expect(await needing()).toEqual([]);
  });

  it('may go the same way again when the first never arrived', async () => {
    mailbox.refuses.add('lena@mill.example');
    await mail();
    office.app.get(Mail).hurry();
    await vi.waitFor(async () => expect((await of()).rows[0]?.state).toBe('refused'), 60_000);
    expect((await note({ channel: 'own-mail' })).status).toBe(200);
  });
});

describe('a mail that is refused', () => {
  it('goes to the share, to Today and to whoever sent it, and is over when it is sent to a right address', async () => {
    await office.db.query(`UPDATE person SET notices = '{mail-returned}' WHERE sign_in_name = 'tomas'`);
    mailbox.refuses.add('lena@mil.example');
    await mail({ to: ['Lena Marsh <lena@mil.example>'] });
    const notice = await vi.waitFor(() => {
      // Handed in once the first is refused.
      office.app.get(Mail).hurry();
      const found = mailbox.mails.find((m) => m.subject === 'What you sent to lena@mil.example did not arrive');
      expect(found).toBeDefined();
      return found;
    }, 60_000);
    expect((notice?.to as { text: string }).text).toBe('tomas@saltmarsh.example');
    expect(notice?.text).toMatch(/550 no such mailbox here[^]*Correct the address/);
    expect(await needing()).toEqual([
      expect.objectContaining({ recipient: 'lena@mil.example', words: expect.stringMatching(/^550/) as string }),
    ]);
    const { history } = (await tomas.ask<ShareSheet>('GET', `/api/shares/${share.id}`)).body;
    expect(history[0]?.words).toBe('found that lena@mil.example did not get Mill Lane');
    const [row] = (await of()).rows;
    await tomas.ask('PATCH', at(`/${row?.id}`), { settled: true });
    expect(await needing()).toEqual([]);
  });
});

describe('files with a mail', () => {
  let open: ShareSheet;
  beforeEach(async () => {
    open = await office.publish(tomas, [plan], { title: 'Plans' });
  });
  const attach = (part: object = {}, id = open.id) =>
    mail({ about: 'files', text: 'Attached: {{items}}', ...part }, tomas, id);

  it('are really in it, byte for byte, and kept no longer than it takes', async () => {
    expect((await attach({ to: ['lena@mill.example', 'ash@quarry.example'] })).status).toBe(200);
    const mails = await arrived(2);
    for (const { attachments, text: body } of mails) {
      expect(attachments.map((a) => [a.filename, a.content.toString()])).toEqual([['plan.pdf', 'a plan']]);
      expect(body).toBe('Attached: plan.pdf\n');
    }
    await vi.waitFor(async () => expect(await office.db.query('SELECT 1 FROM mail_enclosure')).toEqual([]));
    expect((await of(open.id)).rows.map((r) => r.what)).toEqual(['files', 'files']);
    await attach({ text: '{{link}}', to: ['both@mill.example'] });
    await arrived(1);
    expect(
      (await of(open.id)).rows
        .slice(0, 2)
        .map((r) => r.what)
        .sort(),
    ).toEqual(['files', 'link']);
  });

  it('stay here when a password was set at that moment', async () => {
    const hold = office.db.createQueryRunner();
    await hold.startTransaction();
    await hold.query(`UPDATE share SET password_hash = 'another' WHERE id = $1`, [open.id]);
    const sending = attach();
    await vi.waitFor(async () =>
      expect(
        await office.db.query(
          `SELECT 1 FROM pg_stat_activity WHERE wait_event_type = 'Lock' AND query LIKE '%NO KEY UPDATE%'`,
        ),
      ).toHaveLength(1),
    );
    await hold.commitTransaction();
    await hold.release();
    expect((await sending).body.code).toBe('attach.guarded');
  });

  it('go out only where nothing that guards the share is lost by it', async () => {
    expect(await attach({}, share.id)).toMatchObject({ status: 409, body: { code: 'attach.guarded' } });
    expect((await of(share.id)).attach.barred).toBe('its password');
    for (const [part, words] of [
      [{ may: { level: 'view', seesOthers: false, takesBytes: 1e9, watermark: 'none', fileLimit: null } }, /looked at/],
      [{ visitLimit: 2 }, /limit/],
    ] as const) {
      const { id } = await office.publish(tomas, [plan], part);
      expect((await attach({}, id)).body, JSON.stringify(part)).toMatchObject({
        ...{ code: 'attach.guarded', detail: expect.stringMatching(words) as string },
      });
    }
    const folder = (
      await tomas.ask<{ id: string }>('POST', `/api/folders/${office.roots.projects}/folders`, { name: 'Sub' })
    ).body;
    const withFolder = await office.publish(tomas, [folder.id]);
    expect((await attach({}, withFolder.id)).body.code).toBe('attach.folder');
    const big = (await tomas.upload(office.roots.projects, 'big.bin', Buffer.alloc(16_000_000))).body.id;
    const heavy = await office.publish(tomas, [big]);
    expect((await attach({}, heavy.id)).body).toMatchObject({ code: 'attach.too-large' });
    expect((await attach({ text: '' })).body.code).toBe('message.empty');
    expect(mailbox.mails).toEqual([]);
  });
});

describe('that a share is withdrawn', () => {
  it('can be told to those who got its link, and only when it is so', async () => {
    const told = { about: 'withdrawal', text: '{{title}} is withdrawn.' };
    expect(await mail(told)).toMatchObject({ status: 409, body: { code: 'share.not-withdrawn' } });
    await tomas.ask('PATCH', `/api/shares/${share.id}`, { withdrawn: true });
    expect((await mail(told)).status).toBe(200);
    expect((await arrived(1))[0]?.text).toBe('Mill Lane is withdrawn.\n');
    const { history } = (await tomas.ask<ShareSheet>('GET', `/api/shares/${share.id}`)).body;
    expect(history[0]?.words).toBe('told lena@mill.example that Mill Lane is withdrawn');
  });

  it('stops what was about to go out at that moment', async () => {
    // Whoever sends waits for the share; it is withdrawn by then.
    const hold = office.db.createQueryRunner();
    await hold.startTransaction();
    await hold.query('UPDATE share SET withdrawn_at = $2 WHERE id = $1', [share.id, office.clock.date()]);
    const sending = mail();
    await vi.waitFor(async () =>
      expect(
        await office.db.query(
          `SELECT 1 FROM pg_stat_activity WHERE wait_event_type = 'Lock' AND query LIKE '%NO KEY UPDATE%'`,
        ),
      ).toHaveLength(1),
    );
    await hold.commitTransaction();
    await hold.release();
    expect(await sending).toMatchObject({ status: 409, body: { code: 'share.over' } });
    expect((await of()).rows).toEqual([]);
  });

  it('and a sending belongs to one share', async () => {
    const sendingId = randomUUID();
    await mail({ sendingId });
    const other = await office.publish(tomas, [plan]);
    expect((await mail({ sendingId }, tomas, other.id)).body.code).toBe('hand-over.other-sending');
    await arrived(1);
  });
});

describe('whom somebody wrote to', () => {
  it('is suggested to them alone, with the name that was said, until they forget it', async () => {
    await mail({ to: ['"Marsh, Lena" <lena@mill.example>'] });
    expect((await arrived(1))[0]?.to).toMatchObject({ text: '"Marsh, Lena" <lena@mill.example>' });
    await mail({ to: ['lena@mill.example'] });
    const known = async (by: Client) => (await by.ask<KnownAddressee[]>('GET', '/api/hand-overs/recipients')).body;
    expect(await known(tomas)).toContainEqual(
      expect.objectContaining({ value: 'lena@mill.example', name: 'Marsh, Lena' }),
    );
    expect(await known(iris)).toEqual([]);
    const forget = (by: Client) =>
      by.ask('POST', '/api/hand-overs/recipients/forget', { recipient: 'lena@mill.example' });
    expect((await forget(iris)).status).toBe(200);
    expect((await known(tomas)).map((k) => k.value)).toContain('lena@mill.example');
    await forget(tomas);
    expect((await known(tomas)).map((k) => k.value)).not.toContain('lena@mill.example');
    // The share still says who got it.
    expect((await of()).rows).toHaveLength(2);
  });
});

describe('messages that are kept', () => {
  const template = (part: object = {}) => ({
    ...{ name: 'Short', subject: '{{title}}', text: 'Here: {{link}}', office: false, begins: true, ...part },
  });
  const list = async (by: Client) => (await by.ask<MessageTemplateRow[]>('GET', '/api/message-templates')).body;
  const keep = (part: object = {}, by = tomas) =>
    by.ask<MessageTemplateRow[] & ProblemBody>('POST', '/api/message-templates', template(part));

  it('are of the office, by whoever runs it, and of oneself; what a message begins with is one’s own first', async () => {
    expect((await keep({ office: true })).body.code).toBe('duty.missing');
    expect((await keep({ office: true, name: 'House style', text: 'From the office: {{link}}' }, iris)).status).toBe(
      200,
    );
    expect((await of()).template.text).toBe('From the office: {{link}}');
    await keep();
    expect((await of()).template.text).toBe('Here: {{link}}');
    expect((await list(tomas)).map((t) => t.name)).toEqual(['House style', 'Short']);
    expect((await list(rosa)).map((t) => t.name)).toEqual(['House style']);
    const [house, own] = await list(tomas);
    const change = (id: string | undefined, part: object, by = tomas) =>
      by.ask<ProblemBody>('PUT', `/api/message-templates/${id}`, template(part));
    expect((await change(own?.id, { text: 'Now: {{link}}', begins: false })).status).toBe(200);
    expect((await of()).template.text).toBe('From the office: {{link}}');
    // The wrong person, and the wrong kind.
    expect((await change(own?.id, {}, rosa)).status).toBe(404);
    expect((await change(house?.id, { office: true })).body.code).toBe('duty.missing');
    expect((await change(house?.id, { office: false })).status).toBe(404);
    expect((await tomas.ask('DELETE', `/api/message-templates/${house?.id}`)).status).toBe(403);
    expect((await rosa.ask('DELETE', `/api/message-templates/${own?.id}`)).status).toBe(404);
    expect((await tomas.ask('DELETE', `/api/message-templates/${own?.id}`)).status).toBe(200);
    expect((await list(tomas)).map((t) => t.name)).toEqual(['House style']);
  });

  it('can be sent as they are, and have a name of their own', async () => {
    expect((await keep({ text: 'No way in' })).body.code).toBe('message.no-link');
    expect((await keep({ subject: '{{name}}' })).body.code).toBe('message.unknown-placeholder');
    await keep({ name: 'One' });
    expect((await keep({ name: 'one' })).body.code).toBe('name.taken');
    await Promise.all(Array.from({ length: 60 }, (_, n) => keep({ name: `Message ${n}`, begins: n % 2 === 0 })));
    const own = (await list(tomas)).filter((t) => !t.office);
    expect([own.length, own.filter((t) => t.begins).length]).toEqual([50, 1]);
    expect((await keep({ name: 'One more' })).body.code).toBe('template.too-many');
  });
});

it('the sheet of paper has link, code and terms, and never the password', async () => {
  const folder = mkdtempSync(join(tmpdir(), 'quay-sheet-'));
  try {
    await tomas.ask('PATCH', `/api/shares/${share.id}`, { title: `Mill ${'long '.repeat(20)}测试`, message: 'a\nb' });
    const answer = await tomas.fetch(at('/sheet.pdf'));
    expect(answer.status).toBe(200);
    const bytes = Buffer.from(await answer.arrayBuffer());
    const pdf = join(folder, 'sheet.pdf');
    writeFileSync(pdf, bytes);
    // qpdf and poppler, as Debian has them.
    execFileSync('qpdf', ['--check', pdf]);
    const words = execFileSync('pdftotext', ['-layout', pdf, '-'], { encoding: 'utf8' });
    expect(words.replace(/\s+/g, '')).toContain(share.link);
    expect(words).toMatch(/Saltmarsh Survey Partnership|Saltmarsh Survey/);
    expect(words).toContain('Password, written by hand');
    expect(words).not.toContain(PASSWORD);
    execFileSync('pdftoppm', ['-r', '150', '-png', '-singlefile', pdf, join(folder, 'page')]);
    const { data, info } = await sharp(join(folder, 'page.png'))
      .ensureAlpha()
      .raw()
      .toBuffer({ resolveWithObject: true });
    expect(decodeQr(new Uint8ClampedArray(data), info.width, info.height)?.data).toBe(share.link);
    expect((await rosa.fetch(at('/sheet.pdf'))).status).toBe(404);
  } finally {
    rmSync(folder, { recursive: true, force: true });
  }
});

it('that they came by it is told where they prove who they are', async () => {
  const audience = { kind: 'listed', listed: ['lena@mill.example'], blocked: [], members: [] };
  const listed = await office.publish(tomas, [plan], { audience });
  await mail({}, tomas, listed.id);
  await arrived(1);
  expect((await of(listed.id)).rows[0]?.openedAt).toBeNull();
  const visitor = office.client();
  const path = `/s/${listed.token}`;
  const { body } = await visitor.ask<CodeAsked>('POST', `${path}/code`, {
    ...{ address: 'lena@mill.example', password: null },
  });
  const code = /^\d{6}$/m.exec((await arrived(1))[0]?.text ?? '')?.[0];
  office.clock.advance(1000);
  const opened = await visitor.ask('POST', `${path}/open`, {
    ...{ address: body.address, ticket: body.ticket, code, password: null },
  });
  expect(opened.status).toBe(200);
  expect((await of(listed.id)).rows[0]?.openedAt).toBe(office.clock.date().toISOString());
});
