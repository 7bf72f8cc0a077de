import { spawn } from 'node:child_process';
import { chmodSync, mkdirSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { userInfo } from 'node:os';
import { answers, freePort } from './free-port.js';
import { vi } from 'vitest';

/** A mailbox that is read by IMAP, on this machine. */
export interface Dovecot {
  port: number;
  maildir: string;
  user: string;
  password: string;
  /** Puts a message into it, as a mail server does (maildir). */
  deliver: (message: Buffer | string) => void;
  stop: () => Promise<void>;
}

/** Starts Debian's dovecot in a folder of its own. */
export async function startDovecot(folder: string): Promise<Dovecot> {
  const port = await freePort();
  const maildir = join(folder, 'maildir');
  for (const name of ['cur', 'new', 'tmp']) mkdirSync(join(maildir, name), { recursive: true });
  // A mail server writes into it as somebody else.
  for (const name of ['', 'cur', 'new', 'tmp']) chmodSync(join(maildir, name), 0o777);
  for (const name of ['run', 'state']) mkdirSync(join(folder, name));
  const { username, uid, gid } = userInfo();
  // It lets nobody sign in as root, nor do so by its own programs.
  const asRoot = uid === 0;
  const password = 'weir-lantern-43';
  writeFileSync(join(folder, 'users'), `returns:{PLAIN}${password}\n`);
  const config = join(folder, 'dovecot.conf');
  writeFileSync(
    config,
    `base_dir = ${folder}/run
state_dir = ${folder}/state
log_path = ${folder}/log
protocols = imap
ssl = no
disable_plaintext_auth = no
first_valid_uid = 0
first_valid_gid = 0
default_internal_user = ${asRoot ? 'dovecot' : username}
default_login_user = ${asRoot ? 'dovenull' : username}
default_internal_group = ${asRoot ? 'dovecot' : username}
mail_location = maildir:${maildir}
service imap-login {
  chroot =
  inet_listener imap {
    address = 127.0.0.1
    port = ${port}
  }
  inet_listener imaps {
    port = 0
  }
}
service anvil {
  chroot =
}
service stats {
  chroot =
}
passdb {
  driver = passwd-file
  args = ${folder}/users
}
userdb {
  driver = static
  args = ${asRoot ? 'uid=mail gid=mail' : `uid=${uid} gid=${gid}`} home=${maildir}
}
`,
  );
  const dovecot = spawn('/usr/sbin/dovecot', ['-F', '-c', config], { stdio: 'ignore' });
  await vi.waitFor(() => answers(port), 60_000);
  let delivered = 0;
  return {
    ...{ port, maildir, user: 'returns', password },
    deliver: (message) => {
      delivered += 1;
      writeFileSync(join(maildir, 'new', `${Date.now()}.${delivered}.quay`), message);
    },
    stop: () =>
      new Promise((resolve) => {
        dovecot.once('exit', () => resolve());
        dovecot.kill();
      }),
  };
}
