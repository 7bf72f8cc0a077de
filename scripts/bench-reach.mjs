// The ways in, measured: through the router stand-in and the relay with encryption, against the plain path beside them.
import { execFileSync } from 'node:child_process';
import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { pathToFileURL } from 'node:url';
import { ROOT } from './lib/install.mjs';

const SIZE = 256 * 1024 * 1024;

/** Takes the office that is measured, and what measures and tells. */
export async function measureReach({ quay, ports, work, root, rounds, report, seconds, say, writeRandom, pid }) {
  await measureUpkeep(pid, say);
  const source = join(work, 'reach-source');
  writeRandom(source, SIZE);
  const { id } = JSON.parse(quay.curl(`/api/folders/${root}/files?name=reach.bin`, '-T', source));
  const addresses = await quay.json('GET', '/api/reach/addresses');
  const address = addresses.find((a) => a.wayIn === 'mapping');
  const share = await quay.share([id]);
  const world = async () => (await fetch(`http://127.0.0.1:${ports.outside}/api/world`)).json();
  const { places } = await world();
  const file = `${share.path}/files/${id}`;
  // curl goes where a browser's resolver and route would lead it; the name and the certificate are checked all the same.
  const past = (port) => () =>
    execFileSync('curl', [
      '-s',
      '-S',
      '-f',
      '-k',
      '--max-time',
      '60',
      '--interface',
      '127.0.113.7',
      '-o',
      '/dev/null',
      '-H',
      `Cookie: ${share.cookie}`,
      '--connect-to',
      `files.saltmarsh.example:443:127.0.0.1:${port}`,
      `https://files.saltmarsh.example${file}`,
    ]);
  const plain = () => share.curl(`/files/${id}`, '-o', '/dev/null');
  const round = (way) => {
    const times = { way: [], plain: [] };
    for (let n = 0; n < rounds; n += 1) {
      times.way.push(seconds(way));
      times.plain.push(seconds(plain));
    }
    return [times.way, times.plain].map((all) => all.map((t) => SIZE / t / 1e6));
  };
  const [router, beside] = round(past(443 + places.publicOffset));
  report('256 MiB through the router, TLS', router, 'MB/s', [['plain, direct', beside, null]]);
  await quay.json('POST', `/api/reach/addresses/${address.id}/remedies/outside`, { act: 'use-relay' });
  const [relay, besideRelay] = round(past(places.relay.tls));
  report('256 MiB through the relay, TLS', relay, 'MB/s', [
    ['plain, direct', besideRelay, null],
    ['router, TLS', router, null],
  ]);
  await quay.json('PATCH', `/api/reach/addresses/${address.id}`, { wayIn: 'mapping' });
  await quay.json('POST', `/api/reach/addresses/${address.id}/remedies/outside`, { act: 'update-record' });
  await fetch(`http://127.0.0.1:${ports.outside}/faults`, {
    method: 'POST',
    body: new URLSearchParams({
      'router.firewall': 'on',
      'router.noPcp': 'on',
      'router.noPmp': 'on',
      'router.noUpnp': 'on',
      'stun.silent': 'on',
    }),
    redirect: 'manual',
  });
  const check = await quay.json('POST', `/api/reach/addresses/${address.id}/check`);
  say(`full check of four vantages, nothing answers: ${(check.tookMs / 1000).toFixed(1)} s (goal under 5)`);
  say(`traces in the core: ${await tracesPerSecond()} per second`);
}

const UPKEEP_MINUTES = 4;
const DAY_MINUTES = 1440;

/** What looking after the ways in takes of a server that has nothing else to do: processor, and memory that stays. */
async function measureUpkeep(pid, say) {
  const spent = () => {
    // Linux proc(5): user and system time are the 14th and 15th field, in hundredths of a second.
    const fields = readFileSync(`/proc/${pid}/stat`, 'utf8')
      .replace(/^.*\) /, '')
      .split(' ');
    return (Number(fields[11]) + Number(fields[12])) / 100;
  };
  const held = () => Number(/VmRSS:\s+(\d+)/.exec(readFileSync(`/proc/${pid}/status`, 'utf8'))?.[1]) / 1000;
  const [before, heldBefore] = [spent(), held()];
  await new Promise((resolve) => setTimeout(resolve, UPKEEP_MINUTES * 60_000));
  const took = spent() - before;
  const aDay = (took * DAY_MINUTES) / UPKEEP_MINUTES;
  say(
    `upkeep for ${UPKEEP_MINUTES} minutes: ${took.toFixed(1)} s of processor, ${(aDay / 60).toFixed(1)} min a day at that rate; memory ${heldBefore.toFixed(0)} MB before, ${held().toFixed(0)} MB after`,
  );
}

/** The core's trace of facts as they were just measured, on one thread. */
async function tracesPerSecond() {
  const { traceReach } = await import(pathToFileURL(join(ROOT, 'packages/core/dist/index.js')).href);
  const facts = {
    vantage: 'outside',
    wayIn: 'mapping',
    host: 'files.saltmarsh.example',
    port: 443,
    at: Date.now(),
    server: { address: '192.168.20.10', port: 8443 },
    lookup: { outcome: 'answered', addresses: ['198.51.100.24'], ttlSeconds: 300, elapsedMs: 3 },
    line: { seenAddress: '198.51.100.24', routerAddress: '198.51.100.24' },
    mapping: {
      protocol: 'pcp',
      outcome: 'present',
      externalPort: 443,
      internal: { address: '192.168.20.10', port: 8443 },
      leaseSecondsLeft: 7000,
    },
    connect: { outcome: 'connected', address: '198.51.100.24', elapsedMs: 3 },
    tls: {
      outcome: 'agreed',
      protocol: 'TLSv1.3',
      names: ['files.saltmarsh.example'],
      notBefore: 0,
      notAfter: Date.now() * 2,
      trusted: true,
      issuer: 'A',
    },
    redirect: { outcome: 'redirects', status: 301, location: null, hstsSeconds: 15_552_000 },
    page: { outcome: 'right', status: 200, elapsedMs: 10 },
  };
  const began = performance.now();
  let n = 0;
  for (; performance.now() - began < 1000; n += 1)
    if (traceReach({ ...facts, at: facts.at + n }).length !== 7) throw new Error('a trace has seven stages');
  return (Math.round(n / 1000) * 1000).toLocaleString('en-GB');
}
