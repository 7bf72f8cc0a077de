import { execFileSync, spawn, type ChildProcess } from 'node:child_process';
import { mkdirSync, readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { userInfo } from 'node:os';
import { join } from 'node:path';
import { vi } from 'vitest';
import { answers, freePort } from './free-port.js';

/** A mail server that wants STARTTLS, then a name and a password; what it takes stays in its queue. */
export interface Exim {
  port: number;
  user: string;
  password: string;
  /** The authority of its certificate, which is for "localhost": by Debian's ca-certificates, or NODE_EXTRA_CA_CERTS. */
  authority: string;
  /** All that is in its queue: how messages came, their lines, their texts. */
  queue: () => string;
  stop: () => Promise<void>;
}

/** Starts Debian's exim4 in a folder of its own. */
export async function startExim(folder: string): Promise<Exim> {
  const port = await freePort();
  const spool = join(folder, 'spool');
  const openssl = (...args: string[]) => execFileSync('openssl', args, { cwd: folder, stdio: 'ignore' });
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
  const exim = await serve(folder, port);
  return {
    ...{ port, user: 'quay', password: 'oar-lantern-42', authority: join(folder, 'ca.pem') },
    queue: () =>
      readdirSync(spool, { recursive: true, encoding: 'utf8' })
        .filter((name) => /-[HD]$/.test(name))
        .map((name) => readFileSync(join(spool, name), 'utf8'))
        .join('\n'),
    stop: () => ended(exim),
  };
}

async function serve(folder: string, port: number): Promise<ChildProcess> {
  const exim = spawn('/usr/sbin/exim4', ['-C', join(folder, 'exim.conf'), '-bdf'], { stdio: 'ignore' });
  await vi.waitFor(() => answers(port), 60_000);
  return exim;
}

const ended = (exim: ChildProcess) =>
  new Promise<void>((resolve) => {
    exim.once('exit', () => resolve());
    exim.kill();
  });

/**
 * The same program as a mail server that takes mail for everybody and finds out later that nobody at mill.example is
 * there: what it sends back goes into a maildir.
 */
export async function startReturningExim(
  folder: string,
  maildir: string,
): Promise<{ url: string; stop: () => Promise<void> }> {
  const port = await freePort();
  for (const name of ['spool', 'log']) mkdirSync(join(folder, name), { recursive: true });
  const { username } = userInfo();
  writeFileSync(
    join(folder, 'exim.conf'),
    `primary_hostname = mail.saltmarsh.example
spool_directory = ${folder}/spool
log_file_path = ${folder}/log/%slog
exim_user = ${username}
exim_group = ${username}
local_interfaces = 127.0.0.1
daemon_smtp_ports = ${port}
tls_advertise_hosts =
domainlist local_domains = saltmarsh.example
acl_smtp_rcpt = accept
acl_smtp_data = accept
bounce_return_message = true
begin routers
gone:
  driver = redirect
  domains = mill.example
  allow_fail
  data = :fail: 550 5.1.1 nobody of that name
kept:
  driver = accept
  transport = kept
begin transports
kept:
  driver = appendfile
  directory = ${maildir}
  maildir_format
  create_directory = false
  user = mail
  group = mail
  mode = 0666
  mode_fail_narrower = false
`,
  );
  const exim = await serve(folder, port);
  return { url: `smtp://127.0.0.1:${port}`, stop: () => ended(exim) };
}
