// Visits, measured: how long the page of a share takes while 200 visitors download, with a thousand shares open; and how
// many decisions core takes.
import { spawn } from 'node:child_process';
import { join } from 'node:path';
import { pathToFileURL } from 'node:url';
import { ROOT } from './lib/install.mjs';
import { fill, MIB, VISITORS, wrkScript } from './bench-transfers.mjs';

const SHARES = 1000;
const SECONDS = 8;
/** Pages that are asked for one after the other, by so many at once. */
const LOOKING = 8;
const DECISIONS = 2_000_000;

export async function measureVisits({ quay, work, root, rounds, report, say }) {
  const many = await fill(quay, work, root, 'visited', 64, MIB);
  const share = await quay.share(many.ids);
  for (let n = 0; n < SHARES; n += 1)
    await quay.json('POST', '/api/shares', {
      ...{ title: `Open ${n}`, nodeIds: many.ids.slice(n % 60, (n % 60) + 3), password: null, visitLimit: null },
      window: { opensAt: null, closesAt: new Date(Date.now() + 86_400_000).toISOString() },
    });
  const cookies = [];
  for (let n = 0; n < VISITORS; n += 1)
    cookies.push(await share.open(`127.0.${130 + Math.floor(n / 20)}.${1 + (n % 20)}`));
  const downloads = wrkScript(
    work,
    'visits',
    many.ids.map((id) => `${share.path}/files/${id}`),
    cookies,
  );
  const [quiet, busy] = [[], []];
  for (let round = 0; round < rounds; round += 1) {
    quiet.push(slowest(await pages(quay.origin, share.path, cookies)));
    const loading = spawn('wrk', ['-t1', `-c${VISITORS}`, `-d${SECONDS + 2}s`, '-s', downloads, quay.origin]);
    const ended = new Promise((resolve) => loading.once('exit', resolve));
    await new Promise((resolve) => setTimeout(resolve, 1000));
    busy.push(slowest(await pages(quay.origin, share.path, cookies)));
    await ended;
  }
  report('the page of a share, 99th percentile', quiet, 'ms', []);
  report(`the same while ${VISITORS} visitors download`, busy, 'ms (goal under 300)', []);
  say(`decisions of core: ${(await decisions()).toLocaleString('en-GB')} a second`);
}

/** The page and what it shows, as a browser asks for them. @returns how long each took, in ms */
async function pages(origin, path, cookies) {
  const times = [];
  const until = performance.now() + SECONDS * 1000;
  const one = async (cookie) => {
    while (performance.now() < until) {
      const began = performance.now();
      await (await fetch(origin + path)).text();
      const door = await fetch(`${origin}${path}/door`, { headers: { cookie } });
      if (!door.ok) throw new Error(await door.text());
      await door.text();
      times.push(performance.now() - began);
      await new Promise((resolve) => setTimeout(resolve, 20));
    }
  };
  await Promise.all(cookies.slice(0, LOOKING).map(one));
  return times;
}

const slowest = (times) => times.sort((a, b) => a - b)[Math.floor(times.length * 0.99)] ?? 0;

async function decisions() {
  const { shareState, visitMayContinue } = await import(pathToFileURL(join(ROOT, 'packages/core/dist/index.js')).href);
  const facts = {
    window: { opensAt: 1000, closesAt: 2_000_000_000 },
    ...{ withdrawnAt: null, broken: false, visitLimit: 50, visitsUsed: 3, barredAt: null },
  };
  let open = 0;
  const began = performance.now();
  for (let n = 0; n < DECISIONS; n += 1)
    if (shareState(facts, n) === 'open' && visitMayContinue(facts, 900, n)) open += 1;
  if (open === 0) throw new Error('nothing was open');
  return Math.round(DECISIONS / ((performance.now() - began) / 1000));
}
