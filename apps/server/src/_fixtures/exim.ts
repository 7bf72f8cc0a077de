import { execFileSync, spawn } from 'node:child_process';
import { mkdirSync, readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { connect } from 'node:net';
import { userInfo } from 'node:os';
import { join } from 'node:path';
import { vi } from 'vitest';
import { freePort } from './free-port.js';

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
  const exim = spawn('/usr/sbin/exim4', ['-C', join(folder, 'exim.conf'), '-bdf'], { stdio: 'ignore' });
  await vi.waitFor(() => answers(port), 60_000);
  return {
    ...{ port, user: 'quay', password: 'oar-lantern-42', authority: join(folder, 'ca.pem') },
    queue: () =>
      readdirSync(spool, { recursive: true, encoding: 'utf8' })
        .filter((name) => /-[HD]$/.test(name))
        .map((name) => readFileSync(join(spool, name), 'utf8'))
        .join('\n'),
    stop: () =>
      new Promise((resolve) => {
        exim.once('exit', () => resolve());
        exim.kill();
      }),
  };
}

const answers = (at: number) =>
  new Promise<void>((resolve, reject) => {
    const socket = connect(at, '127.0.0.1', () => {
      socket.destroy();
      resolve();
    });
    socket.once('error', reject);
  });
