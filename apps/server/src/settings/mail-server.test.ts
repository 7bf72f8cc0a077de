import type { ChildProcess } from 'node:child_process';
import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { MailTrialAnswer } from '@quay/contract';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { startExim, type Exim } from '../_fixtures/exim.js';
import { officeForServers, startServer } from '../_fixtures/killing.js';
import { Client, PASSWORDS } from '../_fixtures/office.js';

// The server as a process of its own, which is told of the authority of the mail server's certificate.
const folder = mkdtempSync(join(tmpdir(), 'quay-exim-'));
let exim: Exim;
let server: ChildProcess;
let iris: Client;

beforeAll(async () => {
  exim = await startExim(folder);
  const office = await officeForServers(folder);
  server = await startServer({ ...office.env, NODE_EXTRA_CA_CERTS: exim.authority });
  iris = new Client(`http://127.0.0.1:${office.port}`);
  await iris.ask('POST', '/api/session', { signInName: 'iris', password: PASSWORDS.iris });
});
afterAll(async () => {
  await exim.stop();
  const ended = new Promise((resolve) => server.once('exit', resolve));
  server.kill('SIGTERM');
  await ended;
  rmSync(folder, { recursive: true, force: true });
});

const trial = async (part: object) => {
  const { port, user, password } = exim;
  const asked = { host: 'localhost', port, encryption: 'starttls', user, password };
  const letter = { sender: 'quay@saltmarsh.example', to: 'tomas@saltmarsh.example' };
  return (await iris.ask<MailTrialAnswer>('POST', '/api/settings/mail/trial', { ...asked, ...letter, ...part })).body;
};

describe('a mail server of Debian (exim4)', () => {
  it('takes the test message by STARTTLS and with a sign-in, and what it says is told line by line', async () => {
    const answer = await trial({});
    expect(answer).toMatchObject({ sent: true });
    const said = answer.lines.map((l) => `${l.from}: ${l.text}`).join('\n');
    for (const part of [
      'server: 220 mail.saltmarsh.example ESMTP Exim',
      'us: STARTTLS',
      'server: 235',
      'server: 250 OK id=',
    ])
      expect(said).toContain(part);
    expect(said).not.toContain(exim.password);
    for (const part of [
      '-received_protocol esmtpsa',
      '-auth_id quay',
      'A test message of Lockfast Quay',
      'arrives here.',
    ])
      expect(exim.queue()).toContain(part);
  });
  it.each([
    ['a wrong password', { password: 'wrong' }, /does not accept that name and password/],
    ['nobody signing in', { user: '' }, /sign in first/],
    ['no encryption', { encryption: 'none' }, /sign in|accept|authent/i],
    ['encryption from the first byte', { encryption: 'tls' }, /does not encrypt from the first byte/],
    ['another name than the certificate has', { host: '127.0.0.1' }, /certificate of 127\.0\.0\.1 is not trusted/],
  ])('refuses %s, and it is said what to do', async (_, part, words) => {
    const { sent, words: told } = await trial(part);
    expect([sent, told]).toEqual([false, expect.stringMatching(words)]);
  });
});
