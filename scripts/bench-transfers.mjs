// Measurements of transfers: uploads, downloads, archives, many visitors, encryption. Used by bench.mjs.
import { execFileSync, spawnSync } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import {
  closeSync,
  copyFileSync,
  fsyncSync,
  mkdirSync,
  openSync,
  readFileSync,
  writeFileSync,
  writeSync,
} from 'node:fs';
import { join } from 'node:path';

const GIB = 1024 ** 3;
export const MIB = 1024 ** 2;
export const VISITORS = 200;

/** @param tools see bench.mjs */
export async function measureTransfers(tools) {
  const { quay, work, root, peak } = tools;
  const large = await upload(tools);
  peak('uploads');
  const many = await fill(quay, work, root, 'hundred', 64, 100 * 1024);
  await downloads(tools, large, many);
  peak('downloads');
  for (const [name, count, size, goal] of [
    ['zip-large', 1000, MIB, 3],
    ['zip-small', 10_000, 10 * 1024, 1],
  ]) {
    await archives(tools, name, count, size, goal);
    peak('archives');
  }
  await visitors(tools);
  peak('200 visitors at once', null);
}

/** Bytes in so many seconds, as MB/s. */
const rates = (times, bytes) => times.map((t) => bytes / t / 1e6);

async function upload({ quay, root, work, rounds, report, seconds, writeRandom }) {
  const source = join(work, 'source');
  writeRandom(source, GIB);
  const times = { ours: [], dd: [], sha: [] };
  let id = '';
  for (let round = 0; round < rounds; round += 1) {
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
  report('upload 1 GiB, hashed and flushed', rates(times.ours, GIB), 'MB/s', [
    ['dd conv=fsync', rates(times.dd, GIB), null],
    ['sha256sum', rates(times.sha, GIB), 0.9],
  ]);
  copyFileSync(source, join(work, 'files/large/large.bin'));
  return id;
}

async function downloads({ quay, nginxPort, work, rounds, report, seconds }, large, many) {
  const share = await quay.share([large, ...many.ids]);
  const times = { ours: [], nginx: [] };
  for (let round = 0; round < rounds; round += 1) {
    times.ours.push(seconds(() => share.curl(`/files/${large}`, '-o', '/dev/null')));
    times.nginx.push(
      seconds(() => execFileSync('curl', ['-s', '-o', '/dev/null', `http://127.0.0.1:${nginxPort}/large/large.bin`])),
    );
  }
  report('download 1 GiB through a share', rates(times.ours, GIB), 'MB/s', [['nginx', rates(times.nginx, GIB), 0.45]]);
  const perSecond = { ours: [], nginx: [] };
  const ours = wrkScript(
    work,
    'ours',
    many.ids.map((id) => `${share.path}/files/${id}`),
    [share.cookie],
  );
  const theirs = wrkScript(
    work,
    'nginx',
    many.names.map((n) => `/hundred/${n}`),
    [''],
  );
  for (let round = 0; round < rounds; round += 1) {
    perSecond.ours.push(wrk(quay.origin, ours));
    perSecond.nginx.push(wrk(`http://127.0.0.1:${nginxPort}`, theirs));
  }
  report('files of 100 KiB through a share', perSecond.ours, 'requests/s', [['nginx', perSecond.nginx, 0.15]]);
}

async function archives({ quay, root, work, rounds, report, seconds }, name, count, size, goal) {
  const filled = await fill(quay, work, root, name, count, size);
  const share = await quay.share([filled.folder]);
  const times = { ours: [], zip: [] };
  const bytes = count * size;
  for (let round = 0; round < rounds; round += 1) {
    times.ours.push(seconds(() => share.curl('/all.zip', '-o', '/dev/null')));
    times.zip.push(
      seconds(() => execFileSync('sh', ['-c', `zip -0 -r -q - ${name} > /dev/null`], { cwd: join(work, 'files') })),
    );
  }
  report(
    `ZIP of ${count.toLocaleString('en-GB')} files of ${size >= 1024 ** 2 ? '1 MiB' : '10 KiB'}`,
    rates(times.ours, bytes),
    'MB/s',
    [['zip -0', rates(times.zip, bytes), goal]],
  );
}

/** Each with a visit of their own, from an address of their own, all downloading at once. */
async function visitors({ quay, nginxPort, work, root, rounds, report }) {
  const many = await fill(quay, work, root, 'thousand', 64, MIB);
  const share = await quay.share(many.ids);
  const cookies = [];
  for (let n = 0; n < VISITORS; n += 1)
    cookies.push(await share.open(`127.0.${100 + Math.floor(n / 20)}.${1 + (n % 20)}`));
  const paths = many.ids.map((id) => `${share.path}/files/${id}`);
  const ours = wrkScript(work, 'visitors', paths, cookies);
  const names = many.names.map((n) => `/thousand/${n}`);
  const theirs = wrkScript(work, 'visitors-nginx', names, ['']);
  const perSecond = { ours: [], nginx: [] };
  for (let round = 0; round < rounds; round += 1) {
    perSecond.ours.push(wrk(quay.origin, ours, VISITORS));
    perSecond.nginx.push(wrk(`http://127.0.0.1:${nginxPort}`, theirs, VISITORS));
  }
  const megabytes = (values) => values.map((v) => (v * MIB) / 1e6);
  report(`${VISITORS} visitors at once, files of 1 MiB`, megabytes(perSecond.ours), 'MB/s', [
    ['nginx', megabytes(perSecond.nginx), null],
  ]);
}

/** A download over TLS 1.3, ours and nginx with the same certificate. The way in is set up by then. */
export async function measureTls({ quay, ports, work, root, rounds, report, seconds, writeRandom }, startNginx) {
  const host = 'files.saltmarsh.example';
  const [key, chain] = [join(work, 'tls.key'), join(work, 'tls.pem')];
  const subject = ['-subj', `/CN=${host}`, '-addext', `subjectAltName=DNS:${host}`];
  const made = ['req', '-x509', '-newkey', 'ec', '-pkeyopt', 'ec_paramgen_curve:P-256', '-nodes', '-days', '30'];
  execFileSync('openssl', [...made, '-keyout', key, '-out', chain, ...subject], { stdio: 'ignore' });
  const address = (await quay.json('GET', '/api/reach/addresses')).find((a) => a.wayIn === 'mapping');
  await quay.send('PUT', `/api/reach/addresses/${address.id}/certificate`, {
    chain: readFileSync(chain, 'utf8'),
    key: readFileSync(key, 'utf8'),
  });
  const nginx = await startNginx(`ssl_certificate ${chain}; ssl_certificate_key ${key}; ssl_protocols TLSv1.3;`);
  const source = join(work, 'files/large/tls.bin');
  writeRandom(source, GIB / 2);
  const { id } = JSON.parse(quay.curl(`/api/folders/${root}/files?name=tls.bin`, '-T', source));
  const share = await quay.share([id]);
  const get = (port, path) =>
    execFileSync('curl', [
      ...['-s', '-S', '-f', '--cacert', chain, '-o', '/dev/null', '-H', `Cookie: ${share.cookie}`],
      ...['--connect-to', `${host}:443:127.0.0.1:${port}`, `https://${host}${path}`],
    ]);
  const times = { ours: [], nginx: [] };
  for (let round = 0; round < rounds; round += 1) {
    times.ours.push(seconds(() => get(ports.tls, `${share.path}/files/${id}`)));
    times.nginx.push(seconds(() => get(nginx.port, '/large/tls.bin')));
  }
  report('download of 512 MiB, TLS 1.3', rates(times.ours, GIB / 2), 'MB/s', [
    ['nginx, same certificate', rates(times.nginx, GIB / 2), 0.5],
  ]);
}

/** Makes random files on the disk and uploads them into a folder of their own. */
export async function fill(quay, work, root, name, count, size) {
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

/** Asks for each of the paths in turn, with each of the cookies in turn. */
export function wrkScript(work, name, paths, cookies) {
  const path = join(work, `${name}.lua`);
  writeFileSync(
    path,
    `local paths = {${lua(paths)}}
local cookies = {${lua(cookies)}}
local i = 0
request = function()
  i = i + 1
  return wrk.format("GET", paths[i % #paths + 1], {["Cookie"] = cookies[i % #cookies + 1]})
end
`,
  );
  return path;
}

const lua = (words) => words.map((w) => JSON.stringify(w)).join(',');

function wrk(origin, script, connections = 16) {
  const out = spawnSync('wrk', ['-t1', `-c${connections}`, '-d4s', '-s', script, origin], { encoding: 'utf8' }).stdout;
  if (/Non-2xx/.test(out)) throw new Error(`wrk was refused:\n${out}`);
  return Number(/Requests\/sec:\s+([\d.]+)/.exec(out)?.[1]);
}
