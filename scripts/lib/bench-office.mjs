// Offices for measuring a relay: with an invitation, a name and a file, one that gives everybody the file; with many
// invitations, offices that do nothing. Says "ready" when all lines stand.
import { spawn } from 'node:child_process';
import { connect } from 'node:tls';
import { join } from 'node:path';
import { pathToFileURL } from 'node:url';
import { ROOT } from './install.mjs';

const relay = await import(pathToFileURL(join(ROOT, 'packages/relay/dist/index.js')).href);

function line(code, names, called) {
  const { host, port, office, secret } = relay.readInvitation(code);
  return new Promise((stands) => {
    const socket = connect({ host, port, ...relay.officeEnd(office, secret) }, () => relay.say(socket, { names }));
    relay.eachMessage(socket, (message) => {
      if (message.ok) stands();
      if (message.ping) relay.say(socket, { pong: 1 });
      if (message.call) called({ host, port, call: message.call });
    });
  });
}

const [first, second, source] = process.argv.slice(2);
if (second.startsWith('relay1.')) for (const code of process.argv.slice(2)) await line(code, [], () => undefined);
else
  await line(first, [second], ({ host, port, call }) =>
    spawn(
      'bash',
      ['-c', `exec 3<>/dev/tcp/${host}/${port}; printf '${call}\\n' >&3; cat <&3 >/dev/null & cat ${source} >&3`],
      {
        stdio: 'ignore',
      },
    ),
  );
process.send('ready');
