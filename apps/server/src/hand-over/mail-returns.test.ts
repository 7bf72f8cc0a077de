import type { HandOverFinding, HandOvers, MailReturnsSettings, ProblemBody, ShareSheet } from '@quay/contract';
import { readDeliveryStatus } from '@quay/core';
import { simpleParser } from 'mailparser';
import { execFileSync } from 'node:child_process';
import { randomUUID } from 'node:crypto';
import { chmodSync, mkdirSync, mkdtempSync, readdirSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest';
import { startDovecot, type Dovecot } from '../_fixtures/dovecot.js';
import { startReturningExim } from '../_fixtures/exim.js';
import { openOffice, type Client, type TestOffice } from '../_fixtures/office.js';
import { Mail } from '../platform/mail.js';
import { MailReturnsService } from './mail-returns.service.js';

const folder = mkdtempSync(join(tmpdir(), 'quay-returns-'));
let dovecot: Dovecot;
let exim: Awaited<ReturnType<typeof startReturningExim>>;
let office: TestOffice;
let iris: Client;
let tomas: Client;
let share: ShareSheet;
beforeAll(async () => {
  chmodSync(folder, 0o755);
  for (const name of ['imap', 'smtp']) mkdirSync(join(folder, name));
  dovecot = await startDovecot(join(folder, 'imap'));
  exim = await startReturningExim(join(folder, 'smtp'), dovecot.maildir);
  office = await openOffice({ smtpUrl: exim.url });
  office.clock.at = Date.now();
  [iris, tomas] = await Promise.all([office.signedIn('iris'), office.signedIn('tomas')]);
  const { id } = (await tomas.upload(office.roots.projects, 'plan.pdf', Buffer.from('a plan'))).body;
  share = await office.publish(tomas, [id], { title: 'Mill Lane' });
});
afterAll(async () => {
  await office.close();
  await Promise.all([exim.stop(), dovecot.stop()]);
  rmSync(folder, { recursive: true, force: true });
});

const asked = (part: object = {}) => ({
  ...{ host: '127.0.0.1', port: dovecot.port, encryption: 'none', user: dovecot.user, password: dovecot.password },
  ...{ folder: 'INBOX', ...part },
});
const name = (part: object = {}, by = iris) =>
  by.ask<MailReturnsSettings & ProblemBody>('PUT', '/api/settings/mail-returns', asked(part));
const look = () => office.app.get(MailReturnsService).look();
const rows = async () => (await tomas.ask<HandOvers>('GET', `/api/shares/${share.id}/hand-overs`)).body.rows;
const send = async (to: string) => {
  await tomas.ask('POST', `/api/shares/${share.id}/hand-overs/mail`, {
    ...{ sendingId: randomUUID(), to: [to], subject: '{{title}}', text: '{{link}}' },
  });
  office.app.get(Mail).hurry();
};
const became = (to: string, state: string) =>
  vi.waitFor(async () => {
    await look();
    expect((await rows()).find((r) => r.recipient === to)?.state).toBe(state);
  }, 20_000);

describe('mail that comes back (Debian’s exim4 sends it back, Debian’s dovecot has the mailbox)', () => {
  it('is read from a mailbox that opens, by whoever runs the server', async () => {
    expect((await name({}, tomas)).status).toBe(403);
    expect(await name({ password: 'wrong' })).toMatchObject({ status: 409, body: { code: 'returns.closed' } });
    expect((await name({ port: 9 })).body.detail).toMatch(/nothing answers there/);
    expect((await name({ password: undefined })).body.code).toBe('returns.password');
    dovecot.deliver('Subject: long before\n\nhello\n');
    const { status, body } = await name();
    expect([status, body.fault]).toEqual([200, null]);
    expect(JSON.stringify(body)).not.toContain(dovecot.password);
    expect(JSON.stringify(await office.db.query('SELECT * FROM ledger_entry'))).not.toContain(dovecot.password);
    office.clock.advance(61_000);
    // The password that is kept is for that place only.
    expect((await name({ password: undefined })).status).toBe(200);
    expect((await name({ password: undefined, host: 'localhost' })).body.code).toBe('returns.password');
  });

  it('goes to the share, to Today and to the ledger, once; and who got theirs is left alone', async () => {
    await send('lena@mill.example');
    await became('lena@mill.example', 'returned');
    const [row] = await rows();
    expect(row?.answer).toBe('It came back: 550 5.1.1 nobody of that name');
    const needing = (await tomas.ask<HandOverFinding[]>('GET', '/api/hand-overs/needing')).body;
    expect(needing).toEqual([expect.objectContaining({ kind: 'not-arrived', recipient: 'lena@mill.example' })]);
    await look();
    const lines = await office.db.query<{ n: number }[]>(
      `SELECT count(*)::int AS n FROM ledger_entry WHERE kind = 'share.hand-over-returned'`,
    );
    expect(lines[0]?.n).toBe(1);
    await send('ash@quarry.example');
    await became('ash@quarry.example', 'sent');
  });

  it('is believed only where it is a report of a mail of ours', async () => {
    const [id] = await office.db.query<{ id: string }[]>(`SELECT id FROM mail WHERE recipient = 'ash@quarry.example'`);
    const report = (part: { type?: string; messageId?: string; action?: string }) =>
      [
        ...['From: x@y.example', `Content-Type: multipart/report; boundary=b`, '', '--b', ''],
        ...[`--b`, `Content-Type: ${part.type ?? 'message/delivery-status'}`, '', 'Reporting-MTA: dns; a', ''],
        ...['Final-Recipient: rfc822; ash@quarry.example', `Action: ${part.action ?? 'failed'}`, 'Status: 5.2.2', ''],
        ...[
          '--b',
          'Content-Type: message/rfc822',
          '',
          `Message-ID: <${part.messageId ?? id?.id}@x>`,
          '',
          'x',
          '--b--',
          '',
        ],
      ].join('\r\n');
    dovecot.deliver(report({ action: 'delayed' }));
    dovecot.deliver(report({ messageId: randomUUID() }));
    dovecot.deliver(report({ messageId: "1' OR true --" }));
    dovecot.deliver(report({ type: 'text/plain' }));
    dovecot.deliver(`Message-ID: <${id?.id}@x>\n\nAction: failed\n`);
    dovecot.deliver(Buffer.alloc(3_000_000, 'Content-Type: multipart/report; boundary="'));
    await look();
    expect((await rows()).find((r) => r.recipient === 'ash@quarry.example')?.state).toBe('sent');
    dovecot.deliver(report({}));
    await became('ash@quarry.example', 'returned');
    const { body } = await iris.ask<MailReturnsSettings>('GET', '/api/settings/mail-returns');
    expect(body).toMatchObject({ fault: null, mailbox: { host: '127.0.0.1' } });
  });

  it('is read no more when nobody wants it, and a mailbox that is away is said', async () => {
    await dovecot.stop();
    await look();
    const settings = async () => (await iris.ask<MailReturnsSettings>('GET', '/api/settings/mail-returns')).body;
    expect((await settings()).fault).toMatch(/nothing answers there/);
    await iris.ask('DELETE', '/api/settings/mail-returns');
    expect(await settings()).toEqual({ mailbox: null, lookedAt: null, fault: null });
    await look();
    dovecot = await startDovecot(mkdtempSync(join(folder, 'imap-')));
  });
});

describe('reports of many mail servers (the collection of flufl.bounce, as Debian packages it)', () => {
  const base = '/usr/lib/python3/dist-packages/flufl/bounce/tests/data';
  const SCAN = `
import sys, json, email
from flufl.bounce import all_failures
found = {}
for path in sys.argv[1:]:
    with open(path, 'rb') as f:
        temporary, permanent = all_failures(email.message_from_binary_file(f))
    found[path] = sorted(a.decode().lower() for a in permanent)
print(json.dumps(found))`;

  it('name the same failed recipients as its own reader finds', async () => {
    const paths = readdirSync(base)
      .filter((file) => file.endsWith('.txt'))
      .map((file) => join(base, file))
      .filter((path) => /message\/delivery-status[^]*^final-recipient:/im.test(readFileSync(path, 'latin1')));
    const theirs = JSON.parse(execFileSync('/usr/bin/python3', ['-c', SCAN, ...paths], { encoding: 'utf8' })) as Record<
      string,
      string[]
    >;
    const differs: string[] = [];
    for (const path of paths) {
      const { attachments } = await simpleParser(readFileSync(path), {
        skipTextToHtml: true,
        keepDeliveryStatus: true,
      });
      const ours = attachments
        .filter((part) => part.contentType === 'message/delivery-status')
        .flatMap((part) => readDeliveryStatus(part.content.toString('utf8')))
        .filter((s) => s.action === 'failed' && s.recipient !== '')
        .map((s) => s.recipient.toLowerCase());
      if (JSON.stringify([...new Set(ours)].sort()) !== JSON.stringify(theirs[path]))
        differs.push(`${path}: ${ours.join()} | ${theirs[path]?.join()}`);
    }
    expect(paths.length).toBeGreaterThan(15);
    // That one is a report within a message within a message, as a filter on the way wrapped it.
    expect(differs.map((path) => path.replace(/^.*\/|:.*$/g, ''))).toEqual(['dsn_15.txt']);
  });
});
