import { execFileSync, spawn, type ChildProcess } from 'node:child_process';
import { mkdirSync, mkdtempSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { connect } from 'node:net';
import { tmpdir, userInfo } from 'node:os';
import { join } from 'node:path';
import type { MailTrialAnswer } from '@quay/contract';
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest';
import { freePort } from '../_fixtures/free-port.js';
import { officeForServers, startServer } from '../_fixtures/killing.js';
import { Client, PASSWORDS } from '../_fixtures/office.js';

// Debian's mail server (exim4), which wants STARTTLS, then a name and a password; its certificate is of an authority that
// the server process is told of, as by Debian's ca-certificates.
const folder = mkdtempSync(join(tmpdir(), 'quay-exim-'));
const spool = join(folder, 'spool');
let exim: ChildProcess;
let server: ChildProcess;
let port: number;
let iris: Client;

const openssl = (...args: string[]) => execFileSync('openssl', args, { cwd: folder, stdio: 'ignore' });

beforeAll(async () => {
  port = await freePort();
  openssl(...'req -x509 -newkey rsa:2048 -nodes -days 2 -subj /CN=Office -keyout ca.key -out ca.pem'.split(' '));
  openssl(...'req -newkey rsa:2048 -nodes -subj /CN=localhost -keyout key.pem -out request.pem'.split(' '));
  writeFileSync(join(folder, 'names'), 'subjectAltName=DNS:localhost\n');
  openssl(...'x509 -req -in request.pem -CA ca.pem -CAkey ca.key -days 2 -extfile names -out cert.pem'.split(' '));
  for (const name of ['spool', 'log']) mkdirSync(join(folder, name));
  const { username } = userInfo();
  writeFileSync(
    join(folder, 'exim.conf'),
    `primary_hostname = mail.saltmarsh.example
spool_directory = ${spool}
log_file_path = ${folder}/log/%slog
exim_user = ${username}
exim_group = ${username}
queue_only = true
local_interfaces = 127.0.0.1
daemon_smtp_ports = ${port}
tls_advertise_hosts = *
tls_certificate = ${folder}/cert.pem
tls_privatekey = ${folder}/key.pem
auth_advertise_hosts = \${if eq{$tls_in_cipher}{}{}{*}}
acl_smtp_rcpt = rcpt
begin acl
rcpt:
  accept authenticated = *
  deny message = sign in first
begin authenticators
plain:
  driver = plaintext
  public_name = PLAIN
  server_prompts = :
  server_condition = \${if and{{eq{$auth2}{quay}}{eq{$auth3}{oar-lantern-42}}}}
  server_set_id = $auth2
`,
  );
  exim = spawn('/usr/sbin/exim4', ['-C', join(folder, 'exim.conf'), '-bdf'], { stdio: 'ignore' });
  const office = await officeForServers(folder);
  server = await startServer({ ...office.env, NODE_EXTRA_CA_CERTS: join(folder, 'ca.pem') });
  iris = new Client(`http://127.0.0.1:${office.port}`);
  await iris.ask('POST', '/api/session', { signInName: 'iris', password: PASSWORDS.iris });
  await vi.waitFor(() => answers(port), 10_000);
});
afterAll(async () => {
  exim.kill();
  const ended = new Promise((resolve) => server.once('exit', resolve));
  server.kill('SIGTERM');
  await ended;
  rmSync(folder, { recursive: true, force: true });
});

const answers = (at: number) =>
  new Promise<void>((resolve, reject) => {
    const socket = connect(at, '127.0.0.1', () => {
      socket.destroy();
      resolve();
    });
    socket.once('error', reject);
  });
const trial = async (part: object) => {
  const asked = { host: 'localhost', port, encryption: 'starttls', user: 'quay', password: 'oar-lantern-42' };
  const sender = { sender: 'quay@saltmarsh.example', to: 'tomas@saltmarsh.example' };
  return (await iris.ask<MailTrialAnswer>('POST', '/api/settings/mail/trial', { ...asked, ...sender, ...part })).body;
};

describe('a mail server of Debian', () => {
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
    expect(said).not.toContain('oar-lantern-42');
    // What it keeps of the message, in the files of its queue: how it came, its lines, its text.
    const kept = readdirSync(spool, { recursive: true, encoding: 'utf8' }).filter((name) => /-[HD]$/.test(name));
    const text = kept.map((name) => readFileSync(join(spool, name), 'utf8')).join('\n');
    for (const part of [
      '-received_protocol esmtpsa',
      '-auth_id quay',
      'A test message of Lockfast Quay',
      'arrives here.',
    ])
      expect(text).toContain(part);
  });
  it.each([
    ['a wrong password', { password: 'wrong' }, 'does not accept that name and password'],
    ['nobody signing in', { user: '' }, /sign in first/],
    ['no encryption', { encryption: 'none' }, /sign in|accept|authent/i],
    ['encryption from the first byte', { encryption: 'tls' }, 'does not encrypt from the first byte'],
    ['another name than the certificate has', { host: '127.0.0.1' }, 'certificate of 127.0.0.1 is not trusted'],
  ])('refuses %s, and it is said what to do', async (_, part, words) => {
    const { sent, words: told } = await trial(part);
    expect(sent).toBe(false);
    if (typeof words === 'string') expect(told).toContain(words);
    else expect(told).toMatch(words);
  });
});
