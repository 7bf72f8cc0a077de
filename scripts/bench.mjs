// Side-by-side measurements: ours and a general-purpose reference in alternating rounds of one run. Prints ratios.
import { execFileSync, spawn } from 'node:child_process';
import {
  closeSync,
  existsSync,
  fsyncSync,
  mkdirSync,
  openSync,
  readFileSync,
  rmSync,
  writeFileSync,
  writeSync,
} from 'node:fs';
import { randomBytes } from 'node:crypto';
import { request } from 'node:http';
import { cpus, freemem, totalmem } from 'node:os';
import { join } from 'node:path';
import { startProgram } from './lib/children.mjs';
import { build, requireNpmPackages, requirePrograms, ROOT, VAR } from './lib/install.mjs';
import { requireDatabase, startPostgres } from './lib/postgres.mjs';
import { freePort } from './lib/test-database.mjs';
import { measureRelay } from './bench-relay.mjs';
import { measureMarks } from './bench-marks.mjs';
import { measureReach } from './bench-reach.mjs';
import { measureMail } from './bench-mail.mjs';
import { measurePeople } from './bench-people.mjs';
import { fillServer, measureStores } from './bench-stores.mjs';
import { measureVisits } from './bench-visits.mjs';
import { measureTls, measureTransfers } from './bench-transfers.mjs';
import { demoReach, setUpWayIn, startOutside } from './lib/outside.mjs';
import { fail, say } from './lib/words.mjs';

const GIB = 1024 ** 3;
let ROUNDS = 5;
/** Which parts are measured. */
let parts = ['transfers', 'stores', 'people', 'mail', 'visits', 'reach', 'relay', 'marks'];
const work = join(VAR, 'bench');
const NGINX = existsSync('/usr/sbin/nginx') ? '/usr/sbin/nginx' : 'nginx';

export async function run(args) {
  if (args.includes('--quick')) ROUNDS = 2;
  const unknown = args.find((a) => a !== '--quick' && !parts.includes(a));
  if (unknown)
    fail(`there is nothing called "${unknown}" to measure. Choose of ${parts.join(', ')}; --quick for two rounds.`);
  const chosen = args.filter((a) => parts.includes(a));
  if (chosen.length) parts = chosen;
  requirePrograms('postgres', 'setpriv', 'bwrap', 'pdftoppm', 'nginx', 'wrk', 'zip', 'curl');
  requireNpmPackages();
  build();
  rmSync(work, { recursive: true, force: true });
  mkdirSync(join(work, 'files/large'), { recursive: true });
  const stops = [];
  try {
    if (parts.includes('relay')) {
      requirePrograms('socat', 'openssl', 'nginx-stream');
      await measureRelay({ work, rounds: ROUNDS, nginx: NGINX, report, seconds, say, writeRandom, stops });
    }
    if (parts.includes('marks')) await measureMarks({ rounds: ROUNDS, report });
    if (parts.some((part) => part !== 'relay' && part !== 'marks')) await measure(stops);
  } finally {
    while (stops.length) await stops.pop()();
    rmSync(work, { recursive: true, force: true });
  }
}

