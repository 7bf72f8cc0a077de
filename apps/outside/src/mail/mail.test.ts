import { createTransport } from 'nodemailer';
import { execFile } from 'node:child_process';
import type { AddressInfo } from 'node:net';
import { promisify } from 'node:util';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { listPage, mailPage } from './page.js';
import { mailServer } from './server.js';
import { Mailbox, type CaughtMail } from './state.js';

const mailbox = new Mailbox(3);
const server = mailServer(mailbox);
let port = 0;
beforeAll(async () => {
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  port = (server.server.address() as AddressInfo).port;
});
afterAll(() => new Promise<void>((resolve) => server.close(resolve)));

// Nodemailer is a mail client of somebody else's.
const send = (subject: string, text = 'text') =>
  createTransport({ host: '127.0.0.1', port }).sendMail({
    from: 'quay@saltmarsh.example',
    to: 'iris@saltmarsh.example, tomas@saltmarsh.example',
    subject,
    text,
  });

describe('the mail catcher', () => {
  it('takes what a mail client hands in and shows who, what and the text', async () => {
    await send('Größe & <b>Preis</b>', 'Grüße\n.\nafter a line with one dot (RFC 5321 §4.5.2)');
    expect(mailbox.list()[0]).toMatchObject({
      from: 'quay@saltmarsh.example',
      to: ['iris@saltmarsh.example, tomas@saltmarsh.example'],
      subject: 'Größe & <b>Preis</b>',
    });
    expect(mailbox.list()[0]?.text).toContain('after a line with one dot');
  });
  it('escapes everything on its page', () => {
    expect(listPage(mailbox.list())).not.toContain('<b>');
    expect(mailPage(mailbox.list()[0] as CaughtMail)).toContain('&#60;b&#62;');
  });
  it('keeps the newest and finds them by number', async () => {
    for (const n of [1, 2, 3]) await send(`mail ${n}`);
    expect(mailbox.list().map((m) => m.subject)).toEqual(['mail 3', 'mail 2', 'mail 1']);
    expect([mailbox.get(4)?.subject, mailbox.get(1)]).toEqual(['mail 3', null]);
  });
  it('takes what Debian’s swaks hands in, with a body of eight bits and without', async () => {
    const swaks = (...more: string[]) =>
      promisify(execFile)('swaks', [
        ...['--server', '127.0.0.1', '--port', String(port), '--from', 'a@mill.example', '--to', 'b@quarry.example'],
        ...more,
      ]);
    const { stdout } = await swaks('--header', 'Subject: eight bits', '--body', 'Grüße an alle');
    expect(stdout).toMatch(/<- {2}250 /);
    expect(stdout).toContain('8BITMIME');
    expect(mailbox.list()[0]).toMatchObject({ subject: 'eight bits', to: ['b@quarry.example'] });
    expect(mailbox.list()[0]?.text).toContain('Grüße an alle');
    // Nothing that it sends ends it: a client that leaves in the middle, and one with nonsense in its addresses.
    await swaks('--quit-after', 'RCPT');
    await expect(swaks('--to', 'no address at all')).rejects.toThrow();
    await swaks('--header', 'Subject: still there');
    expect(mailbox.list()[0]?.subject).toBe('still there');
  });
});
