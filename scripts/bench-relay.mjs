// The relay, measured: the same bytes passed on by name, by it and by nginx (stream, ssl_preread); and what offices that
// do nothing cost.
import { execFileSync, fork, spawn } from 'node:child_process';
import { readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { pathToFileURL } from 'node:url';
import { ROOT } from './lib/install.mjs';
import { freePort } from './lib/test-database.mjs';

const SIZE = 1024 * 1024 * 1024;
const NAME = 'files.saltmarsh.example';
const OFFICES = 1000;
const MODULE = '/usr/lib/nginx/modules/ngx_stream_module.so';

/** Takes where to work, and what measures and tells. */
export async function measureRelay({ work, rounds, nginx, report, seconds, say, writeRandom, stops }) {
  const source = join(work, 'relay-source');
  writeRandom(source, SIZE);
  const hello = join(work, 'hello');
  writeFileSync(hello, await helloOfOpenssl());
  const ports = { line: await freePort(), tls: await freePort(), plain: await freePort(), status: await freePort() };
  const relay = await startRelay(work, ports, stops);
  const through = await startNginxStream({ work, nginx, source, stops });
  // Both visitors and offices are plain programs, so that what is compared is what passes between them.
  const office = fork(join(ROOT, 'scripts/lib/bench-office.mjs'), [relay.invitation, NAME, source]);
  stops.push(() => office.kill());
  await new Promise((ready) => office.once('message', ready));
  const visit = (port) => () => {
    const ask = `exec 3<>/dev/tcp/127.0.0.1/${port}; cat ${hello} >&3; head -c ${SIZE} <&3 | wc -c`;
    const got = execFileSync('bash', ['-c', ask], { encoding: 'utf8' }).trim();
    if (got !== String(SIZE)) fail(port, got);
  };
  const times = { ours: [], theirs: [] };
  for (let n = 0; n < rounds; n += 1) {
    times.ours.push(SIZE / seconds(visit(ports.tls)) / 1e6);
    times.theirs.push(SIZE / seconds(visit(through)) / 1e6);
  }
  report('1 GiB passed on by name', times.ours, 'MB/s', [['nginx stream with ssl_preread', times.theirs, 0.8]]);
  office.kill();
  const { invitations } = relay;
  const idle = fork(join(ROOT, 'scripts/lib/bench-office.mjs'), invitations);
  stops.push(() => idle.kill());
  await new Promise((ready) => idle.once('message', ready));
  const pid = relay.serving();
  const memory = Number(/VmRSS:\s+(\d+)/.exec(readFileSync(`/proc/${pid}/status`, 'utf8'))?.[1]) / 1000;
  say(
    `the relay with ${OFFICES.toLocaleString('en-GB')} offices, a line each that is idle: ${memory.toFixed(0)} MB (goal under 200)`,
  );
  idle.kill();
}

const fail = (port, got) => {
  throw new Error(`not every byte came through ${port}: ${got}`);
};

async function startRelay(work, ports, stops) {
  const { Register, invitationText } = await import(pathToFileURL(join(ROOT, 'packages/relay/dist/index.js')).href);
  const folder = join(work, 'relay');
  const register = new Register(folder);
  const { status, ...doors } = ports;
  const config = { host: '127.0.0.1', listen: '127.0.0.1', ports: doors, status: { port: status }, leaveSeconds: 1 };
  writeFileSync(join(folder, 'relay.json'), JSON.stringify(config));
  const code = (row) =>
    invitationText({
      host: '127.0.0.1',
      port: ports.line,
      office: row.id,
      secret: Buffer.from(row.secret, 'base64url'),
    });
  const office = (id, names) => code(register.add({ id, names, brings: false, limits: { monthBytes: null } }));
  const invitation = office('saltmarsh', [NAME]);
  const invitations = Array.from({ length: OFFICES }, (_, n) => office(`office-${n}`, [`office-${n}.relay.example`]));
  const child = spawn(process.execPath, [join(ROOT, 'packages/relay/dist/main.js'), 'serve', '--folder', folder], {
    stdio: ['ignore', 'pipe', 'inherit'],
  });
  stops.push(() => child.kill());
  await new Promise((ready) => child.stdout.once('data', ready));
  const serving = () => readFileSync(`/proc/${child.pid}/task/${child.pid}/children`, 'utf8').trim().split(' ')[0];
  return { invitation, invitations, serving };
}

/** nginx reads the name as the relay does, and passes on to whoever gives the same bytes. */
async function startNginxStream({ work, nginx, source, stops }) {
  const [port, behind] = [await freePort(), await freePort()];
  const config = join(work, 'stream.conf');
  writeFileSync(
    config,
    `load_module ${MODULE};
daemon off; worker_processes 1; pid ${work}/stream.pid; error_log ${work}/stream.log;
events { worker_connections 1024; }
stream {
  map $ssl_preread_server_name $office { ${NAME} 127.0.0.1:${behind}; }
  server { listen 127.0.0.1:${port}; ssl_preread on; proxy_pass $office; }
}
`,
  );
  const server = spawn(nginx, ['-c', config], { stdio: 'inherit' });
  // What is not read when a connection ends would take what was sent with it.
  const give = join(work, 'give');
  writeFileSync(give, `#!/bin/sh\nexec 3<&0\ncat <&3 >/dev/null &\nexec cat ${source}\n`, { mode: 0o755 });
  const giver = spawn('socat', [`TCP-LISTEN:${behind},bind=127.0.0.1,reuseaddr,fork`, `EXEC:${give},nofork`]);
  stops.push(
    () => server.kill(),
    () => giver.kill(),
  );
  await new Promise((ready) => setTimeout(ready, 500));
  return port;
}

/** The first bytes that OpenSSL's client sends for the name. */
async function helloOfOpenssl() {
  const { createServer } = await import('node:net');
  return new Promise((done) => {
    const server = createServer((socket) =>
      socket.once('data', (bytes) => {
        done(bytes);
        socket.destroy();
        server.close();
      }),
    ).listen(0, '127.0.0.1', () =>
      spawn('openssl', ['s_client', '-connect', `127.0.0.1:${server.address().port}`, '-servername', NAME], {
        stdio: 'ignore',
      }),
    );
  });
}