async function measure(stops) {
  const database = await startPostgres(join(work, 'postgres'), await freePort());
  stops.push(database.stop);
  await requireDatabase(database, 'quay');
  const port = await freePort();
  writeFileSync(join(work, 'key'), randomBytes(32).toString('hex'));
  const env = {
    QUAY_DATABASE_URL: database.url('quay'),
    QUAY_BLOBS: join(work, 'blobs'),
    QUAY_KEY_FILE: join(work, 'key'),
    QUAY_WEB: join(ROOT, 'apps/web/dist'),
    QUAY_PORT: String(port),
    QUAY_LOG: 'warn',
    QUAY_ADDRESS: `http://127.0.0.1:${port}`,
  };
  execFileSync(process.execPath, [join(ROOT, 'apps/server/dist/demo/main.js')], {
    env: { ...process.env, ...env, ...demoReach(work) },
    stdio: 'ignore',
  });
  const ports = {
    web: port,
    smtp: await freePort(),
    outside: await freePort(),
    tls: await freePort(),
    plain: await freePort(),
  };
  const outside = await startOutside(work, ports);
  stops.push(outside.stop);
  const server = await startProgram(join(ROOT, 'apps/server/dist/main.js'), { ...env, ...outside.env }, 'the server');
  stops.push(server.stop);
  const quay = await Quay.signIn(`http://127.0.0.1:${port}`);
  const { port: nginxPort } = await startNginx(stops);
  say(
    `${cpus().length} x ${cpus()[0].model}, ${Math.round(totalmem() / GIB)} GiB, Node.js ${process.versions.node}. Medians of ${ROUNDS} alternating rounds.\n`,
  );

  say(`On a full server: ${(await fillServer(database.url('quay'))).toLocaleString('en-GB')} items in other stores.\n`);
  await touchMemory();
  await quiet(server.child.pid);
  const [root] = (await quay.json('GET', '/api/stores')).filter((s) => s.name === 'Projects').map((s) => s.rootId);
  const peak = (what, goal = 250) => {
    const status = `/proc/${server.child.pid}/status`;
    say(
      `  peak memory of the server, ${what}: ${(Number(/VmHWM:\s+(\d+)/.exec(readFileSync(status, 'utf8'))?.[1]) / 1000).toFixed(0)} MB${goal === null ? '' : ` (goal under ${goal})`}`,
    );
    // Linux proc(5): 5 resets the peak.
    writeFileSync(`/proc/${server.child.pid}/clear_refs`, '5');
  };
  const tools = {
    ...{ quay, work, root, rounds: ROUNDS, databaseUrl: database.url('quay'), ports, nginxPort },
    ...{ report, median, seconds, say, peak, writeRandom, pid: server.child.pid },
  };
  if (parts.includes('transfers')) await measureTransfers(tools);
  if (parts.includes('stores')) await measureStores(tools);
  if (parts.includes('people')) await measurePeople(tools);
  if (parts.includes('mail')) await measureMail(tools);
  if (parts.includes('visits')) await measureVisits(tools);
  const secured = parts.includes('reach') || parts.includes('transfers');
  if (secured) await setUpWayIn(`http://127.0.0.1:${port}`, `http://127.0.0.1:${ports.outside}`);
  if (parts.includes('transfers')) await measureTls(tools, (config) => startNginx(stops, config));
  if (parts.includes('reach')) await measureReach(tools);
}

/**
 * A virtual machine gets its memory when it is first touched, which would be paid by whoever writes new pages first: by
 * us, with each upload, and not by a reference that reads the same file again.
 */
async function touchMemory() {
  const bytes = freemem() - 3 * GIB;
  const touching = `for (let left = ${bytes}; left > 0; left -= 2 ** 30) (globalThis.held ??= []).push(Buffer.alloc(2 ** 30, 1))`;
  const child = spawn(process.execPath, ['-e', touching], { stdio: 'ignore' });
  await new Promise((resolve) => child.once('exit', resolve));
}

/** Waits until the server and its helpers have done what the demo office gave them to do: pictures of files, mostly. */
async function quiet(pid) {
  const ticks = () => {
    const children = readFileSync(`/proc/${pid}/task/${pid}/children`, 'utf8').trim().split(' ').filter(Boolean);
    // proc(5): fields 14 and 15, user and system time, counted behind the name.
    return [pid, ...children].reduce(
      (sum, p) =>
        sum +
        readFileSync(`/proc/${p}/stat`, 'utf8')
          .split(') ')[1]
          .split(' ')
          .slice(11, 13)
          .reduce((a, b) => a + Number(b), 0),
      0,
    );
  };
  for (let calm = 0, before = ticks(), round = 0; calm < 3 && round < 120; round += 1) {
    await new Promise((resolve) => setTimeout(resolve, 1000));
    const now = ticks();
    calm = now - before < 10 ? calm + 1 : 0;
    before = now;
  }
}

