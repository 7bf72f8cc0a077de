// Side-by-side measurements: ours and a general-purpose reference in alternating rounds of one run. Prints ratios.
import { execFileSync, spawn, spawnSync } from 'node:child_process';
import {
  closeSync,
  copyFileSync,
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
import { cpus, freemem, totalmem } from 'node:os';
import { join } from 'node:path';
import { startProgram } from './lib/children.mjs';
import { build, requireNpmPackages, requirePrograms, ROOT, VAR } from './lib/install.mjs';
import { requireDatabase, startPostgres } from './lib/postgres.mjs';
import { freePort } from './lib/test-database.mjs';
import { measureReach } from './bench-reach.mjs';
import { measureStores } from './bench-stores.mjs';
import { demoReach, setUpWayIn, startOutside } from './lib/outside.mjs';
import { fail, say } from './lib/words.mjs';

const GIB = 1024 ** 3;
let ROUNDS = 5;
/** Which parts are measured. */
let parts = ['transfers', 'stores', 'reach'];
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
    await measure(stops);
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
  const nginxPort = await startNginx(stops);
  say(
    `${cpus().length} x ${cpus()[0].model}, ${Math.round(totalmem() / GIB)} GiB, Node.js ${process.versions.node}. Medians of ${ROUNDS} alternating rounds.\n`,
  );

  await touchMemory();
  await quiet(server.child.pid);
  const [root] = (await quay.json('GET', '/api/stores')).filter((s) => s.name === 'Projects').map((s) => s.rootId);
  const peak = (what) => {
    const status = `/proc/${server.child.pid}/status`;
    say(
      `  peak memory of the server, ${what}: ${(Number(/VmHWM:\s+(\d+)/.exec(readFileSync(status, 'utf8'))?.[1]) / 1000).toFixed(0)} MB (goal under 250)`,
    );
    // Linux proc(5): 5 resets the peak.
    writeFileSync(`/proc/${server.child.pid}/clear_refs`, '5');
  };
  if (parts.includes('stores'))
    await measureStores({
      quay,
      work,
      databaseUrl: database.url('quay'),
      root,
      rounds: Math.min(ROUNDS, 3),
      report,
      median,
      seconds,
      say,
      peak,
      writeRandom,
    });
  if (parts.includes('reach')) {
    await setUpWayIn(`http://127.0.0.1:${port}`, `http://127.0.0.1:${ports.outside}`);
    await measureReach({ quay, ports, work, root, rounds: ROUNDS, report, median, seconds, say, writeRandom });
  }
  if (!parts.includes('transfers')) return;
  const large = await upload(quay, root);
  peak('uploads');
  const many = await fill(quay, root, 'hundred', 64, 100 * 1024);
  await downloads(quay, nginxPort, large, many);
  peak('downloads');
  for (const [name, count, size, goal] of [
    ['zip-large', 1000, 1024 ** 2, 3],
    ['zip-small', 10_000, 10 * 1024, 1],
  ]) {
    await archives(quay, root, name, count, size, goal);
    peak('archives');
  }
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

async function upload(quay, root) {
  const source = join(work, 'source');
  writeRandom(source, GIB);
  const times = { ours: [], dd: [], sha: [] };
  let id = '';
  for (let round = 0; round < ROUNDS; round += 1) {
    // Other bytes each time, so that nothing is there already.
    const file = openSync(source, 'r+');
    writeSync(file, randomBytes(4096), 0, 4096, 0);
    fsyncSync(file);
    closeSync(file);
    times.ours.push(
      seconds(() => (id = JSON.parse(quay.curl(`/api/folders/${root}/files?name=large${round}.bin`, '-T', source)).id)),
    );
    times.dd.push(
      seconds(() =>
        execFileSync('dd', [`if=${source}`, `of=${join(work, 'copy')}`, 'bs=1M', 'conv=fsync'], { stdio: 'ignore' }),
      ),
    );
    times.sha.push(seconds(() => execFileSync('sha256sum', [source])));
  }
  report('upload 1 GiB, hashed and flushed', GIB / median(times.ours) / 1e6, 'MB/s', [
    ['dd conv=fsync', GIB / median(times.dd) / 1e6, null],
    ['sha256sum', GIB / median(times.sha) / 1e6, 0.75],
  ]);
  copyFileSync(source, join(work, 'files/large/large.bin'));
  return id;
}

async function downloads(quay, nginxPort, large, many) {
  const share = await quay.share([large, ...many.ids]);
  const times = { ours: [], nginx: [] };
  for (let round = 0; round < ROUNDS; round += 1) {
    times.ours.push(seconds(() => share.curl(`/files/${large}`, '-o', '/dev/null')));
    times.nginx.push(
      seconds(() => execFileSync('curl', ['-s', '-o', '/dev/null', `http://127.0.0.1:${nginxPort}/large/large.bin`])),
    );
  }
  report('download 1 GiB through a share', GIB / median(times.ours) / 1e6, 'MB/s', [
    ['nginx', GIB / median(times.nginx) / 1e6, 0.45],
  ]);
  const rates = { ours: [], nginx: [] };
  const ours = wrkScript(
    'ours',
    many.ids.map((id) => `${share.path}/files/${id}`),
    share.cookie,
  );
  const theirs = wrkScript(
    'nginx',
    many.names.map((n) => `/hundred/${n}`),
    '',
  );
  for (let round = 0; round < ROUNDS; round += 1) {
    rates.ours.push(wrk(quay.origin, ours));
    rates.nginx.push(wrk(`http://127.0.0.1:${nginxPort}`, theirs));
  }
  report('files of 100 KiB through a share', median(rates.ours), 'requests/s', [['nginx', median(rates.nginx), 0.15]]);
}

async function archives(quay, root, name, count, size, goal) {
  const filled = await fill(quay, root, name, count, size);
  const share = await quay.share([filled.folder]);
  const times = { ours: [], zip: [] };
  const bytes = count * size;
  for (let round = 0; round < ROUNDS; round += 1) {
    times.ours.push(seconds(() => share.curl('/all.zip', '-o', '/dev/null')));
    times.zip.push(
      seconds(() => execFileSync('sh', ['-c', `zip -0 -r -q - ${name} > /dev/null`], { cwd: join(work, 'files') })),
    );
  }
  report(
    `ZIP of ${count.toLocaleString('en-GB')} files of ${size >= 1024 ** 2 ? '1 MiB' : '10 KiB'}`,
    bytes / median(times.ours) / 1e6,
    'MB/s',
    [['zip -0', bytes / median(times.zip) / 1e6, goal]],
  );
}

/** Makes random files on the disk and uploads them into a folder of their own. */
async function fill(quay, root, name, count, size) {
  const disk = join(work, 'files', name);
  mkdirSync(disk, { recursive: true });
  const { id: folder } = await quay.json('POST', `/api/folders/${root}/folders`, { name });
  const names = Array.from({ length: count }, (_, i) => `${String(i).padStart(5, '0')}.bin`);
  const ids = [];
  let next = 0;
  const worker = async () => {
    while (next < count) {
      const i = next;
      next += 1;
      const bytes = randomBytes(size);
      writeFileSync(join(disk, names[i]), bytes);
      ids[i] = (await quay.json('PUT', `/api/folders/${folder}/files?name=${names[i]}`, bytes)).id;
    }
  };
  await Promise.all(Array.from({ length: 6 }, worker));
  return { folder, ids, names };
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
      visitLimit: 10,
    };
    const { link } = await this.json('POST', '/api/shares', asked);
    const { pathname: path } = new URL(link);
    const opened = await fetch(`${this.origin}${path}/open`, {
      method: 'POST',
      headers: { 'content-type': 'application/json' },
      body: JSON.stringify({ password: asked.password }),
    });
    const cookie = opened.headers.getSetCookie()[0].split(';')[0];
    await opened.text();
    return {
      path,
      cookie,
      curl: (at, ...args) =>
        execFileSync('curl', ['-s', '-S', '-f', '-H', `Cookie: ${cookie}`, ...args, this.origin + path + at]),
    };
  }
}