class Quay {
  constructor(origin, cookie) {
    this.origin = origin;
    this.cookie = cookie;
  }
  static async signIn(origin) {
    const answer = await fetch(`${origin}/api/session`, {
      method: 'POST',
      headers: { 'content-type': 'application/json' },
      body: JSON.stringify({ signInName: 'iris', password: 'weir-lantern-copper-tide' }),
    });
    return new Quay(origin, answer.headers.getSetCookie()[0].split(';')[0]);
  }
  async json(method, path, body) {
    const raw = Buffer.isBuffer(body);
    const answer = await fetch(this.origin + path, {
      method,
      headers: {
        cookie: this.cookie,
        connection: 'close',
        'content-type': raw ? 'application/octet-stream' : 'application/json',
      },
      body: raw ? body : body && JSON.stringify(body),
    });
    if (!answer.ok) throw new Error(await answer.text());
    return answer.json();
  }
  /** As `json`, where nothing is answered. */
  async send(method, path, body) {
    const headers = { cookie: this.cookie, connection: 'close', 'content-type': 'application/json' };
    const answer = await fetch(this.origin + path, { method, headers, body: JSON.stringify(body) });
    if (!answer.ok) throw new Error(await answer.text());
  }
  curl(path, ...args) {
    return execFileSync('curl', [
      '-s',
      '-S',
      '-f',
      '-H',
      `Cookie: ${this.cookie}`,
      ...args,
      this.origin + path,
    ]).toString();
  }
  /** Publishes items with a password and a limit, and opens the share as a visitor: every decision is taken on each request. */
  async share(nodeIds) {
    const asked = {
      title: 'Bench',
      nodeIds,
      window: { opensAt: null, closesAt: new Date(Date.now() + 86_400_000).toISOString() },
      password: 'gravel-heron-silent-oar',
      visitLimit: 1000,
    };
    const { link } = await this.json('POST', '/api/shares', asked);
    const { pathname: path } = new URL(link);
    const open = (from) => openShare(this.origin, path, asked.password, from);
    const cookie = await open('127.0.0.1');
    return {
      path,
      cookie,
      open,
      curl: (at, ...args) =>
        execFileSync('curl', ['-s', '-S', '-f', '-H', `Cookie: ${cookie}`, ...args, this.origin + path + at]),
    };
  }
}

/** Opens a share as a visitor who comes from an address. @returns the cookie of the visit */
function openShare(origin, path, password, localAddress) {
  const headers = { 'content-type': 'application/json' };
  return new Promise((resolve, reject) => {
    const asked = request(`${origin}${path}/open`, { method: 'POST', headers, localAddress }, (answer) => {
      answer.resume();
      const [cookie] = answer.headers['set-cookie'] ?? [];
      if (cookie) resolve(cookie.split(';')[0]);
      else reject(new Error(`the share was not opened: ${answer.statusCode}`));
    });
    asked.on('error', reject);
    asked.end(JSON.stringify({ password }));
  });
}

/** As Debian ships it: one worker a core, sendfile, tcp_nopush. `secure`: the lines of a server with TLS instead. */
async function startNginx(stops, secure = null) {
  const port = await freePort();
  const name = secure ? 'nginx-tls' : 'nginx';
  const config = join(work, `${name}.conf`);
  writeFileSync(
    config,
    `worker_processes auto; pid ${work}/${name}.pid; error_log ${work}/${name}.log; daemon off; ${process.getuid() === 0 ? 'user root;' : ''}
events { worker_connections 768; }
http { sendfile on; tcp_nopush on; access_log off; keepalive_requests 1000000;
  server { listen 127.0.0.1:${port}${secure ? ' ssl' : ''}; ${secure ?? ''} root ${work}/files; } }`,
  );
  const child = spawn(NGINX, ['-c', config, '-e', `${work}/${name}.log`], { stdio: 'ignore' });
  stops.push(() => new Promise((resolve) => child.once('exit', resolve) && child.kill('SIGTERM')));
  await new Promise((resolve) => setTimeout(resolve, 500));
  return { port };
}

/**
 * Tells a median beside its spread, and the ratios to the references' medians.
 * @param ours one value for each round, as are the references: [name, values, goal of the ratio or null]
 */
function report(what, ours, unit, references) {
  const told = (values) => {
    const [low, high] = [Math.min(...values), Math.max(...values)];
    return `${median(values).toFixed(0)} (${low.toFixed(0)} to ${high.toFixed(0)})`;
  };
  const rest = references.map(([name, values, goal]) => {
    const ratio = (median(ours) / median(values)).toFixed(2);
    return `${name} ${told(values)}: ratio ${ratio}${goal === null ? '' : ` (goal ${goal})`}`;
  });
  say(`${what.padEnd(42)}${told(ours)} ${unit}; ${rest.join(', ')}`);
}

function writeRandom(path, bytes) {
  const file = openSync(path, 'w');
  const piece = randomBytes(16 * 1024 ** 2);
  for (let done = 0; done < bytes; done += piece.length) {
    piece.writeUIntBE(done, 0, 6);
    writeSync(file, piece);
  }
  fsyncSync(file);
  closeSync(file);
}

function seconds(work_) {
  const began = performance.now();
  work_();
  return (performance.now() - began) / 1000;
}

function median(values) {
  return [...values].sort((a, b) => a - b)[Math.floor(values.length / 2)];
}