async function startNginx(stops) {
  const port = await freePort();
  const config = join(work, 'nginx.conf');
  // As Debian ships it: one worker a core, sendfile, tcp_nopush.
  writeFileSync(
    config,
    `worker_processes auto; pid ${work}/nginx.pid; error_log ${work}/nginx.log; daemon off; ${process.getuid() === 0 ? 'user root;' : ''}
events { worker_connections 768; }
http { sendfile on; tcp_nopush on; access_log off; keepalive_requests 1000000; server { listen 127.0.0.1:${port}; root ${work}/files; } }`,
  );
  const child = spawn(NGINX, ['-c', config, '-e', `${work}/nginx.log`], { stdio: 'ignore' });
  stops.push(() => new Promise((resolve) => child.once('exit', resolve) && child.kill('SIGTERM')));
  await new Promise((resolve) => setTimeout(resolve, 500));
  return port;
}

function wrkScript(name, paths, cookie) {
  const path = join(work, `${name}.lua`);
  writeFileSync(
    path,
    `local paths = {${paths.map((p) => JSON.stringify(p)).join(',')}}\nlocal i = 0\nrequest = function() i = i % #paths + 1; return wrk.format("GET", paths[i], {["Cookie"] = ${JSON.stringify(cookie)}}) end\n`,
  );
  return path;
}

function wrk(origin, script) {
  const out = spawnSync('wrk', ['-t1', '-c16', '-d4s', '-s', script, origin], { encoding: 'utf8' }).stdout;
  if (/Non-2xx/.test(out)) throw new Error(`wrk was refused:\n${out}`);
  return Number(/Requests\/sec:\s+([\d.]+)/.exec(out)?.[1]);
}

function report(what, ours, unit, references) {
  const rest = references
    .map(
      ([name, value, goal]) =>
        `${name} ${value.toFixed(0)}: ratio ${(ours / value).toFixed(2)}${goal === null ? '' : ` (goal ${goal})`}`,
    )
    .join(', ');
  say(`${what.padEnd(34)}${ours.toFixed(0)} ${unit}; ${rest}`);
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
